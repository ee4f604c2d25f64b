package stream

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

func TestRolesAmongEquals(t *testing.T) {
	for name, x := range map[string]struct {
		all          []Profile
		record, view string
	}{
		"the faster of one size":        {[]Profile{{Token: "slow", Codec: "H264", Width: 1920, Height: 1080, FPS: 5}, {Token: "fast", Codec: "H264", Width: 1920, Height: 1080, FPS: 25}}, "fast", "slow"},
		"JPEG after H.264":              {[]Profile{{Token: "jpeg", Codec: "JPEG", Width: 1920, Height: 1080, FPS: 25, Kbps: 40000}, {Token: "h264", Codec: "H264", Width: 1920, Height: 1080, FPS: 25, Kbps: 4000}}, "h264", "jpeg"},
		"H.265 is like H.264: bit rate": {[]Profile{{Token: "a", Codec: "H264", Width: 1920, Height: 1080, FPS: 25, Kbps: 2000}, {Token: "b", Codec: "H265", Width: 1920, Height: 1080, FPS: 25, Kbps: 4000}}, "b", "a"},
		"the cheaper view, though larger": {[]Profile{{Token: "main", Codec: "H264", Width: 1920, Height: 1080, Kbps: 4000}, {Token: "dear", Codec: "JPEG", Width: 640, Height: 360, Kbps: 6000},
			{Token: "cheap", Codec: "H264", Width: 704, Height: 576, Kbps: 500}}, "main", "cheap"},
		"a view whose rate isn't told comes last": {[]Profile{{Token: "main", Codec: "H264", Width: 1920, Height: 1080, Kbps: 4000}, {Token: "untold", Codec: "H264", Width: 400, Height: 300},
			{Token: "told", Codec: "H264", Width: 704, Height: 576, Kbps: 3000}}, "main", "told"},
		"just wide enough":            {[]Profile{{Token: "main", Codec: "H264", Width: 1920, Height: 1080}, {Token: "narrow", Codec: "H264", Width: 351, Height: 288, Kbps: 1}, {Token: "wide", Codec: "H264", Width: 352, Height: 288, Kbps: 2}}, "main", "wide"},
		"one alone is no view stream": {[]Profile{{Token: "main", Codec: "H264", Width: 1920, Height: 1080}}, "main", ""},
		"none":                        {nil, "", ""},
		"trouble":                     {[]Profile{{Token: "main", Codec: "H264", Width: 1920, Height: 1080, Trouble: "x"}}, "", ""},
	} {
		if r, v := Roles(x.all, nil); r != x.record || v != x.view {
			t.Errorf("%s: %q and %q, want %q and %q", name, r, v, x.record, x.view)
		}
		back := slices.Clone(x.all)
		slices.Reverse(back)
		if r, v := Roles(back, nil); r != x.record || v != x.view {
			t.Errorf("%s, in another order: %q and %q", name, r, v)
		}
	}
}

// Roles is what a naive look over all pairs says, for random profiles.
func TestRolesAgainstAllPairs(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 8))
	for range 2000 {
		var all []Profile
		for i := range 1 + r.IntN(5) {
			all = append(all, Profile{Token: string(rune('a' + i)), Codec: []string{"H264", "H265", "JPEG"}[r.IntN(3)], Width: 352 * r.IntN(4), Height: 288, FPS: float64(5 * r.IntN(3)), Kbps: 1000 * r.IntN(4)})
		}
		record, view := Roles(all, nil)
		at := func(token string) Profile {
			return all[slices.IndexFunc(all, func(p Profile) bool { return p.Token == token })]
		}
		for _, p := range all {
			if best := at(record); p.Width*p.Height > best.Width*best.Height || p.Width*p.Height == best.Width*best.Height && p.FPS > best.FPS {
				t.Fatalf("%+v is better than %+v", p, best)
			}
			if p.Token == record || p.Width < minViewWidth || p.Kbps == 0 {
				continue
			}
			if view == "" {
				t.Fatalf("%+v would do to look at, and nothing does", p)
			}
			if v := at(view); v.Token == record || v.Kbps == 0 || p.Kbps < v.Kbps {
				t.Fatalf("%+v is cheaper to look at than %+v", p, v)
			}
		}
	}
}

func TestKeyFramesThatDidNotCome(t *testing.T) {
	for _, x := range []struct {
		every, over time.Duration
		says        string
		far         bool
	}{
		{time.Second, 900 * time.Millisecond, "1.0 s", false}, {2 * time.Second, 0, "2.0 s", false}, {2200 * time.Millisecond, time.Second, "2.2 s", true},
		{0, 12 * time.Second, "more than 12.0 s", true}, {0, time.Second, "more than 1.0 s", false}, {time.Second, 5 * time.Second, "more than 5.0 s", true},
		{4 * time.Second, 3 * time.Second, "4.0 s", true}, {0, 0, "0.0 s", false},
	} {
		m := Measured{Profile: "m", Codec: "H264", FPS: 25, Frames: 300, Seconds: 12, KeyEvery: x.every, KeyOver: x.over}
		if got := m.KeyText(); got != x.says {
			t.Errorf("%s apart, none for %s: %q, want %q", x.every, x.over, got, x.says)
		}
		f := Facts{LookedAt: moment.Now(), Profiles: []Profile{{Token: "m", Name: "Main", Codec: "H264", FPS: 25, GOP: 25}}, Measured: []Measured{m}}
		found := slices.ContainsFunc(Judge(moment.Now(), f, Wishes{}), func(fi finding.Finding) bool {
			return fi.Code == "stream.key-frames" && strings.Contains(fi.Sentence, x.says)
		})
		if found != x.far {
			t.Errorf("%s: found %t, want %t", x.says, found, x.far)
		}
	}
}

func TestNothingOfAPictureIsTrouble(t *testing.T) {
	now := moment.Now()
	p := Profile{Token: "m", Name: "Main", Codec: "H264", Width: 1280, Height: 720, FPS: 15}
	for name, x := range map[string]struct {
		m    Measured
		code string // empty: nothing is wrong
	}{
		"well":               {Measured{Codec: "H264", Width: 1280, Height: 720, FPS: 15, Frames: 52, Seconds: 3.5}, ""},
		"no frame":           {Measured{Codec: "H264", Width: 1280, Height: 720, Seconds: 3.5}, "stream.no-picture"},
		"13 frames in 3.5 s": {Measured{Codec: "H264", Width: 1280, Height: 720, FPS: 15, Frames: 13, Seconds: 3.5}, "stream.sparse"},
		"a second of it":     {Measured{Codec: "H264", Width: 1280, Height: 720, FPS: 15, Frames: 15, Seconds: 1}, "stream.sparse"},
		"a little slow":      {Measured{Codec: "H264", Width: 1280, Height: 720, FPS: 13, Frames: 46, Seconds: 3.5}, ""},
	} {
		x.m.Profile, x.m.At = "m", now
		got := Judge(now, Facts{LookedAt: now, Profiles: []Profile{p}, Measured: []Measured{x.m}}, Wishes{})
		if x.code == "" && len(got) > 0 || x.code != "" && (len(got) != 1 || got[0].Code != x.code) {
			t.Errorf("%s: %+v, want %q", name, got, x.code)
		}
	}
}

func TestSizesOfJPEGInRTP(t *testing.T) {
	for _, x := range []struct {
		codec        string
		w, h, mw, mh int
		wants        bool
	}{
		{"JPEG", 1280, 720, 1280, 720, false}, {"JPEG", 1920, 1080, 1920, 1080, false}, {"JPEG", 1916, 1076, 1920, 1080, false}, {"JPEG", 1912, 1076, 1920, 1080, true},
		{"JPEG", 1280, 720, 1288, 720, true}, {"JPEG", 2592, 1944, 0, 0, false}, {"H264", 1916, 1076, 1920, 1080, true},
	} {
		if got := SizeDiffers(Profile{Codec: x.codec, Width: x.w, Height: x.h}, Measured{Codec: x.codec, Width: x.mw, Height: x.mh}); got != x.wants {
			t.Errorf("%s declares %d × %d, %d × %d came: differs %t", x.codec, x.w, x.h, x.mw, x.mh, got)
		}
	}
}

// What a recorder takes of a camera is proposed to be more where another profile could be set to more.
func TestMoreCouldBeSet(t *testing.T) {
	small := Profile{Token: "s", Name: "Sub", Codec: "H264", Width: 320, Height: 240, FPS: 15, Encoder: "es", Options: []Options{{Codec: "H264", Sizes: []Size{{320, 240}}}}}
	main := Profile{Token: "m", Name: "Main", Codec: "H265", Width: 1920, Height: 1080, FPS: 25, Encoder: "em",
		Options: []Options{{Codec: "H265", Sizes: []Size{{1920, 1080}}}, {Codec: "H264", Sizes: []Size{{1920, 1080}, {1280, 720}}}}}
	w := Wishes{Recorder: "Quay recorder", Codecs: []string{"H264"}}
	for name, x := range map[string]struct {
		change func(main, small *Profile, w *Wishes)
		want   bool
	}{
		"it could be":              {func(*Profile, *Profile, *Wishes) {}, true},
		"it is taken as it is":     {func(_, _ *Profile, w *Wishes) { w.Codecs = []string{"H264", "H265"} }, false},
		"no recorder":              {func(_, _ *Profile, w *Wishes) { w.Codecs = nil }, false},
		"it can't be":              {func(m, _ *Profile, _ *Wishes) { m.Options = m.Options[:1] }, false},
		"it would be no more":      {func(m, _ *Profile, _ *Wishes) { m.Options[1].Sizes = []Size{{320, 240}} }, false},
		"both share an encoder":    {func(m, s *Profile, _ *Wishes) { m.Encoder = s.Encoder }, false},
		"nothing tells its choice": {func(m, _ *Profile, _ *Wishes) { m.Options = nil }, false},
	} {
		m, s, wish := main, small, w
		m.Options = slices.Clone(main.Options)
		x.change(&m, &s, &wish)
		f := Facts{LookedAt: moment.Now(), Profiles: []Profile{s, m}}
		found := slices.ContainsFunc(Judge(moment.Now(), f, wish), func(fi finding.Finding) bool { return fi.Code == "stream.less" })
		changes := Propose(moment.Now(), f, wish)
		if found != x.want || (len(changes) == 1) != x.want {
			t.Errorf("%s: found %t, proposed %+v", name, found, changes)
		}
		if x.want && (changes[0].Args["codec"] != "H264" || changes[0].Args["width"] != "1920") {
			t.Errorf("%s: %+v", name, changes)
		}
	}
}

func TestWhatWasMeasuredGoesStale(t *testing.T) {
	read := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	at := netip.MustParseAddr("192.0.2.9")
	well := Facts{LookedAt: read, At: at, Profiles: []Profile{{Token: "m", Name: "Main", URI: "rtsp://192.0.2.9:554/main"}}, Measured: []Measured{{Profile: "m", At: read.Add(time.Second)}}}
	for name, x := range map[string]struct {
		change func(*Facts)
		says   string // empty: it holds
	}{
		"as it was":               {func(*Facts) {}, ""},
		"never read":              {func(f *Facts) { f.LookedAt, f.Profiles = time.Time{}, nil }, ""},
		"where it is isn't known": {func(f *Facts) { f.At = netip.Addr{} }, ""},
		"moved":                   {func(f *Facts) { f.At = netip.MustParseAddr("192.0.2.10") }, "and it is at 192.0.2.10 now"},
		"started again since":     {func(f *Facts) { f.Touched = Touched{read.Add(time.Minute), "it was started again"} }, "it was started again"},
		"started again at once":   {func(f *Facts) { f.Touched = Touched{read, "it was started again"} }, "it was started again"},
		"started again before":    {func(f *Facts) { f.Touched = Touched{read.Add(-time.Second), "it was started again"} }, ""},
		"a profile never played":  {func(f *Facts) { f.Profiles = append(slices.Clone(f.Profiles), Profile{Token: "s", Name: "Sub"}) }, "Sub was never played"},
		"one there was no time for": {func(f *Facts) {
			f.Measured = []Measured{{Profile: "m", At: read.Add(time.Second), Skipped: true, Trouble: "There was no time left for it here."}}
			if found := Judge(read, *f, Wishes{}); slices.ContainsFunc(found, func(x finding.Finding) bool { return x.Code == "stream.no-picture" }) {
				t.Errorf("our want of time is told of the camera: %+v", found)
			}
		}, "all the time that there was"},
		"one that wasn't replayed": {func(f *Facts) {
			f.Touched = Touched{read.Add(-time.Second), "it was set"}
			f.Measured = []Measured{{Profile: "m", At: read.Add(-time.Hour)}}
		}, "Main wasn't played since"},
	} {
		f := well
		x.change(&f)
		if got := f.Stale(); x.says == "" && got != "" || x.says != "" && !strings.Contains(got, x.says) {
			t.Errorf("%s: %q, want %q", name, got, x.says)
		}
	}
}

// An address is brought to where the device was reached and is otherwise what it was, to the letter.
func TestRepairedAddressesKeepTheirLetters(t *testing.T) {
	reached := netip.MustParseAddr("192.0.2.9")
	for given, want := range map[string]string{
		"rtsp://10.0.0.5:8554/a/{b}|c?d=e|f&g={1}": "rtsp://192.0.2.9:8554/a/{b}|c?d=e|f&g={1}",
		"rtsp://u:p@10.0.0.5/x%2Fy":                "rtsp://192.0.2.9/x%2Fy",
		"rtsp://cam?inst=1":                        "rtsp://192.0.2.9?inst=1",
		"rtsp://192.0.2.9":                         "rtsp://192.0.2.9",
		"http://[2001:db8::1]:80/p?q#frag":         "http://192.0.2.9:80/p?q",
	} {
		got, _, err := RepairHost(given, reached)
		if err != nil || got != want {
			t.Errorf("%s: %s (%v), want %s", given, got, err, want)
		}
	}
	for _, bad := range []string{"", "rtsp://", "/main", "rtsp:main", "rtsp://%zz/", strings.Repeat("a", 3000)} {
		if got, _, err := RepairHost(bad, reached); err == nil {
			t.Errorf("%.40q is taken for %q", bad, got)
		}
	}
	if _, other, _ := RepairHost("rtsp://192.0.2.9/x", reached); other {
		t.Error("where it was reached is told as another host")
	}
}

package stream

import (
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

var (
	hd, sd = Size{1280, 720}, Size{640, 360}
	both   = []Options{{Codec: "H264", Sizes: []Size{hd, sd}, Rates: []float64{5, 12.5, 25}, MinGOP: 1, MaxGOP: 100, MinKbps: 64, MaxKbps: 4096},
		{Codec: "H265", Sizes: []Size{sd}, MinFPS: 1, MaxFPS: 15, MinGOP: 30, MaxGOP: 60}, {Codec: "JPEG", Sizes: []Size{sd}, MaxFPS: 10}}
	now = Encoder{Token: "v", Codec: "H264", Size: hd, FPS: 25, Kbps: 2048, GOP: 100}
)

func TestTheNearestSettingThatIsOffered(t *testing.T) {
	for name, x := range map[string]struct {
		set  Encoder
		can  []Options
		want Want
		to   string
		why  string
	}{
		"nothing asked":           {now, both, Want{}, "H.264 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 100 frames", ""},
		"a second apart":          {now, both, Want{KeyEvery: time.Second}, "H.264 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 25 frames", ""},
		"another codec":           {now, both, Want{Codecs: []string{"H265"}}, "H.265 640 × 360, 15/s, ≤ 2048 kbit/s, key frame every 60 frames", ""},
		"2 s of 15 at 30":         {now, both, Want{Codecs: []string{"H265"}, KeyEvery: time.Second}, "H.265 640 × 360, 15/s, ≤ 2048 kbit/s, key frame every 30 frames", ""},
		"JPEG has no group":       {now, both, Want{Codecs: []string{"JPEG"}, KeyEvery: time.Second}, "JPEG 640 × 360, 10/s, ≤ 2048 kbit/s", ""},
		"the one that is set":     {now, both, Want{Codecs: []string{"H265", "H264"}}, now.Text(), ""},
		"the first that there is": {Encoder{Codec: "MPEG4", Size: sd, FPS: 12.5, Kbps: 9000, GOP: 12}, both, Want{Codecs: []string{"AV1", "H264"}}, "H.264 640 × 360, 12.5/s, ≤ 4096 kbit/s, key frame every 12 frames", ""},
		"a slower rate":           {Encoder{Codec: "H264", Size: sd, FPS: 20, Kbps: 10, GOP: 20}, both, Want{}, "H.264 640 × 360, 12.5/s, ≤ 64 kbit/s, key frame every 20 frames", ""},
		"no slower one":           {Encoder{Codec: "H264", Size: sd, FPS: 2, Kbps: 512, GOP: 4}, both, Want{}, "H.264 640 × 360, 5/s, ≤ 512 kbit/s, key frame every 4 frames", ""},
		"a larger size":           {Encoder{Codec: "H265", Size: Size{320, 180}, FPS: 10, Kbps: 512, GOP: 40}, both, Want{}, "H.265 640 × 360, 10/s, ≤ 512 kbit/s, key frame every 40 frames", ""},
		"not offered":             {now, both, Want{Codecs: []string{"AV1"}}, "", "its encoder knows H.264 and H.265 and JPEG only"},
		"no options":              {now, nil, Want{}, "", "it doesn't tell what its encoder can be set to"},
		"no size":                 {now, []Options{{Codec: "H264"}}, Want{}, "", "it tells no size for H.264"},
		"key frames too rare":     {now, []Options{{Codec: "H264", Sizes: []Size{hd}, MinGOP: 250}}, Want{KeyEvery: time.Second}, "", "its key frames are at least 250 frames apart"},
	} {
		got, why := Nearest(x.set, x.can, x.want)
		if why != x.why || why == "" && got.Text() != x.to || why != "" && got != x.set {
			t.Errorf("%s: %q %s, want %q %s", name, got.Text(), why, x.to, x.why)
		}
	}
}

// Whatever is set and wanted, what comes out is offered; asked again, it stays so.
func TestTheNearestSettingIsOffered(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	for range 20000 {
		set := Encoder{Codec: []string{"H264", "H265", "JPEG", "MPEG4"}[r.IntN(4)], Size: Size{1 + r.IntN(4000), 1 + r.IntN(3000)}, FPS: float64(1+r.IntN(120)) / 2, Kbps: 1 + r.IntN(9000), GOP: r.IntN(400)}
		want := Want{KeyEvery: time.Duration(r.IntN(3)) * time.Second}
		if r.IntN(2) == 0 {
			want.Codecs = []string{[]string{"H264", "H265", "JPEG"}[r.IntN(3)]}
		}
		got, why := Nearest(set, both, want)
		if why != "" {
			if got != set {
				t.Fatalf("%+v is %+v though %s", set, got, why)
			}
			continue
		}
		o := both[slices.IndexFunc(both, func(o Options) bool { return o.Codec == got.Codec })]
		if !slices.Contains(o.Sizes, got.Size) || len(o.Rates) > 0 && !slices.Contains(o.Rates, got.FPS) || o.MaxFPS > 0 && got.FPS > o.MaxFPS ||
			got.Codec != "JPEG" && (got.GOP < o.MinGOP || got.GOP > o.MaxGOP) || got.Kbps < o.MinKbps {
			t.Fatalf("%+v, %+v: %+v isn't offered", set, want, got)
		}
		if again, _ := Nearest(got, both, want); again != got {
			t.Fatalf("asked again %+v becomes %+v", got, again)
		}
	}
}

func TestASettingComesBackFromItsArguments(t *testing.T) {
	got, err := EncoderOf(now.Args())
	if err != nil || got != now {
		t.Errorf("%+v %v", got, err)
	}
	for _, bad := range []map[string]string{{}, {"token": "v", "width": "x"}, {"width": "1", "height": "1", "kbps": "1", "gop": "1", "fps": "1"}} {
		if _, err := EncoderOf(bad); err == nil {
			t.Errorf("%v is taken", bad)
		}
	}
}

// A device that rounds what is written made the change; one that makes something else of it, or
// that somebody set meanwhile, reads as it is.
func TestWhatADeviceMakesOfASetting(t *testing.T) {
	was, want := now, now
	want.Codec, want.Size, want.GOP = "H265", sd, 25
	args := back(want.Args(), was.Args())
	read := func(change func(*Encoder)) string {
		e := want
		change(&e)
		return ReadsAs(e, args, was.Text(), want.Text())
	}
	for name, x := range map[string]struct {
		change func(*Encoder)
		reads  string
	}{
		"as written":       {func(*Encoder) {}, want.Text()},
		"rounded down":     {func(e *Encoder) { e.GOP, e.Kbps, e.FPS = 20, 2000, 24 }, want.Text()},
		"as it was":        {func(e *Encoder) { *e = was }, was.Text()},
		"nearly as it was": {func(e *Encoder) { *e = was; e.Kbps += 48 }, was.Text()},
		"rarer key frames": {func(e *Encoder) { e.GOP = 50 }, "H.265 640 × 360, 25/s, ≤ 2048 kbit/s, key frame every 50 frames"},
		"half the rate":    {func(e *Encoder) { e.Kbps = 1024 }, "H.265 640 × 360, 25/s, ≤ 1024 kbit/s, key frame every 25 frames"},
		"another size":     {func(e *Encoder) { e.Size = hd }, "H.265 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 25 frames"},
	} {
		if got := read(x.change); got != x.reads {
			t.Errorf("%s: %s, want %s", name, got, x.reads)
		}
	}
}

func codes(all []finding.Finding) (out []string) {
	for _, f := range all {
		out = append(out, f.Code)
	}
	return out
}

// What no profile gives the recorder is mended by the encoder where its options allow it, and
// told with the way out where they don't.
func TestWhatARecorderCannotTakeIsMendedOrTold(t *testing.T) {
	p := Profile{Token: "main", Name: "Main", Codec: "H265", Width: 640, Height: 360, FPS: 15, Kbps: 512, GOP: 15, Encoder: "v", Options: both}
	f := Facts{LookedAt: moment.Now(), Profiles: []Profile{p}}
	w := Wishes{Recorder: "Quay recorder", Codecs: []string{"H264"}}
	changes := Propose(moment.Now(), f, w)
	if len(changes) != 1 || changes[0].To != "H.264 640 × 360, 12.5/s, ≤ 512 kbit/s, key frame every 13 frames" || changes[0].Risk != finding.NoRisk || changes[0].From != p.Set().Text() {
		t.Fatalf("%+v", changes)
	}
	back, ok := changes[0].Inverse()
	if undo, err := EncoderOf(back.Args); !ok || err != nil || undo != p.Set() {
		t.Errorf("taken back it is %+v %v", undo, err)
	}
	w.Held = true
	if changes := Propose(moment.Now(), f, w); changes[0].Risk != finding.Gap {
		t.Error("a recorder that plays it has a gap")
	}
	w.Held, p.Options = false, []Options{{Codec: "H265", Sizes: []Size{sd}}}
	f.Profiles = []Profile{p}
	if all := Judge(moment.Now(), f, w); len(Propose(moment.Now(), f, w)) > 0 || !strings.Contains(all[0].WayOut, "its encoder knows H.265 only. No recorder of this site takes it") {
		t.Errorf("%+v", all)
	}
	w.OtherRecorders = []string{"Terminal recorder"}
	if all := Judge(moment.Now(), f, w); !strings.HasSuffix(all[0].WayOut, "Plan it for a recorder that takes it: Terminal recorder.") {
		t.Errorf("%+v", all)
	}
	// Trouble of one profile doesn't hide another that can be set.
	f.Profiles = []Profile{{Token: "x", Trouble: "refused", Encoder: "w", Options: both, Codec: "H265"}, {Token: "y", Name: "Y", Codec: "H265", Width: 640, Height: 360, FPS: 5, Kbps: 100, Encoder: "y", Options: both}}
	if changes := Propose(moment.Now(), f, w); len(changes) != 1 || changes[0].Args["token"] != "y" {
		t.Errorf("%+v", changes)
	}
}

// Rare key frames are set nearer once an encoder, and told otherwise where they are stretched.
func TestRareKeyFrames(t *testing.T) {
	rare := Profile{Token: "a", Name: "A", Codec: "H264", Width: 640, Height: 360, FPS: 25, Kbps: 512, GOP: 100, Encoder: "v", Options: both}
	twin := rare
	twin.Token = "b"
	near := rare
	near.Token, near.GOP, near.Encoder = "c", 25, "w"
	played := func(token string) Measured {
		return Measured{Profile: token, Codec: "H264", Width: 640, Height: 360, FPS: 25, MeanKbps: 99, KeyEvery: 4 * time.Second, Seconds: 9}
	}
	f := Facts{LookedAt: moment.Now(), Profiles: []Profile{rare, twin, near}, Measured: []Measured{played("a"), played("c")}}
	if changes := Propose(moment.Now(), f, Wishes{}); len(changes) != 1 || changes[0].Args["gop"] != "25" {
		t.Errorf("%+v", changes)
	}
	all := Judge(moment.Now(), f, Wishes{})
	if len(all) != 2 || !strings.Contains(all[0].WayOut, "as is proposed") || !strings.Contains(all[1].WayOut, "stretches the distance by itself") {
		t.Errorf("%+v", all)
	}
	if changes, cant := Asked(f, Wishes{}, Want{Codecs: []string{"H265"}}); len(changes) != 2 || len(cant) != 0 {
		t.Errorf("%+v %v", changes, cant)
	}
	if changes, cant := Asked(f, Wishes{}, Want{Codecs: []string{"H264"}, KeyEvery: time.Second}); len(changes) != 1 || len(cant) != 0 {
		t.Errorf("what is so already: %+v %v", changes, cant)
	}
	if changes, cant := Asked(f, Wishes{}, Want{Codecs: []string{"AV1"}}); len(changes) != 0 || len(cant) != 1 || strings.Contains(cant[0], ":") {
		t.Errorf("%+v %v", changes, cant)
	}
}

func TestSound(t *testing.T) {
	p := Profile{Token: "main", Name: "Main", Codec: "H264", Width: 640, Height: 360, FPS: 15, GOP: 15,
		Sound: Sound{Codec: "AAC", Encoder: "s", Options: []string{"PCMA", "PCMU", "AAC"}, Takes: []string{"PCMU"}}}
	f := Facts{LookedAt: moment.Now(), Profiles: []Profile{p}}
	w := Wishes{Recorder: "Quay recorder", Talkback: []string{"PCMU"}}
	if got := codes(Judge(moment.Now(), f, w)); !reflect.DeepEqual(got, []string{"stream.consent", "stream.talkback"}) {
		t.Errorf("%v", got)
	}
	kinds := func(all []finding.Change) (out []string) {
		for _, c := range all {
			out = append(out, c.Kind+" "+c.From+" → "+c.To)
		}
		return out
	}
	if got := kinds(Propose(moment.Now(), f, w)); !reflect.DeepEqual(got, []string{"stream.sound AAC → G.711 µ-law", "stream.mute sound is sent → no sound"}) {
		t.Errorf("%v", got)
	}
	w.Consent = true
	if got := kinds(Propose(moment.Now(), f, w)); !reflect.DeepEqual(got, []string{"stream.sound AAC → G.711 µ-law"}) {
		t.Errorf("with consent: %v", got)
	}
	p.Sound.Codec = "PCMU"
	f.Profiles = []Profile{p}
	if all := Judge(moment.Now(), f, w); len(all) != 0 || len(Propose(moment.Now(), f, w)) != 0 {
		t.Errorf("as it should be: %v", all)
	}
	// What its stream offers counts, declared or not.
	p.Sound = Sound{}
	f.Profiles, f.Measured = []Profile{p}, []Measured{{Profile: "main", Codec: "H264", FPS: 15, Sound: &Heard{Codec: "PCMA"}}}
	w.Consent = false
	if got := codes(Judge(moment.Now(), f, w)); !reflect.DeepEqual(got, []string{"stream.consent"}) {
		t.Errorf("%v", got)
	}
	for in, want := range map[string]string{"mpeg4-generic": "AAC", "MP4A-LATM": "AAC", "pcmu": "PCMU", "G.711": "G711", "": ""} {
		if got := SoundCodec(in); got != want {
			t.Errorf("%q is %q", in, got)
		}
	}
}

func TestAFullCameraIsToldAsFull(t *testing.T) {
	f := Facts{LookedAt: moment.Now(), Profiles: []Profile{{Token: "m", Name: "Main", Codec: "H264"}}, Measured: []Measured{{Profile: "m", Full: true, Trouble: "RTSP PLAY …: 453."}}}
	for _, held := range []bool{false, true} {
		all := Judge(moment.Now(), f, Wishes{Recorder: "Quay recorder", Held: held})
		if len(all) != 1 || all[0].Code != "stream.limit" || strings.Contains(all[0].Sentence, "Quay recorder plays it; nothing was taken") != held {
			t.Errorf("%+v", all)
		}
	}
}

func TestConsent(t *testing.T) {
	for in, want := range map[string]string{"  letter of\n 12 May,  folder 3 ": "letter of 12 May, folder 3", "ok": "", strings.Repeat("ä", 501): "", strings.Repeat("ä", 500): strings.Repeat("ä", 500)} {
		if got, err := ParseConsent(in); got != want || (err == nil) != (want != "") {
			t.Errorf("%.20q: %.20q %v", in, got, err)
		}
	}
}

// What is shown moving, and what is talked through, is chosen of what can be.
func TestWhatMovesAndWhatSpeaks(t *testing.T) {
	large := Profile{Token: "large", Codec: "H264", Width: 1920, Height: 1080, URI: "rtsp://192.0.2.7/1"}
	small := Profile{Token: "small", Codec: "H264", Width: 640, Height: 360, URI: "rtsp://192.0.2.7/2", Sound: Sound{Takes: []string{"AAC", "PCMA"}}}
	tiny := Profile{Token: "tiny", Codec: "H264", Width: 160, Height: 90, URI: "rtsp://192.0.2.7/3"}
	other := Profile{Token: "other", Codec: "H265", Width: 640, Height: 360, URI: "rtsp://192.0.2.7/4"}
	still := Profile{Token: "still", Codec: "JPEG", Width: 640, Height: 360, URI: "rtsp://192.0.2.7/5"}
	for want, all := range map[string][]Profile{"small": {large, tiny, small, other}, "tiny": {tiny, other}, "still": {other, still}, "": {other}} {
		if p, ok := (Facts{Profiles: all}).Moves(); p.Token != want || ok != (want != "") {
			t.Errorf("%q moves, want %q", p.Token, want)
		}
	}
	for want, takes := range map[string][]string{"PCMA": {"AAC", "PCMA"}, "PCMU": {"PCMA", "PCMU"}, "": {"AAC"}} {
		small.Sound.Takes = takes
		if _, codec, ok := (Facts{Profiles: []Profile{large, small}}).Talker(Wishes{}); codec != want || ok != (want != "") {
			t.Errorf("%v is talked to in %q, want %q", takes, codec, want)
		}
	}
	small.Sound.Takes = []string{"PCMA", "PCMU"}
	if _, codec, _ := (Facts{Profiles: []Profile{small}}).Talker(Wishes{Talkback: []string{"AAC", "PCMA"}}); codec != "PCMA" {
		t.Errorf("its recorder talks back in A-law, and this in %q", codec)
	}
}

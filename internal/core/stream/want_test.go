package stream

import (
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/testbed/moment"
)

// rich tells all there is of its encoder, bare what Media ver10 makes it tell.
var (
	rich = []Options{{Codec: "H264", Sizes: []Size{hd, sd}, Rates: []float64{5, 12.5, 25}, MinGOP: 1, MaxGOP: 100, MinKbps: 64, MaxKbps: 4096,
		Levels: []string{"Main", "High"}, Constant: true, MinQuality: 1, MaxQuality: 10}, {Codec: "H265", Sizes: []Size{hd}, MaxFPS: 15, Levels: []string{"Main10"}}}
	bare = []Options{{Codec: "H264", Sizes: []Size{hd}, MinFPS: 1, MaxFPS: 25}}
	full = Encoder{Token: "v", Codec: "H264", Size: hd, FPS: 25, Kbps: 2048, GOP: 50, Fine: Fine{Rate: Variable, Quality: 6, Level: "Main"}}
)

// What is asked for outright is offered, or it says what is.
func TestWhatIsAskedForOutright(t *testing.T) {
	plain := full
	plain.Fine = Fine{}
	for _, x := range []struct {
		name string
		set  Encoder
		can  []Options
		want Want
		to   func(*Encoder) // what becomes of set; nil: nothing can
		why  string
	}{
		{"size", full, rich, Want{Size: sd}, func(e *Encoder) { e.Size = sd }, ""},
		{"another size", full, rich, Want{Size: Size{800, 600}}, nil, "its sizes in H.264 are 1280 × 720, 640 × 360"},
		{"no sizes", full, []Options{{Codec: "H264"}}, Want{Size: sd}, nil, "its sizes in H.264 are not told"},
		{"rate, key frames as far apart in time", full, rich, Want{FPS: 12.5}, func(e *Encoder) { e.FPS, e.GOP = 12.5, 25 }, ""},
		{"a rate between", full, rich, Want{FPS: 13}, nil, "its frame rates in H.264 are 5, 12.5, 25"},
		{"a rate in a range", full, bare, Want{FPS: 1}, func(e *Encoder) { e.FPS, e.GOP = 1, 2 }, ""},
		{"a rate just beyond", full, bare, Want{FPS: 25.5}, nil, "its frame rates in H.264 are 1 to 25"},
		{"limit on the bound", full, rich, Want{Kbps: 4096}, func(e *Encoder) { e.Kbps = 4096 }, ""},
		{"limit beyond", full, rich, Want{Kbps: 4097}, nil, "its bit rate in H.264 is 64 to 4096 kbit/s"},
		{"limit below", full, rich, Want{Kbps: 63}, nil, "its bit rate in H.264 is 64 to 4096 kbit/s"},
		{"limit, range not told", full, bare, Want{Kbps: 9000}, func(e *Encoder) { e.Kbps = 9000 }, ""},
		{"limit of one that has none", Encoder{Codec: "H264", Size: hd, FPS: 25}, bare, Want{Kbps: 900}, nil, "it tells no limit of its bit rate"},
		{"constant", full, rich, Want{Fine: Fine{Rate: Constant}}, func(e *Encoder) { e.Rate = Constant }, ""},
		{"constant, not offered", full, bare, Want{Fine: Fine{Rate: Constant}}, nil, "it knows no constant bit rate in H.264"},
		{"constant, not told", plain, rich, Want{Fine: Fine{Rate: Constant}}, nil, "it doesn't tell whether its bit rate is constant"},
		{"variable as it is", full, bare, Want{Fine: Fine{Rate: Variable}}, func(*Encoder) {}, ""},
		{"quality", full, rich, Want{Fine: Fine{Quality: 10}}, func(e *Encoder) { e.Quality = 10 }, ""},
		{"quality beyond", full, rich, Want{Fine: Fine{Quality: 10.5}}, nil, "its quality is 1 to 10"},
		{"quality not told", full, bare, Want{Fine: Fine{Quality: 5}}, nil, "it doesn't tell its range of quality"},
		{"level", full, rich, Want{Fine: Fine{Level: "High"}}, func(e *Encoder) { e.Level = "High" }, ""},
		{"no such level", full, rich, Want{Fine: Fine{Level: "Baseline"}}, nil, "its profiles of H.264 are Main and High"},
		{"levels not told", full, bare, Want{Fine: Fine{Level: "High"}}, nil, "it tells no profiles of H.264"},
		{"another codec takes a level of its own", full, rich, Want{Codecs: []string{"H265"}}, func(e *Encoder) { e.Codec, e.FPS, e.Level = "H265", 15, "Main10" }, ""},
		{"a codec and a size that it hasn't", full, rich, Want{Codecs: []string{"H265"}, Size: sd}, nil, "its sizes in H.265 are 1280 × 720"},
		{"no limits told, another size", Encoder{Codec: "H264", Size: hd, GOP: 30}, rich, Want{Size: sd}, func(e *Encoder) { e.Size = sd }, ""},
		{"no limits told, another codec", Encoder{Codec: "H265", Size: hd, GOP: 30}, rich, Want{Codecs: []string{"H264"}}, func(e *Encoder) { e.Codec, e.FPS, e.Kbps, e.Level = "H264", 25, 4096, "Main" }, ""},
		{"two at once", full, rich, Want{Size: sd, Kbps: 512}, func(e *Encoder) { e.Size, e.Kbps = sd, 512 }, ""},
	} {
		got, why := Nearest(x.set, x.can, x.want)
		want := x.set
		if x.to != nil {
			x.to(&want)
		}
		if why != x.why || got != want {
			t.Errorf("%s: %+v %q, want %+v %q", x.name, got, why, want, x.why)
		}
	}
}

// On random settings and wishes: what comes out has each thing that was wanted, and asked again it stays; where
// something isn't offered nothing comes out.
func TestWhatIsAskedForIsHadOrRefused(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 9))
	some := func(p int) bool { return r.IntN(p) == 0 }
	had, refused := 0, 0
	for range 20000 {
		set := full
		set.Size, set.FPS, set.Kbps, set.GOP = rich[0].Sizes[r.IntN(2)], rich[0].Rates[r.IntN(3)], 64+r.IntN(4000), 1+r.IntN(100)
		var w Want
		if some(2) {
			w.Size = []Size{hd, sd, {800, 600}}[r.IntN(3)]
		}
		if some(2) {
			w.FPS = []float64{5, 12.5, 25, 30}[r.IntN(4)]
		}
		if some(2) {
			w.Kbps = r.IntN(5000)
		}
		if some(3) {
			w.Rate = []Rating{Constant, Variable}[r.IntN(2)]
		}
		if some(3) {
			w.Level = []string{"Main", "High", "Extended"}[r.IntN(3)]
		}
		if some(3) {
			w.Quality = float64(r.IntN(12))
		}
		got, why := Nearest(set, rich, w)
		if why != "" {
			if refused++; got != set {
				t.Fatalf("%+v becomes %+v though %s", set, got, why)
			}
			continue
		}
		had++
		o := rich[0]
		if w.Size != (Size{}) && got.Size != w.Size || w.FPS > 0 && got.FPS != w.FPS || w.Kbps > 0 && got.Kbps != w.Kbps || w.Rate != "" && got.Rate != w.Rate ||
			w.Level != "" && got.Level != w.Level || w.Quality > 0 && got.Quality != w.Quality || !slices.Contains(o.Rates, got.FPS) || got.Kbps > o.MaxKbps || got.GOP > o.MaxGOP {
			t.Fatalf("%+v asked of %+v makes %+v", w, set, got)
		}
		if again, why := Nearest(got, rich, w); again != got || why != "" {
			t.Fatalf("asked again %+v becomes %+v %s", got, again, why)
		}
	}
	if had < 1000 || refused < 1000 {
		t.Errorf("%d had, %d refused", had, refused)
	}
}

// What is fine is told where it changes, and nowhere else; a change comes back from its arguments with it, one of
// before that knows nothing of it too.
func TestWhatIsFineIsToldWhereItChanges(t *testing.T) {
	p := Profile{Token: "main", Name: "Main", Codec: "H264", Width: 1280, Height: 720, FPS: 25, Kbps: 2048, GOP: 50, Encoder: "v", Options: rich, Fine: full.Fine}
	f := Facts{LookedAt: moment.Now(), Profiles: []Profile{p}}
	for _, x := range []struct{ name, from, to string }{
		{"constant", "H.264 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 50 frames", "H.264 1280 × 720, 25/s, constant 2048 kbit/s, key frame every 50 frames"},
		{"quality", "H.264 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 50 frames, quality 6", "H.264 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 50 frames, quality 9"},
		{"level", "H.264 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 50 frames, Main profile", "H.264 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 50 frames, High profile"},
		{"size", "H.264 1280 × 720, 25/s, ≤ 2048 kbit/s, key frame every 50 frames", "H.264 640 × 360, 25/s, ≤ 2048 kbit/s, key frame every 50 frames"},
	} {
		w := map[string]Want{"constant": {Fine: Fine{Rate: Constant}}, "quality": {Fine: Fine{Quality: 9}}, "level": {Fine: Fine{Level: "High"}}, "size": {Size: sd}}[x.name]
		all, cant := Asked(f, Wishes{}, w)
		if len(all) != 1 || len(cant) > 0 || all[0].From != x.from || all[0].To != x.to {
			t.Errorf("%s: %+v %v", x.name, all, cant)
			continue
		}
		c := all[0]
		set, _ := Nearest(p.Set(), rich, w)
		if got, err := EncoderOf(c.Args); err != nil || got != set {
			t.Errorf("%s comes back as %+v %v", x.name, got, err)
		}
		undone := p.Set()
		if got := ReadsAs(set, c.Args, c.From, c.To); got != c.To {
			t.Errorf("%s made reads %q", x.name, got)
		}
		if got := ReadsAs(undone, c.Args, c.From, c.To); got != c.From {
			t.Errorf("%s not made reads %q", x.name, got)
		}
		old := map[string]string{}
		for k, v := range c.Args {
			if !strings.HasSuffix(k, "rate") && !strings.HasSuffix(k, "quality") && !strings.HasSuffix(k, "level") {
				old[k] = v
			}
		}
		if got, err := EncoderOf(old); err != nil || got.Fine != (Fine{}) {
			t.Errorf("a change of before: %+v %v", got, err)
		}
	}
	lied := full
	lied.Rate, lied.Quality, lied.Size = Constant, 3, sd
	if got := ReadsAs(lied, full.Args(), "x", full.Text()); got != "H.264 640 × 360, 25/s, constant 2048 kbit/s, key frame every 50 frames, quality 3, Main profile" {
		t.Errorf("another setting reads %q", got)
	}
}

// One stream is meant by its role for the recorder.
func TestOneStreamIsMeant(t *testing.T) {
	large := Profile{Token: "a", Name: "Main", Codec: "H264", Width: 1280, Height: 720, FPS: 25, Kbps: 2048, Encoder: "v1", Options: rich}
	small := large
	small.Token, small.Name, small.Encoder, small.Width, small.Height, small.Kbps = "b", "Sub", "v2", 640, 360, 512
	f, w := Facts{LookedAt: moment.Now(), Profiles: []Profile{large, small}}, Wishes{Recorder: "Quay recorder", Codecs: []string{"H264"}}
	for role, want := range map[Role]string{"": "v1 v2", Record: "v1", View: "v2"} {
		var got []string
		all, cant := Asked(f, w, Want{Of: role, FPS: 5})
		for _, c := range all {
			got = append(got, c.Args["token"])
		}
		if strings.Join(got, " ") != want || len(cant) > 0 {
			t.Errorf("%q: %v %v, want %s", role, got, cant, want)
		}
	}
	f.Profiles = []Profile{large}
	if all, cant := Asked(f, w, Want{Of: View, FPS: 5}); len(all) > 0 || len(cant) != 1 || cant[0] != "it has no view stream" {
		t.Errorf("%+v %v", all, cant)
	}
	w.Codecs = []string{"H265"}
	if all, cant := Asked(f, w, Want{Of: Record, FPS: 5}); len(all) > 0 || len(cant) != 1 || cant[0] != "none of its streams is one that Quay recorder takes" {
		t.Errorf("%+v %v", all, cant)
	}
}

// What views offer is told with by how many, each once however many of its streams and codecs have it.
func TestWhatViewsOffer(t *testing.T) {
	of := func(all ...[]Options) (f Facts) {
		for i, o := range all {
			f.Profiles = append(f.Profiles, Profile{Name: []string{"Main", "Sub", ""}[i], Options: o})
		}
		return f
	}
	got := OfferedBy([]Facts{of(rich, rich), of(bare), of(nil), {}})
	want := Offered{Views: 2, Read: 3, Names: []Count[string]{{"Main", 3}, {"Sub", 1}}, Codecs: map[string]int{"H264": 2, "H265": 1}, Sizes: []Count[Size]{{hd, 2}, {sd, 1}}, Levels: []Count[string]{{"High", 1}, {"Main", 1}, {"Main10", 1}}}
	for _, r := range []float64{25, 20, 15, 12.5, 12, 10, 8, 6, 5, 3, 2, 1} {
		by := 1 // a range of Media ver10 up to 25
		if slices.Contains([]float64{25, 15, 12.5, 12, 10, 8, 6, 5, 3, 2, 1}, r) {
			by = 2
		}
		want.Rates = append(want.Rates, Count[float64]{r, by})
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v, want\n%+v", got, want)
	}
	if none := OfferedBy(nil); none.Views != 0 || len(none.Sizes) > 0 {
		t.Errorf("%+v", none)
	}
}

// What was chosen by name is compared with what is set: what isn't so is proposed, what can't be is said, and what the
// recorder doesn't take isn't asked for.
func TestASettingIsHeldAgainstTheEncoders(t *testing.T) {
	p := Profile{Token: "main", Name: "Main", Codec: "H264", Width: 1280, Height: 720, FPS: 25, Kbps: 2048, GOP: 25, Encoder: "v", Options: rich, Fine: full.Fine}
	f := Facts{LookedAt: moment.Now(), Profiles: []Profile{p}}
	of := func(name string, w Want) Wishes {
		return Wishes{Recorder: "Quay recorder", Codecs: []string{"H264"}, Settings: []Setting{{ID: 1, Name: name, Want: w}}}
	}
	for _, x := range []struct {
		name    string
		w       Wishes
		code    string // of its one finding besides what is always said; empty: none
		changes int
	}{
		{"as it is", of("a", Want{FPS: 25}), "", 0},
		{"another rate", of("a", Want{FPS: 5}), "stream.drift", 1},
		{"a rate that it hasn't", of("a", Want{FPS: 7}), "stream.setting-cant", 0},
		{"a codec that the recorder doesn't take", of("a", Want{Of: Record, Codecs: []string{"H265"}}), "stream.setting-cant", 0},
		{"for a stream that it hasn't", of("a", Want{Of: View, FPS: 5}), "stream.setting-cant", 0},
		{"none chosen", Wishes{Recorder: "Quay recorder", Codecs: []string{"H264"}}, "", 0},
	} {
		var got []string
		for _, fi := range Judge(moment.Now(), f, x.w) {
			if fi.Code == "stream.drift" || fi.Code == "stream.setting-cant" {
				got = append(got, fi.Code)
			}
		}
		if strings.Join(got, " ") != x.code || len(Propose(moment.Now(), f, x.w)) != x.changes {
			t.Errorf("%s: %q, %d changes", x.name, got, len(Propose(moment.Now(), f, x.w)))
		}
	}
	// Two of one encoder: the first is proposed, the other is told.
	w := of("a", Want{FPS: 5})
	w.Settings = append(w.Settings, Setting{ID: 2, Name: "b", Want: Want{Of: Record, FPS: 12.5}})
	if got := Propose(moment.Now(), f, w); len(got) != 1 || !strings.Contains(got[0].Why, `"a" was chosen`) {
		t.Errorf("%+v", got)
	}
	// What it took otherwise is a note as long as its encoder is there.
	f.Took = []Took{{Encoder: "v", Name: "Main's encoder", Asked: "≤ 300 kbit/s", Reads: "≤ 1024 kbit/s", At: moment.Now()}, {Encoder: "gone", Name: "Sub's encoder"}}
	var took []string
	for _, fi := range Judge(moment.Now(), f, Wishes{}) {
		if fi.Code == "stream.took-otherwise" {
			took = append(took, fi.Sentence)
		}
	}
	if len(took) != 1 || !strings.Contains(took[0], "said yes to ≤ 300 kbit/s, and then read ≤ 1024 kbit/s") {
		t.Errorf("%q", took)
	}
}

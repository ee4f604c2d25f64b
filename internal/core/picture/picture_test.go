package picture

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
)

func codes(all []finding.Finding) (out []string) {
	for _, f := range all {
		out = append(out, f.Code)
	}
	return out
}

func TestJudgeTextMasksImagingAndMovement(t *testing.T) {
	name := func(words string) Text { return Text{Kind: Name, Words: words, Corner: "UpperRight"} }
	date := Text{Kind: Time, Dates: "dd/MM/yyyy", Times: "HH:mm:ss", Corner: "UpperLeft"}
	texts := func(all ...Text) Setup { return Setup{Texts: &Texts{All: all, Plain: true}} }
	home := Aim{}
	dome := &PTZ{Profile: "main", At: &home, Pans: Range{-1, 1}, Tilts: Range{-0.6, 0.6}, Zooms: Range{0, 1}}
	for _, tc := range []struct {
		name   string
		setup  Setup
		wishes Wishes
		want   []string
	}{
		{"nothing is told", Setup{}, Wishes{Place: "Slipway"}, nil},
		{"its own name and the time", texts(name("slipway "), date), Wishes{Place: "Slipway"}, nil},
		{"another name", texts(name("CAM 07")), Wishes{Place: "Slipway"}, []string{"view.name"}},
		{"two different lines may be meant", texts(name("Slipway"), name("Port office")), Wishes{Place: "Slipway"}, nil},
		{"the same line twice", texts(name("Slipway"), name("Slipway")), Wishes{Place: "Slipway"}, []string{"view.twice"}},
		{"the time twice", texts(date, date), Wishes{Place: "Slipway"}, []string{"view.twice"}},
		{"the recorder burns the name in too", texts(name("Slipway"), date), Wishes{Place: "Slipway", Recorder: "Quay recorder", Burns: []string{"name"}}, []string{"view.twice"}},
		{"a mask that is off", Setup{Masks: &Masks{All: []Mask{{On: true}, {}}}}, Wishes{}, []string{"view.mask-off"}},
		{"held on night, exposed by hand", Setup{Imaging: &Imaging{DayNight: "OFF", Exposure: "MANUAL", Time: 4000}}, Wishes{}, []string{"view.day-night", "view.exposure"}},
		{"by itself", Setup{Imaging: &Imaging{DayNight: "AUTO", Exposure: "AUTO"}}, Wishes{}, nil},
		{"it can be turned and nobody tried", Setup{PTZ: dome}, Wishes{}, []string{"view.untried"}},
		{"it doesn't tell where it looks", Setup{PTZ: &PTZ{Profile: "main"}}, Wishes{}, nil},
		{"it moved and came back", Setup{PTZ: dome}, Wishes{Tried: &Tried{Axes: []Nudge{{Pan, true, true}}}}, nil},
		{"its tilt is stuck, its zoom stayed away", Setup{PTZ: dome}, Wishes{Tried: &Tried{Axes: []Nudge{{Tilt, false, true}, {Zoom, true, false}}}}, []string{"view.stuck", "view.left"}},
	} {
		if got := codes(Judge(tc.setup, tc.wishes)); !slices.Equal(got, tc.want) {
			t.Errorf("%s: %v, want %v", tc.name, got, tc.want)
		}
	}
}

// A change of text says from and to, and its undo takes back what was.
func TestTextsAreProposedAndTakenBack(t *testing.T) {
	s := Setup{Config: "vsc0", Texts: &Texts{All: []Text{{Token: "a", Kind: Name, Words: "CAM 07", Corner: "UpperRight"}}, Plain: true, Most: 4, Corners: []string{"UpperLeft", "UpperRight"}}}
	all := Propose(s, Wishes{Place: "Slipway"})
	if len(all) != 1 || all[0].From != "“CAM 07” upper right" || all[0].To != "“Slipway” upper right" {
		t.Fatalf("%+v", all)
	}
	back, ok := all[0].Inverse()
	if !ok || TextOf(back.Args).Words != "CAM 07" || back.To != all[0].From {
		t.Errorf("undo: %+v", back)
	}
	all = Propose(s, Wishes{Place: "Slipway", Recorder: "Quay recorder", Burns: []string{"name"}})
	if len(all) != 1 || all[0].To != noText(Name) {
		t.Errorf("burned in by both: %+v", all)
	}
	if back, ok = all[0].Inverse(); !ok || TextOf(back.Args).Words != "CAM 07" {
		t.Errorf("taken out: %+v", back)
	}
}

func TestAskedTextsSayWhyNot(t *testing.T) {
	date := Text{Kind: Time, Dates: "MM/dd/yyyy", Times: "hh:mm:ss tt", Corner: "UpperLeft"}
	corners := []string{"UpperLeft", "UpperRight", "LowerLeft"}
	for _, tc := range []struct {
		name    string
		texts   *Texts
		want    Want
		changes []string
		cant    string
	}{
		{"not told", nil, Want{Name: "place"}, nil, "doesn't tell"},
		{"a free corner", &Texts{All: []Text{date}, Corners: corners, Plain: true}, Want{Name: "place"}, []string{"no name → “Slipway” upper right"}, ""},
		{"no words of one's own", &Texts{All: []Text{date}, Corners: corners}, Want{Name: "place"}, nil, "no words"},
		{"full", &Texts{All: []Text{date}, Corners: corners, Plain: true, Most: 1}, Want{Name: "place"}, nil, "1 texts at the most"},
		{"out with both", &Texts{All: []Text{date, {Kind: Name, Words: "x", Corner: "LowerLeft"}}}, Want{Name: "none", Time: "none"},
			[]string{"“x” lower left → no name", "MM/dd/yyyy hh:mm:ss tt upper left → no time"}, ""},
		{"the recorder's order", &Texts{Corners: corners}, Want{Time: "date"}, []string{"no time → yyyy-MM-dd HH:mm:ss upper left"}, ""},
		{"so already", &Texts{All: []Text{{Kind: Time, Dates: "yyyy-MM-dd", Times: "hh:mm:ss tt", Corner: "UpperLeft"}}}, Want{Time: "date"}, nil, ""},
		{"in another order", &Texts{All: []Text{date}}, Want{Time: "date"}, []string{"MM/dd/yyyy hh:mm:ss tt upper left → yyyy-MM-dd hh:mm:ss tt upper left"}, ""},
		{"an order that it doesn't know", &Texts{All: []Text{date}, Dates: []string{"MM/dd/yyyy"}}, Want{Time: "date"}, nil, "doesn't write dates as yyyy-MM-dd"},
		{"both at once: each in a corner of its own", &Texts{Corners: corners, Plain: true}, Want{Name: "place", Time: "date"},
			[]string{"no name → “Slipway” upper left", "no time → yyyy-MM-dd HH:mm:ss upper right"}, ""},
		{"both at once, and one fits", &Texts{Corners: corners, Plain: true, Most: 1}, Want{Name: "place", Time: "date"}, []string{"no name → “Slipway” upper left"}, "1 texts at the most"},
		{"both at once in one corner", &Texts{Corners: corners[:1], Plain: true}, Want{Name: "place", Time: "date"}, []string{"no name → “Slipway” upper left"}, "each of its corners"},
		{"no more of a kind", &Texts{All: []Text{{Kind: Name, Words: "x", Corner: "LowerLeft"}}, Corners: corners, Plain: true, MostNames: 1, MostTimes: 1}, Want{Name: "place", Time: "date"},
			[]string{"“x” lower left → “Slipway” lower left", "no time → yyyy-MM-dd HH:mm:ss upper left"}, ""},
		{"a name makes room", &Texts{All: []Text{{Kind: Name, Words: "x", Corner: "UpperLeft"}}, Corners: corners[:1], Most: 1}, Want{Name: "none", Time: "date"},
			[]string{"“x” upper left → no name", "no time → yyyy-MM-dd HH:mm:ss upper left"}, ""},
	} {
		s := &Setup{Config: "vsc0", Texts: tc.texts}
		all, cant := Asked(s, Wishes{Place: "Slipway", Dates: "yyyy-MM-dd"}, tc.want)
		var got []string
		for _, c := range all {
			got = append(got, c.From+" → "+c.To)
		}
		if !slices.Equal(got, tc.changes) || (tc.cant == "") != (len(cant) == 0) || !strings.Contains(strings.Join(cant, "; "), tc.cant) {
			t.Errorf("%s: %q, can't %q", tc.name, got, cant)
		}
	}
}

// What a device rounds and turns is the same; another place, or one more, isn't.
func TestSameAreas(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		l, top := r.Float64()*60, r.Float64()*60
		a, err := Rectangle(l, top, l+5+r.Float64()*30, top+5+r.Float64()*30)
		if err != nil {
			t.Fatal(err)
		}
		shift := r.IntN(len(a))
		b := append(slices.Clone(a[shift:]), a[:shift]...)
		for i := range b {
			b[i].X += (r.Float64() - 0.5) * 0.04
			b[i].Y += (r.Float64() - 0.5) * 0.04
		}
		c, _ := Rectangle(l+4, top, l+9, top+5)
		if !SameAreas([]scene.Polygon{a, c}, []scene.Polygon{c, b}) {
			t.Fatalf("%v and %v should be the same", a, b)
		}
		if SameAreas([]scene.Polygon{a, a}, []scene.Polygon{a, c}) || SameAreas([]scene.Polygon{a}, []scene.Polygon{a, c}) {
			t.Fatalf("%v isn't %v", a, c)
		}
	}
}

func TestMasksAreHeldAgainstWhatTheDeviceCan(t *testing.T) {
	a, _ := Rectangle(10, 20, 30, 40)
	b, _ := Rectangle(30, 40, 10, 20) // drawn from the other corner
	if !SameAreas([]scene.Polygon{a}, []scene.Polygon{b}) {
		t.Error("a rectangle depends on the corner at which it was begun")
	}
	s := Setup{Config: "vsc0", Masks: &Masks{Most: 1}}
	c, err := s.Hide([]scene.Polygon{a})
	if err != nil || c.From != "nothing hidden" || c.To != "10–30 % across, 20–40 % down" {
		t.Errorf("%+v, %v", c, err)
	}
	if _, err := s.Hide([]scene.Polygon{a, a}); err == nil {
		t.Error("two masks where there may be one")
	}
	if _, err := s.Hide(nil); err == nil {
		t.Error("nothing to hide is no change")
	}
	back, _ := c.Inverse()
	if areas, err := ParseAreas(back.Args["masks"]); err != nil || len(areas) != 0 {
		t.Errorf("undo hides %v: %v", areas, err)
	}
	for _, bad := range [][4]float64{{-1, 0, 10, 10}, {0, 0, 101, 10}, {5, 5, 5, 50}, {0, 0, 50, 0.5}} {
		if _, err := Rectangle(bad[0], bad[1], bad[2], bad[3]); err == nil {
			t.Errorf("%v is no mask", bad)
		}
	}
}

func FuzzParseAreas(f *testing.F) {
	f.Add(`[[{"X":0,"Y":0},{"X":0.5,"Y":0},{"X":0,"Y":0.5}]]`)
	f.Add(`[[{"X":1e300}]]`)
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ParseAreas(text)
		if err != nil {
			return
		}
		raw, err := json.Marshal(all)
		if again, err2 := ParseAreas(string(raw)); err != nil || err2 != nil || !SameAreas(all, again) {
			t.Fatalf("%q comes back as %q: %v, %v", text, raw, err, err2)
		}
		_ = AreasText(all)
	})
}

func TestImagingIsSetWithinItsRange(t *testing.T) {
	bright := 50.0
	s := Setup{Source: "vs0", Imaging: &Imaging{DayNight: "OFF", DayNights: []string{"ON", "OFF", "AUTO"}, Exposure: "AUTO", Exposures: []string{"AUTO", "MANUAL"},
		Times: Range{100, 40000}, Brightness: &bright, Brights: Range{0, 100}, Focusing: "AUTO", Focus: &bright, Focuses: Range{0, 100}}}
	if c, err := s.Set(DayNight, "AUTO"); err != nil || c.From != "as by night" || c.To != "switches by itself" {
		t.Errorf("%+v, %v", c, err)
	}
	if c, err := s.Set(Brightness, "62,5"); err != nil || c.To != "62.5" {
		t.Errorf("%+v, %v", c, err)
	}
	for p, v := range map[Property]string{DayNight: "SOMETIMES", Brightness: "101", ExposeFor: "4000", Focus: "10", Exposure: "AUTO", "colour": "1"} {
		if c, err := s.Set(p, v); err == nil {
			t.Errorf("%s to %s: %+v", p, v, c)
		}
	}
	for _, tc := range []struct {
		p         Property
		v, reads  string
		different string
	}{{ExposeFor, "4000", "1/250 s", "5000"}, {Focusing, "MANUAL", "by hand", "AUTO"}, {Brightness, "50.2", "50.2", "52"}} {
		if Says(tc.p, tc.v) != tc.reads || !SameValue(tc.v, tc.v) || SameValue(tc.v, tc.different) {
			t.Errorf("%s %s reads %s", tc.p, tc.v, Says(tc.p, tc.v))
		}
	}
	if !SameValue("50", "50.3") {
		t.Error("a device that rounds to 50 keeps another value")
	}
}

// A nudge stays within the axis's ends and moves that axis alone.
func TestANudgeStaysWithinTheEnds(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		p := PTZ{Pans: Range{-1, 1}, Tilts: Range{-0.6, 0.05 + r.Float64()*0.5}, Zooms: Range{0, 0.05 + r.Float64()}}
		from := Aim{r.Float64()*2 - 1, -0.6 + r.Float64()*(p.Tilts.Max+0.6), r.Float64() * p.Zooms.Max}
		for _, a := range p.Axes() {
			to := p.Nudged(from, a)
			if !p.Pans.Holds(to.Pan) || !p.Tilts.Holds(to.Tilt) || !p.Zooms.Holds(to.Zoom) {
				t.Fatalf("%s of %v from %v goes to %v", a, p, from, to)
			}
			if changed := (to.Pan != from.Pan) == (a == Pan) && (to.Tilt != from.Tilt) == (a == Tilt) && (to.Zoom != from.Zoom) == (a == Zoom); !changed || to.Near(from) {
				t.Fatalf("%s from %v goes to %v", a, from, to)
			}
		}
	}
}

func TestTurningAndRemembering(t *testing.T) {
	home, quay := Aim{}, Aim{0.4, -0.1, 0.2}
	s := Setup{PTZ: &PTZ{Profile: "main", At: &home, Pans: Range{-1, 1}, Tilts: Range{-0.6, 0.6}, Zooms: Range{0, 1}, Most: 1, Presets: []Preset{{"p1", "Quay", &quay}}}}
	c, err := s.Turn(quay, s.PTZ.Presets[0])
	if err != nil || c.To != "pan 0.40, tilt −0.10, zoom 0.20" || c.Args["preset"] != "p1" {
		t.Errorf("%+v, %v", c, err)
	}
	if back, _ := c.Inverse(); back.Args["preset"] != "" || back.To != "pan 0.00, tilt 0.00, zoom 0.00" {
		t.Errorf("undo: %+v", back)
	}
	for _, to := range []Aim{home, {Tilt: 0.7}, {Pan: -1.1}} {
		if c, err := s.Turn(to, Preset{}); err == nil {
			t.Errorf("to %v: %+v", to, c)
		}
	}
	if _, err := s.Remember("Stairs"); err == nil {
		t.Error("it remembers one more than it can")
	}
	if c, err := s.Remember(" Quay "); err != nil || c.Undo.Kind != finding.Irreversible || c.To != "“Quay”: pan 0.00, tilt 0.00, zoom 0.00" {
		t.Errorf("%+v, %v", c, err)
	}
	if c, err := s.Forget("Quay"); err != nil || c.To != "no preset “Quay”" {
		t.Errorf("%+v, %v", c, err)
	}
	for _, bad := range []string{"", "  ", strings.Repeat("x", maxPreset+1)} {
		if _, err := s.Remember(bad); err == nil {
			t.Errorf("%q is no name", bad)
		}
	}
	if c, err := s.Try(time.Unix(0, 0)); err != nil || !strings.Contains(c.Title, "pan, tilt, zoom") {
		t.Errorf("%+v, %v", c, err)
	}
	s.PTZ.At = nil
	if _, err := s.Try(time.Unix(0, 0)); err == nil {
		t.Error("what doesn't tell where it looks can't be put back")
	}
}

// A recorder that doesn't tell how it writes dates is named as the reason.
func TestNoOrderIsSaid(t *testing.T) {
	s := &Setup{Config: "c", Texts: &Texts{All: []Text{{Kind: Time, Dates: "MM/dd/yyyy", Corner: "UpperLeft"}}}}
	if all, cant := Asked(s, Wishes{}, Want{Time: "date"}); len(all) != 0 || len(cant) != 1 || !strings.Contains(cant[0], "how it writes dates") {
		t.Errorf("%+v, %q", all, cant)
	}
}

// An area is the same whichever way round and wherever a device begins.
func TestAreasWindEitherWay(t *testing.T) {
	a, err := Rectangle(10, 20, 40, 60)
	if err != nil {
		t.Fatal(err)
	}
	for shift := range a {
		for _, back := range []bool{false, true} {
			b := append(slices.Clone(a[shift:]), a[:shift]...)
			if back {
				slices.Reverse(b)
			}
			if !SameAreas([]scene.Polygon{a}, []scene.Polygon{b}) {
				t.Errorf("from corner %d, turned %t, it is another", shift, back)
			}
		}
	}
	crossed := scene.Polygon{a[0], a[2], a[1], a[3]}
	if SameAreas([]scene.Polygon{a}, []scene.Polygon{crossed}) {
		t.Error("other sides make the same area")
	}
}

// A device that hides nothing but rectangles is sent nothing else.
func TestRectanglesAlone(t *testing.T) {
	box, _ := Rectangle(10, 20, 40, 60)
	tilted := scene.Polygon{{X: 0, Y: 0}, {X: 0.5, Y: 0.1}, {X: 0.4, Y: 0.6}, {X: -0.1, Y: 0.5}}
	s := Setup{Masks: &Masks{Rectangle: true}}
	for name, x := range map[string]struct {
		area scene.Polygon
		ok   bool
	}{"a box": {box, true}, "a triangle": {box[:3], false}, "a tilted box": {tilted, false}} {
		if _, err := s.Hide([]scene.Polygon{x.area}); (err == nil) != x.ok {
			t.Errorf("%s: %v", name, err)
		}
		free := Setup{Masks: &Masks{}}
		if _, err := free.Hide([]scene.Polygon{x.area}); err != nil {
			t.Errorf("%s, where anything may be: %v", name, err)
		}
	}
}

func TestSmallValuesDiffer(t *testing.T) {
	for _, x := range []struct {
		a, b string
		same bool
	}{{"0.010", "0.019", false}, {"0.010", "0.0101", true}, {"0", "0.0004", true}, {"0", "0.004", false}, {"50", "50.3", true}, {"50", "51", false}, {"-3", "3", false}, {"AUTO", "AUTO", true}, {"AUTO", "1", false}, {"10000", "10050", true}} {
		if SameValue(x.a, x.b) != x.same || SameValue(x.b, x.a) != x.same {
			t.Errorf("%s and %s: same %t", x.a, x.b, !x.same)
		}
	}
}

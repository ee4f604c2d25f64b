package picture

import (
	"errors"
	"math"
	"math/rand/v2"
	"testing"
)

func hands() PTZ {
	return PTZ{Profile: "main", At: &Aim{}, Pans: Range{-1, 1}, Tilts: Range{-0.6, 0.6}, Zooms: Range{0, 1}, PanSpeeds: Range{-1, 1}, TiltSpeeds: Range{-0.5, 0.5},
		ZoomSpeeds: Range{-1, 1}, AcrossX: Range{-1, 1}, AcrossY: Range{-100, 100}}
}

func TestWhatMayBeHeldCanBePutBack(t *testing.T) {
	for _, tc := range []struct {
		name string
		make func(*PTZ)
		axes int
		held bool
	}{
		{"places and speeds", func(*PTZ) {}, 3, true},
		{"places alone", func(p *PTZ) { p.PanSpeeds, p.TiltSpeeds, p.ZoomSpeeds = Range{}, Range{}, Range{} }, 3, true},
		{"speeds alone", func(p *PTZ) { p.Pans, p.Tilts, p.Zooms = Range{}, Range{}, Range{} }, 3, false},
		{"it doesn't tell where it looks", func(p *PTZ) { p.At = nil }, 3, false},
		{"places alone, and not where it looks", func(p *PTZ) { *p = PTZ{Pans: Range{-1, 1}} }, 0, false},
		{"one axis goes by speed alone", func(p *PTZ) { p.Zooms = Range{} }, 3, false},
		{"it zooms alone", func(p *PTZ) { *p = PTZ{At: &Aim{}, Zooms: Range{0, 1}} }, 1, true},
		{"nothing moves", func(p *PTZ) { *p = PTZ{At: &Aim{}} }, 0, false},
	} {
		p := hands()
		tc.make(&p)
		if err := p.MayHold(); len(p.Hand()) != tc.axes || (err == nil) != tc.held {
			t.Errorf("%s: moves %v, %v", tc.name, p.Hand(), err)
		}
	}
}

func TestAPushGoesAsFastAsTheCameraSays(t *testing.T) {
	p := hands()
	p.PanSpeeds, p.ZoomSpeeds = Range{0, 0.8}, Range{} // it tells no speed to the left, and none of its zoom
	for _, tc := range []struct {
		push, goes Push
		ok         bool
	}{
		{Push{Pan: 1}, Push{Pan: 0.8}, true},
		{Push{Pan: -1}, Push{}, true},
		{Push{Tilt: -1}, Push{Tilt: -0.5}, true},
		{Push{Pan: 0.5, Tilt: 0.5}, Push{Pan: 0.4, Tilt: 0.25}, true},
		{Push{Zoom: 1}, Push{}, false},
		{Push{Pan: 1, Zoom: 1}, Push{}, false},
		{Push{}, Push{}, true},
	} {
		if got, ok := p.Velocity(tc.push); got != tc.goes || ok != tc.ok {
			t.Errorf("%v goes %v, %v", tc.push, got, ok)
		}
	}
	for _, bad := range []Push{{}, {Pan: 1.01}, {Tilt: -2}, {Zoom: math.NaN()}, {Pan: math.Inf(1)}} {
		if bad.OK() {
			t.Errorf("%v is no push", bad)
		}
	}
}

// A step goes the way that was pushed, on those axes alone, and never beyond an end.
func TestAStepStaysWithinTheEnds(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	p := hands()
	for range 500 {
		from := Aim{r.Float64()*2 - 1, r.Float64()*1.2 - 0.6, r.Float64()}
		v := Push{r.Float64()*2 - 1, r.Float64()*2 - 1, 0}
		to, ok := p.Step(from, v)
		if !ok || !p.Pans.Holds(to.Pan) || !p.Tilts.Holds(to.Tilt) || to.Zoom != from.Zoom || (to.Pan-from.Pan)*v.Pan < 0 || (to.Tilt-from.Tilt)*v.Tilt < 0 {
			t.Fatalf("from %v by %v to %v, %v", from, v, to, ok)
		}
	}
	if to, _ := p.Step(Aim{Pan: 1}, Push{Pan: 1}); to != (Aim{Pan: 1}) {
		t.Errorf("at its end it goes to %v", to)
	}
	p.Zooms = Range{}
	if _, ok := p.Step(Aim{}, Push{Zoom: 1}); ok {
		t.Error("what has no places goes no step")
	}
}

func TestASpotIsPartsOfWhatItSees(t *testing.T) {
	p := hands()
	p.AcrossX = Range{-0.5, 1}
	for _, tc := range []struct {
		at        Spot
		pan, tilt float64
		ok        bool
	}{
		{Spot{0.5, 0.5}, 0, 0, true},
		{Spot{1, 0}, 1, 100, true},
		{Spot{0, 1}, -0.5, -100, true},
		{Spot{0.75, 0.25}, 0.5, 50, true},
		{Spot{0.25, 0.5}, -0.25, 0, true},
		{Spot{1.01, 0.5}, 0, 0, false},
		{Spot{0.5, -0.1}, 0, 0, false},
		{Spot{math.NaN(), 0.5}, 0, 0, false},
	} {
		if pan, tilt, err := p.Across(tc.at); pan != tc.pan || tilt != tc.tilt || (err == nil) != tc.ok {
			t.Errorf("%v: %v, %v, %v", tc.at, pan, tilt, err)
		}
	}
	p.AcrossY = Range{}
	if _, _, err := p.Across(Spot{0.5, 0.5}); err == nil {
		t.Error("it doesn't tell how wide it sees, and was sent")
	}
}

func TestAWindowIsAPartOfThePicture(t *testing.T) {
	for _, tc := range []struct {
		w      Window
		factor float64
	}{
		{Window{0, 0, 1, 1}, 1},
		{Window{0.25, 0.25, 0.75, 0.5}, 2},
		{Window{0.4, 0.2, 0.5, 0.6}, 2.5},
		{Window{0.5, 0.5, 0.5 + leastWindow, 0.51}, 1 / leastWindow},
		{Window{0.5, 0.5, 0.53, 0.53}, 0},
		{Window{0.5, 0.5, 0.5, 0.9}, 0},
		{Window{0.6, 0.2, 0.4, 0.6}, 0},
		{Window{-0.1, 0, 0.5, 0.5}, 0},
		{Window{0, 0, 0.5, 1.1}, 0},
		{Window{math.NaN(), 0, 0.5, 1}, 0},
	} {
		got, err := tc.w.Factor()
		if math.Abs(got-tc.factor) > 1e-9 || (tc.factor == 0) != errors.Is(err, ErrWindow) {
			t.Errorf("%v: %v, %v", tc.w, got, err)
		}
	}
}

// Cameras whose lenses go nearer by other laws are zoomed to what was asked, within a tenth, or to their end; never
// beyond it, and in so many steps at the most.
func TestZoomingComesNear(t *testing.T) {
	laws := map[string]func(z float64) float64{
		"by equal ratios":        func(z float64) float64 { return math.Pow(20, z) },
		"by equal steps":         func(z float64) float64 { return 1 + 3*z },
		"slowly, then fast":      func(z float64) float64 { return 1 + 9*z*z },
		"fast, then slowly":      func(z float64) float64 { return 1 + 5*(math.Sqrt(z+0.1)-math.Sqrt(0.1)) },
		"from the middle onward": func(z float64) float64 { return math.Exp(1.5*z) / math.Exp(0.3) },
	}
	p := hands()
	for name, law := range laws {
		for _, want := range []float64{1, 1.3, 2, 3, 3.9, 12} {
			for _, from := range []float64{0, 0.2, 0.9} {
				had := []Zoomed{{from, 1}}
				for {
					to, done := p.NextZoom(had, want)
					if !done && !p.Zooms.Holds(to) || len(had) > zoomSteps+1 {
						t.Fatalf("%s: %v goes to %v", name, had, to)
					}
					if done {
						break
					}
					had = append(had, Zoomed{to, law(to) / law(from)})
				}
				last := had[len(had)-1]
				near, end := math.Abs(math.Log(want/last.Times)) < 0.15, last.At > 0.97 && last.Times < want
				if !near && !end && want < 5 {
					t.Errorf("%s from %v, %v times: %v", name, from, want, had)
				}
			}
		}
	}
}

func TestZoomingEndsWhereNothingIsKnown(t *testing.T) {
	p := hands()
	for name, had := range map[string][]Zoomed{
		"nothing measured":      {},
		"it went the other way": {{0, 1}, {0.12, 0.8}},
		"nothing was seen":      {{0, 1}, {0.12, 1}},
		"it didn't move":        {{0.3, 1}, {0.3, 1.1}},
		"at its end":            {{0.8, 1}, {1, 1.2}},
	} {
		if to, done := p.NextZoom(had, 3); !done {
			t.Errorf("%s: it goes to %v", name, to)
		}
	}
	for _, want := range []float64{0, -1, math.NaN()} {
		if _, done := p.NextZoom([]Zoomed{{0, 1}}, want); !done {
			t.Errorf("%v times", want)
		}
	}
	p.Zooms = Range{}
	if _, done := p.NextZoom([]Zoomed{{0, 1}}, 2); !done {
		t.Error("it has no zoom")
	}
}

func TestAHandPutsBackWhatItMoved(t *testing.T) {
	p := hands()
	p.At = &Aim{Pan: 0.4}
	c, ok := p.PutBack(Aim{})
	if !ok || c.From != "pan 0.40, tilt 0.00, zoom 0.00" || c.To != "pan 0.00, tilt 0.00, zoom 0.00" || c.Why == "Asked for." {
		t.Errorf("%+v", c)
	}
	p.At = &Aim{Pan: 0.004}
	if c, ok := p.PutBack(Aim{}); ok {
		t.Errorf("it looks there, and is sent: %+v", c)
	}
}

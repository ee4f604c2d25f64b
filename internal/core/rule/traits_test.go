package rule

import (
	"errors"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
)

// What isn't told of an object it neither has nor lacks: a rule that asks for it isn't about it.
func TestARuleAsksForTraits(t *testing.T) {
	red, bag, hat := scene.Traits{Colour: scene.Red}, scene.Traits{Has: []scene.Carried{scene.Bag}}, scene.Traits{Lacks: []scene.Carried{scene.Hat}}
	for _, tc := range []struct {
		name string
		asks Traits
		of   scene.Traits
		want bool
	}{
		{"nothing of nothing", Traits{}, scene.Traits{}, true},
		{"nothing of something", Traits{}, red, true},
		{"a colour of nothing", Traits{Colours: []scene.Colour{scene.Red}}, scene.Traits{}, false},
		{"its colour", Traits{Colours: []scene.Colour{scene.Red}}, red, true},
		{"another", Traits{Colours: []scene.Colour{scene.Blue}}, red, false},
		{"one of two", Traits{Colours: []scene.Colour{scene.Blue, scene.Red}}, red, true},
		{"a bag that isn't told", Traits{Has: []scene.Carried{scene.Bag}}, red, false},
		{"a bag", Traits{Has: []scene.Carried{scene.Bag}}, bag, true},
		{"a bag and a hat", Traits{Has: []scene.Carried{scene.Bag, scene.Hat}}, bag, false},
		{"no bag, and it has one", Traits{Lacks: []scene.Carried{scene.Bag}}, bag, false},
		{"no hat", Traits{Lacks: []scene.Carried{scene.Hat}}, hat, true},
		{"no hat, which isn't told", Traits{Lacks: []scene.Carried{scene.Hat}}, red, false},
		{"no hat, and red", Traits{Colours: []scene.Colour{scene.Red}, Lacks: []scene.Carried{scene.Hat}}, hat.Also(red), true},
	} {
		if got := tc.asks.Of(tc.of); got != tc.want {
			t.Errorf("%s: %v", tc.name, got)
		}
		// Told point by point and as a whole it is the same.
		r := Rule{Kind: Inside, Area: scene.Polygon{{X: -1, Y: -1}, {X: 1, Y: -1}, {X: 1, Y: 1}, {X: -1, Y: 1}}, Traits: tc.asks}
		o := scene.Observation{Object: "1", Score: 1, At: time.Second, Box: scene.Box{Left: 0, Bottom: 0, Right: 0.1, Top: 0.1}, Traits: tc.of}
		live := Engine{Rule: r}
		if a, b := len(live.Feed(o)), len(Rehearse(r, scene.Tracks([]scene.Observation{o}), Span{To: 1})); a != b || (a > 0) != tc.want {
			t.Errorf("%s: fed it fires %d times, rehearsed %d", tc.name, a, b)
		}
	}
}

func TestTraitsThatCantBeAskedFor(t *testing.T) {
	for wrong, asks := range map[string]Traits{
		"no colour":        {Colours: []scene.Colour{scene.Red, "Teal"}},
		"nothing that is":  {Has: []scene.Carried{"Sword"}},
		"once":             {Lacks: []scene.Carried{scene.Bag, scene.Bag, scene.Bag, scene.Hat}},
		"with and without": {Has: []scene.Carried{scene.Bag}, Lacks: []scene.Carried{scene.Hat, scene.Bag}},
	} {
		r := Rule{Kind: Crosses, Line: upward, Traits: asks}
		if err := r.Check(); !errors.Is(err, ErrRule) || !strings.Contains(err.Error(), wrong) {
			t.Errorf("%+v: %v", asks, err)
		}
	}
}

// No type of rule that the standard names takes them: they are told, and not dropped in silence.
func TestTraitsAreTold(t *testing.T) {
	knows := Supported{Types: []Type{{Name: "LineDetector", Values: map[string]string{"Direction": "Direction"}, Shapes: map[string]string{"Segments": "Polyline"}}}}
	r := Rule{Name: "l", Kind: Crosses, Line: upward, Traits: Traits{Colours: []scene.Colour{scene.Red}, Has: []scene.Carried{scene.Bag}}}
	if _, cant := knows.Write(r); len(cant) != 2 || cant[0].Part != "colours" || cant[1].Part != "traits" {
		t.Errorf("%+v", cant)
	}
	if got := r.Text(); !strings.HasPrefix(got, "anything (red, with a bag) crosses") {
		t.Error(got)
	}
	plain := r
	plain.Traits = Traits{}
	if _, cant := knows.Write(plain); len(cant) > 0 || Same(r, plain) || !Same(r, r) {
		t.Errorf("%+v", cant)
	}
}

func TestWhatTheCameraTellsOfNothingIsSaid(t *testing.T) {
	track := func(class string, told scene.Traits) scene.Track { return scene.Track{Class: class, Traits: told} }
	red, bare := scene.Traits{Colour: scene.Red}, scene.Traits{Lacks: []scene.Carried{scene.Bag}}
	asksRed, asksBag := Traits{Colours: []scene.Colour{scene.Red}}, Traits{Has: []scene.Carried{scene.Bag}}
	asksTwo := Traits{Lacks: []scene.Carried{scene.Bag, scene.Hat}}
	for _, tc := range []struct {
		name string
		asks Rule
		seen []scene.Track
		want string
	}{
		{"nothing asked", Rule{}, []scene.Track{track("Human", scene.Traits{})}, ""},
		{"nothing seen", Rule{Traits: asksRed}, nil, ""},
		{"no colour told", Rule{Traits: asksRed}, []scene.Track{track("Human", bare)}, "no colour"},
		{"another colour", Rule{Traits: Traits{Colours: []scene.Colour{scene.Blue}}}, []scene.Track{track("Human", red)}, ""},
		{"of another class alone", Rule{Classes: []string{"Human"}, Traits: asksRed}, []scene.Track{track("Human", bare), track("Vehicle", red)}, "no colour"},
		{"a bag, told that there is none", Rule{Traits: asksBag}, []scene.Track{track("Human", bare)}, ""},
		{"nothing carried is told", Rule{Traits: asksBag}, []scene.Track{track("Human", red)}, "nothing of what is carried or worn"},
		{"one of the two", Rule{Traits: asksTwo}, []scene.Track{track("Human", bare)}, "nothing of what is carried or worn"},
		{"neither", Rule{Traits: Traits{Colours: asksRed.Colours, Has: asksBag.Has}}, []scene.Track{track("Human", scene.Traits{})}, "no colour and nothing of"},
	} {
		got := Untold(tc.asks, tc.seen)
		if (got == "") != (tc.want == "") || !strings.Contains(got, tc.want) {
			t.Errorf("%s: %q", tc.name, got)
		}
	}
	all := scene.Traits{Colour: scene.Purple, Plate: "GP 41", Speed: 1.24, Has: []scene.Carried{scene.Bag}, Lacks: []scene.Carried{scene.FaceCover}}
	if got := Told(all); got != "purple, plate GP 41, 1.2 m/s, with a bag, without the face covered" || Told(scene.Traits{}) != "" {
		t.Error(got)
	}
}

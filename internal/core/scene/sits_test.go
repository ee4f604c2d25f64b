package scene

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// world is someone who goes through a picture, and comes back slower: where the middle is, and whether it is there.
func world(at time.Duration) (p Point, there bool) {
	s := at.Seconds()
	switch {
	case s < 1 || s > 10:
		return p, false
	case s < 5:
		return Point{X: -0.8 + 0.35*(s-1), Y: -0.2}, true
	}
	return Point{X: 0.6 - 0.2*(s-5), Y: -0.2 + 0.05*(s-5)}, true
}

const half, tall = 0.06, 0.2 // of what goes there

func glimpse(r *rand.Rand, at time.Duration) Glimpse {
	g := Glimpse{At: at, Grey: make([]uint8, GlimpseWide*GlimpseHigh)}
	p, there := world(at)
	for i := range g.Grey {
		x, y := (float64(i%GlimpseWide)+0.5)/GlimpseWide*2-1, 1-(float64(i/GlimpseWide)+0.5)/GlimpseHigh*2
		g.Grey[i] = uint8(100 + r.IntN(12))
		if there && math.Abs(x-p.X) < half && math.Abs(y-p.Y) < tall {
			g.Grey[i] = 40
		}
	}
	return g
}

func boxes(dx, dy float64, late time.Duration) (out []Moment) {
	for at := time.Duration(0); at < 16*time.Second; at += 200 * time.Millisecond {
		m := Moment{At: at}
		if p, there := world(at - late); there {
			m.Boxes = []Box{{Left: p.X - half + dx, Right: p.X + half + dx, Bottom: p.Y - tall + dy, Top: p.Y + tall + dy}}
		}
		out = append(out, m)
	}
	return out
}

func glimpses(r *rand.Rand) (all []Glimpse) {
	for at := 500 * time.Millisecond; at < 12*time.Second; at += 400 * time.Millisecond {
		all = append(all, glimpse(r, at))
	}
	return all
}

// How boxes are shifted and late is found again from what moves in the picture.
func TestHowBoxesSitIsFound(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 24))
	all := glimpses(r)
	for range 60 {
		dx, dy := 0.3*(r.Float64()-0.5), 0.3*(r.Float64()-0.5)
		late := time.Duration(r.IntN(41)-4) * 50 * time.Millisecond
		got, ok := Sit(all, boxes(dx, dy, late))
		if !ok || math.Abs(2*got.Right-dx) > 0.03 || math.Abs(2*got.Up-dy) > 0.03 || (got.Late-late).Abs() > 200*time.Millisecond {
			t.Fatalf("shifted by %.3f %.3f, %v late: %+v, %t", dx, dy, late, got, ok)
		}
		if got.Least > late || got.Most < late-100*time.Millisecond {
			t.Errorf("%v late lies outside of %v to %v", late, got.Least, got.Most)
		}
	}
	if got, ok := Sit(all, boxes(0, 0, 0)); !ok || got.Off() {
		t.Errorf("boxes that sit are told of: %+v", got)
	}
	if got, _ := Sit(all, boxes(0.12, 0, 0)); !got.Off() {
		t.Errorf("boxes that don't are not: %+v", got)
	}
}

// What tells nothing is not told: no boxes, no pictures, a picture that changed as a whole, two at once, another time.
func TestHowBoxesSitIsNotGuessed(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 25))
	all, told := glimpses(r), boxes(0, 0, 0)
	two := boxes(0, 0, 0)
	for i := range two {
		two[i].Boxes = append(two[i].Boxes, Box{0.5, 0.5, 0.6, 0.6})
	}
	later := boxes(0, 0, 0)
	for i := range later {
		later[i].At += time.Hour
	}
	flashes := glimpses(r)
	for i := range flashes {
		for j := range flashes[i].Grey {
			flashes[i].Grey[j] = uint8(255 * (i % 2))
		}
	}
	still := glimpses(r)
	for i := range still {
		still[i].Grey = still[0].Grey
	}
	small := glimpses(r)
	for i := range small {
		small[i].Grey = small[i].Grey[:100]
	}
	for name, x := range map[string]struct {
		all  []Glimpse
		told []Moment
	}{
		"no pictures": {nil, told}, "few pictures": {all[:4], told}, "no boxes": {all, nil}, "empty moments": {all, []Moment{{At: 0}, {At: time.Second}}},
		"two at once": {all, two}, "another time": {all, later}, "flashes": {flashes, told}, "nothing moves": {still, told}, "of another size": {small, told},
	} {
		if got, ok := Sit(x.all, x.told); ok {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

func TestHowBoxesSitInWords(t *testing.T) {
	for want, s := range map[string]Sits{
		"they lie on it": {},
		"they lie 6 % to the right and 4 % below of it, of the picture's size":                                  {Right: 0.06, Up: -0.04},
		"they lie 5 % to the left and 5 % above of it, of the picture's size, and come 0.6 s late":              {Right: -0.05, Up: 0.05, Late: 600 * time.Millisecond, Least: 500 * time.Millisecond, Most: 700 * time.Millisecond},
		"they lie on it; how late they come can't be told from it":                                              {Late: time.Second, Least: -time.Second, Most: 2 * time.Second},
		"they lie on it once the picture is taken to be turned by 180°, 2 % above of it, of the picture's size": {Turned: 2, Up: 0.02},
		"they lie on it, and come 1.0 s late":                                                                   {Late: time.Second, Least: 500 * time.Millisecond, Most: 1500 * time.Millisecond},
	} {
		if got := s.Words(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// Boxes of a picture that is turned or mirrored are found to be so, whichever way it is, also late ones.
func TestHowAPictureIsTurnedIsFound(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 26))
	all := glimpses(r)
	for _, turned := range AllTurned {
		for _, late := range []time.Duration{0, 600 * time.Millisecond} {
			told := boxes(0, 0, late)
			for i := range told {
				for j, b := range told[i].Boxes {
					p, q := turned.To(Point{b.Left, b.Bottom}), turned.To(Point{b.Right, b.Top})
					told[i].Boxes[j] = Box{Left: min(p.X, q.X), Right: max(p.X, q.X), Bottom: min(p.Y, q.Y), Top: max(p.Y, q.Y)}
				}
			}
			got, ok := Sit(all, told)
			if !ok || got.Turned != turned || got.Off() || (got.Late-late).Abs() > 200*time.Millisecond {
				t.Errorf("%s, %v late: %+v %t", turned.Words(), late, got, ok)
			}
		}
	}
}

package scene

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

func TestCheckRefusesWhatDividesNothing(t *testing.T) {
	good := Line{{-1, 0}, {1, 0}}
	for name, l := range map[string]Line{
		"empty": nil, "one point": {{0, 0}}, "same twice": {{0, 0}, {0, 0}},
		"outside": {{0, 0}, {2, 0}}, "not a number": {{math.NaN(), 0}, {1, 0}},
	} {
		if l.Check() == nil {
			t.Errorf("line %s passes", name)
		}
	}
	if err := good.Check(); err != nil {
		t.Error(err)
	}
	if (Polygon{{0, 0}, {1, 1}, {0.5, 0.5}}).Check() == nil {
		t.Error("an area without area passes")
	}
	if err := (Polygon{{0, 0}, {1, 0}, {0, 1}}).Check(); err != nil {
		t.Error(err)
	}
}

func TestOverlapOfSquareIsIntersection(t *testing.T) {
	square := Polygon{{-0.5, -0.5}, {0.5, -0.5}, {0.5, 0.5}, {-0.5, 0.5}}
	for _, tc := range []struct {
		b    Box
		want float64
	}{
		{Box{-0.1, -0.1, 0.1, 0.1}, 0.04},
		{Box{-1, -1, 1, 1}, 1},
		{Box{0.4, 0.4, 0.9, 0.9}, 0.01},
		{Box{0.6, 0.6, 0.9, 0.9}, 0},
	} {
		if got := square.Overlap(tc.b); math.Abs(got-tc.want) > 1e-9 {
			t.Errorf("Overlap(%v) = %g, want %g", tc.b, got, tc.want)
		}
	}
}

// The clipped area is held against counting random points, for polygons of both
// senses of turn, concave ones included.
func TestOverlapAgreesWithCounting(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	shapes := []Polygon{
		{{-0.8, -0.8}, {0.8, -0.6}, {0.2, 0.7}},
		{{0.2, 0.7}, {0.8, -0.6}, {-0.8, -0.8}},
		{{-0.9, -0.9}, {0.9, -0.9}, {0.9, 0.9}, {0, -0.2}, {-0.9, 0.9}},
	}
	for i, g := range shapes {
		b := Box{-0.5, -0.7, 0.6, 0.4}
		const n = 200000
		hits := 0
		for range n {
			p := Point{b.Left + rnd.Float64()*(b.Right-b.Left), b.Bottom + rnd.Float64()*(b.Top-b.Bottom)}
			if within(g, p) {
				hits++
			}
		}
		want := b.Area() * float64(hits) / n
		if got := g.Overlap(b); math.Abs(got-want) > 0.01 {
			t.Errorf("shape %d: Overlap = %.4f, counting says %.4f", i, got, want)
		}
	}
}

func within(g Polygon, p Point) bool {
	in := false
	for i := range g {
		a, b := g[i], g[(i+1)%len(g)]
		if (a.Y > p.Y) != (b.Y > p.Y) && p.X < (b.X-a.X)*(p.Y-a.Y)/(b.Y-a.Y)+a.X {
			in = !in
		}
	}
	return in
}

func TestSideIsAntisymmetric(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	p := func() Point { return Point{rnd.Float64()*2 - 1, rnd.Float64()*2 - 1} }
	for range 1000 {
		a, b, c := p(), p(), p()
		if Side(a, b, c) != -Side(b, a, c) {
			t.Fatalf("Side(%v,%v,%v) isn't the opposite of its reverse", a, b, c)
		}
	}
	if (Box{-1, -0.5, 1, 0.5}).Anchor() != (Point{0, -0.5}) {
		t.Error("the anchor isn't the middle of the bottom edge")
	}
}

// Edges that cross, touch or run back make an area that isn't one.
func TestASimplePolygon(t *testing.T) {
	p := func(xy ...float64) (g Polygon) {
		for i := 0; i < len(xy); i += 2 {
			g = append(g, Point{xy[i], xy[i+1]})
		}
		return g
	}
	for name, tc := range map[string]struct {
		g    Polygon
		want bool
	}{
		"a triangle":                {p(0, 0, 1, 0, 0, 1), true},
		"a square":                  {p(0, 0, 1, 0, 1, 1, 0, 1), true},
		"with a corner on an edge":  {p(0, 0, 0.5, 0, 1, 0, 1, 1, 0, 1), true},
		"a hollow":                  {p(0, 0, 1, 0, 0.5, 0.5, 1, 1, 0, 1), true},
		"a bow":                     {p(0, 0, 1, 1, 1, 0, 0, 1), false},
		"a corner twice":            {p(0, 0, 1, 0, 1, 0, 0, 1), false},
		"back on itself":            {p(0, 0, 1, 0, 0.5, 0, 0, 1), false},
		"a spike":                   {p(0, 0, 1, 0, 1, 1, 1, 0.5, 0, 1), false},
		"touching itself":           {p(0, 0, 1, 0, 0.5, 1, 0.5, 0, 0, 1), false},
		"the first corner at last":  {p(0, 0, 1, 0, 0, 1, 0, 0), false},
		"two holes at one corner":   {p(0, 0, 0.5, 0.5, 1, 0, 1, 1, 0.5, 0.5, 0, 1), false},
		"a spike at the last edge":  {p(0, 0, 1, 0, 1, 1, 0, 0.5, 0, 1), false},
		"a spike at the first edge": {p(0, 1, 0, 0, 0, 0.5, 1, 1), false},
	} {
		for shift := range tc.g { // from whichever corner, either way round
			turned := append(slices.Clone(tc.g[shift:]), tc.g[:shift]...)
			back := slices.Clone(turned)
			slices.Reverse(back)
			if turned.Simple() != tc.want || back.Simple() != tc.want {
				t.Errorf("%s from corner %d: %v, back %v", name, shift, turned.Simple(), back.Simple())
			}
		}
	}
}

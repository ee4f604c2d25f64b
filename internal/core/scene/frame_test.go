package scene

import (
	"math"
	"math/rand/v2"
	"testing"
)

// A drawing comes back from any frame, of any shape of picture, the same to one part in ten thousand, also where the camera
// keeps whole numbers of ten thousandths.
func TestADrawingComesBackFromAnyFrame(t *testing.T) {
	r := rand.New(rand.NewPCG(24, 9))
	for range 5000 {
		f := []Frame{{}, {10000, 10000}, {1, 1}, {float64(160 + r.IntN(8000)), float64(90 + r.IntN(8000))}}[r.IntN(4)]
		p := Point{2*r.Float64() - 1, 2*r.Float64() - 1}
		there := f.To(p)
		if back := f.From(there); math.Abs(back.X-p.X) > 1e-9 || math.Abs(back.Y-p.Y) > 1e-9 {
			t.Fatalf("%+v: %v comes back as %v", f, p, back)
		}
		if f.Wide == 10000 {
			whole := f.From(Point{math.Round(there.X), math.Round(there.Y)})
			if math.Abs(whole.X-p.X)/2 > 1e-4 || math.Abs(whole.Y-p.Y)/2 > 1e-4 {
				t.Fatalf("in whole numbers %v comes back as %v", p, whole)
			}
		}
		if !f.Standard() && (there.X < 0 || there.X > f.Wide || there.Y < 0 || there.Y > f.High) {
			t.Fatalf("%+v: %v lies outside at %v", f, p, there)
		}
	}
	for f, want := range map[Frame][2]Point{{}: {{-1, 1}, {1, -1}}, {1920, 1080}: {{0, 0}, {1920, 1080}}, {10000, 10000}: {{0, 0}, {10000, 10000}}} {
		if f.To(Point{-1, 1}) != want[0] || f.To(Point{1, -1}) != want[1] {
			t.Errorf("%+v has its corners at %v and %v", f, f.To(Point{-1, 1}), f.To(Point{1, -1}))
		}
	}
}

func TestAFrameIsTold(t *testing.T) {
	for name, x := range map[string]struct {
		all        []Point
		wide, high int
		want       Frame
		ok         bool
	}{
		"nothing":                {nil, 0, 0, Frame{}, true},
		"the standard's":         {[]Point{{-1, 1}, {1, -1}}, 1920, 1080, Frame{}, true},
		"zero alone":             {[]Point{{0, 0}}, 1920, 1080, Frame{}, true},
		"pixels":                 {[]Point{{0, 0}, {1920, 1080}}, 1920, 1080, Frame{1920, 1080}, true},
		"pixels, size not known": {[]Point{{0, 0}, {1920, 1080}}, 0, 0, Frame{10000, 10000}, true},
		"beyond the pixels":      {[]Point{{10, 10}, {1921, 10}}, 1920, 1080, Frame{10000, 10000}, true},
		"ten thousandths":        {[]Point{{10000, 9000}}, 1920, 1080, Frame{10000, 10000}, true},
		"beyond all":             {[]Point{{10001, 1}}, 1920, 1080, Frame{}, false},
		"below":                  {[]Point{{-2, 1}}, 1920, 1080, Frame{}, false},
		"no number":              {[]Point{{math.NaN(), 0}}, 1920, 1080, Frame{}, false},
		"one in, one out":        {[]Point{{0.5, 0.5}, {2, 0}}, 1920, 1080, Frame{1920, 1080}, true},
	} {
		if got, ok := FrameOf(x.all, x.wide, x.high); got != x.want || ok != x.ok {
			t.Errorf("%s: %+v %t", name, got, ok)
		}
	}
}

package scene

import (
	"math"
	"testing"
)

func TestHowTallSomethingIs(t *testing.T) {
	// Someone of 1.8 m is 0.36 high at the bottom of the frame, and 0.09 at row 0.5: a metre is 0.2 and 0.05, and nothing above row 1.
	u := Upright{Middle: 0.1, Rise: -0.1}
	for name, x := range map[string]struct {
		u    Upright
		b    Box
		tall float64
		ok   bool
	}{
		"near":             {u, Box{Bottom: -1, Top: -0.64}, 1.8, true},
		"far":              {u, Box{Bottom: 0.5, Top: 0.59}, 1.8, true},
		"a child":          {u, Box{Bottom: -1, Top: -0.8}, 1, true},
		"on the horizon":   {u, Box{Bottom: 1, Top: 1}, 0, false},
		"not known":        {Upright{}, Box{Bottom: -1, Top: 0}, 0, false},
		"seen from above":  {Upright{Middle: 0.2}, Box{Bottom: 0.3, Top: 0.5}, 1, true},
		"a box of nothing": {u, Box{Bottom: -1, Top: -1}, 0, true},
	} {
		if got, ok := x.u.Tall(x.b); ok != x.ok || math.Abs(got-x.tall) > 1e-9 {
			t.Errorf("%s: %g %t", name, got, ok)
		}
	}
}

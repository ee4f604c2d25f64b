package recording

import (
	"math"
	"math/rand/v2"
	"testing"
)

// What a channel makes goes with its rates, counted or reckoned, whatever its plan; what isn't rescaled stays.
func TestRatesAreRescaled(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	s := Storage{Usable: 4e12, Buffer: 10}
	for range 300 {
		c := Channel{Plan: random(r), Rates: both(Rate{Record: 1000 + 4000*r.Float64(), View: 300, Keys: 700}), Activity: []Activity{counted(randomLine(r))}}
		c.KeptBy = c.Plan
		plain := SumOf(s, []Channel{c}, 0.1)
		by := 0.1 + 2*r.Float64()
		all := Rescale{By: map[Level]float64{Record: by, View: by, Keys: by}}
		if got := SumOf(s, []Channel{c.Rescaled(all, s, 0.1)}, 0.1); !close(got.Bytes, by*plain.Bytes) {
			t.Fatalf("%g of %g is %g", by, plain.Bytes, got.Bytes)
		}
		if got := SumOf(s, []Channel{c.Rescaled(Rescale{}, s, 0.1)}, 0.1); !close(got.Bytes, plain.Bytes) {
			t.Fatalf("nothing rescaled makes %g of %g", got.Bytes, plain.Bytes)
		}
		if plain.Bytes == 0 || plain.Unknown {
			continue
		}
		// What the recorder counted is half as much again as what is reckoned, and stays so.
		kept := s
		kept.KeptDays, c.Kept = 14, 1.5*plain.Bytes
		if got := SumOf(kept, []Channel{c.Rescaled(all, kept, 0.1)}, 0.1); !close(got.Bytes, 1.5*by*plain.Bytes) {
			t.Fatalf("%g of %g kept a day is %g", by, c.Kept, got.Bytes)
		}
	}
	// One level alone; and one that isn't known any more.
	c := Channel{Plan: Always(Mode{Name: "always", Idle: View, Event: View}), Rates: both(Rate{Record: 1000, View: 300})}
	if got, want := SumOf(s, []Channel{c.Rescaled(Rescale{By: map[Level]float64{Record: 9}}, s, 0)}, 0), SumOf(s, []Channel{c}, 0); !close(got.Bytes, want.Bytes) {
		t.Errorf("what isn't kept counts: %g, want %g", got.Bytes, want.Bytes)
	}
	if got := SumOf(s, []Channel{c.Rescaled(Rescale{By: map[Level]float64{View: 0}}, s, 0)}, 0); !got.Unknown {
		t.Errorf("a rate that isn't known makes %+v", got)
	}
}

func close(a, b float64) bool { return math.Abs(a-b) <= 1e-6*max(1, math.Abs(a), math.Abs(b)) }

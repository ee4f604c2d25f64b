package recording

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestOneRateIsShifted(t *testing.T) {
	for _, x := range []struct {
		name        string
		s           Shift
		whole, keys float64
		to, toKeys  float64
		most        bool
	}{
		{"as it is", Shift{Keys: 1, Rest: 1}, 1000, 400, 1000, 400, false},
		{"fewer frames", Shift{Keys: 1, Rest: .25}, 1000, 400, 550, 400, false},
		{"fewer key frames", Shift{Keys: .5, Rest: 1}, 1000, 400, 800, 200, false},
		{"another size: at the most as much", Shift{Keys: 1, Rest: 1, Most: true}, 1000, 400, 1000, 400, true},
		{"another size, beyond its limit", Shift{Keys: 4, Rest: 4, Cap: 2000, Most: true}, 1000, 400, 2000, 1600, true},
		{"key frames not told", Shift{Keys: 1, Rest: .25}, 1000, 0, 1000, 0, true},
		{"key frames not told, both alike", Shift{Keys: .25, Rest: .25}, 1000, 0, 250, 0, false},
		{"on the limit", Shift{Keys: 1, Rest: 1, Cap: 1000}, 1000, 400, 1000, 400, false},
		{"above the limit", Shift{Keys: 1, Rest: 2, Cap: 1200}, 1000, 400, 1200, 400, false},
		{"not told, and above the limit", Shift{Keys: 1, Rest: 2, Cap: 1200}, 1000, 0, 1200, 0, false},
		{"all key frames", Shift{Keys: 3, Rest: 1}, 1000, 1000, 3000, 3000, false},
		{"more key frames than all", Shift{Keys: 1, Rest: 1}, 1000, 1200, 1200, 1200, false}, // counted apart
		{"constant", Shift{Keys: 1, Rest: 1, Cap: 3000, Fixed: true}, 1000, 400, 3000, 400, false},
		{"another codec", Shift{Keys: 1, Rest: 1, Cap: 3000, Unknown: true}, 1000, 400, 3000, 3000, true},
		{"another codec without a limit", Shift{Keys: 1, Rest: 1, Unknown: true}, 1000, 400, 0, 0, true},
		{"not known", Shift{Keys: 1, Rest: 1, Cap: 3000}, 0, 0, 0, 0, false},
	} {
		if to, keys, most := x.s.of(x.whole, x.keys); to != x.to || keys != x.toKeys || most != x.most {
			t.Errorf("%s: %g, %g, %t, want %g, %g, %t", x.name, to, keys, most, x.to, x.toKeys, x.most)
		}
	}
}

// What a channel makes goes with its rates, counted or reckoned, whatever its plan; what isn't rescaled stays.
func TestRatesAreRescaled(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	s := Storage{Usable: 4e12, Buffer: 10}
	for range 300 {
		c := Channel{Plan: random(r), Rates: both(Rate{Record: 1000 + 4000*r.Float64(), View: 300, Keys: 700}), Activity: []Activity{counted(randomLine(r))}}
		c.KeptBy = c.Plan
		plain := SumOf(s, []Channel{c}, 0.1)
		by := 0.1 + 2*r.Float64()
		all := Rescale{Record: &Shift{Keys: by, Rest: by}, View: &Shift{Keys: by, Rest: by}}
		with := func(c Channel, x Rescale, s Storage) float64 {
			c, most := c.Rescaled(x, s, 0.1)
			if most {
				t.Fatal("it is known, and told as a bound")
			}
			return SumOf(s, []Channel{c}, 0.1).Bytes
		}
		if got := with(c, all, s); !close(got, by*plain.Bytes) {
			t.Fatalf("%g of %g is %g", by, plain.Bytes, got)
		}
		if got := with(c, Rescale{}, s); !close(got, plain.Bytes) {
			t.Fatalf("nothing rescaled makes %g of %g", got, plain.Bytes)
		}
		if plain.Bytes == 0 || plain.Unknown {
			continue
		}
		// What the recorder counted is half as much again as what is reckoned, and stays so.
		kept := s
		kept.KeptDays, c.Kept = 14, 1.5*plain.Bytes
		if got := with(c, all, kept); !close(got, 1.5*by*plain.Bytes) {
			t.Fatalf("%g of %g kept a day is %g", by, c.Kept, got)
		}
	}
	// A stream that isn't kept; and one whose rate isn't known any more.
	c := Channel{Plan: Always(Mode{Name: "always", Idle: View, Event: View}), Rates: both(Rate{Record: 1000, View: 300})}
	other, most := c.Rescaled(Rescale{Record: &Shift{Keys: 9, Rest: 9}}, s, 0)
	if got, want := SumOf(s, []Channel{other}, 0), SumOf(s, []Channel{c}, 0); most || !close(got.Bytes, want.Bytes) {
		t.Errorf("what isn't kept counts: %g, want %g", got.Bytes, want.Bytes)
	}
	lost, most := c.Rescaled(Rescale{View: &Shift{Unknown: true}}, s, 0)
	if got := SumOf(s, []Channel{lost}, 0); !got.Unknown || !most {
		t.Errorf("a rate that isn't known makes %+v", got)
	}
}

func close(a, b float64) bool { return math.Abs(a-b) <= 1e-6*max(1, math.Abs(a), math.Abs(b)) }

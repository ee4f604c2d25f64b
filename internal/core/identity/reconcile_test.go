package identity

import (
	"fmt"
	"math/rand"
	"net/netip"
	"testing"
)

// Looking sightings up by what identifies them pairs as comparing each known device
// with each sighting does, whatever is shared, missing or contradicts itself.
func TestReconcileByIndexPairsAsByComparing(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	pick := func(prefix string) string {
		if n := r.Intn(6); n > 0 {
			return fmt.Sprint(prefix, n)
		}
		return ""
	}
	address := func() netip.Addr {
		if n := r.Intn(7); n > 0 {
			return netip.AddrFrom4([4]byte{127, 40, 1, byte(n)})
		}
		return netip.Addr{}
	}
	for round := range 2000 {
		known, seen := make([]Known, r.Intn(7)), make([]Sighting, r.Intn(7))
		for i := range known {
			known[i] = Known{ID: int64(i), Address: address(), UUID: pick("u"), MAC: pick("x"), Serial: pick("x")}
		}
		for j := range seen {
			seen[j] = Sighting{Address: address(), UUID: pick("u"), MAC: pick("x"), Serial: pick("x")}
		}
		want := byComparing(known, seen)
		for i, m := range Reconcile(known, seen)[:len(known)] {
			if m.Seen != want[i] {
				t.Fatalf("round %d, known %+v:\n got %+v\nwant %+v", round, known[i], m.Seen, want[i])
			}
		}
	}
}

// byComparing is the definition: identity first in the order of both lists, then the
// address.
func byComparing(known []Known, seen []Sighting) []*Sighting {
	out, used := make([]*Sighting, len(known)), make([]bool, len(seen))
	for _, fits := range []func(Known, Sighting) bool{
		func(k Known, s Sighting) bool { return agree(k, s) == same },
		func(k Known, s Sighting) bool { return k.Address == s.Address },
	} {
		for i := range known {
			for j := 0; j < len(seen) && out[i] == nil; j++ {
				if !used[j] && fits(known[i], seen[j]) {
					out[i], used[j] = &seen[j], true
				}
			}
		}
	}
	return out
}

package find

import (
	"net/netip"
	"slices"
	"testing"

	"duskyharbor/internal/core/identity"
)

// Who answered in some way and wasn't heard in another is asked again in that one.
func TestWhoIsAskedOnceMore(t *testing.T) {
	a := func(last byte) netip.Addr { return netip.AddrFrom4([4]byte{192, 0, 2, last}) }
	seen := map[netip.Addr]identity.Sighting{
		a(1): {Ways: []identity.Way{identity.Multicast, identity.Directed}},
		a(2): {Ways: []identity.Way{identity.Multicast}},
		a(3): {Ways: []identity.Way{identity.Directed}},
	}
	open := map[netip.Addr][]int{a(1): {80}, a(3): {80}, a(4): {554}} // a(4) answered to nothing yet
	for way, want := range map[identity.Way][]netip.Addr{identity.Multicast: {a(3), a(4)}, identity.Directed: {a(2), a(4)}} {
		got := missed(seen, open, way)
		slices.SortFunc(got, netip.Addr.Compare)
		if !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", way, got, want)
		}
	}
	if got := missed(nil, nil, identity.Multicast); len(got) != 0 {
		t.Errorf("%v", got)
	}
}

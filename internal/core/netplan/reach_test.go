package netplan

import (
	"net/netip"
	"slices"
	"testing"
)

func TestRefuses(t *testing.T) {
	for _, tc := range []struct {
		p                           string
		technician, lead, demoRules bool // whether each is refused
	}{
		{"10.1.2.3/32", false, false, true},
		{"172.16.0.0/16", false, false, true},
		{"172.31.255.0/24", false, false, true},
		{"172.32.0.0/16", true, false, true},
		{"192.168.250.64/32", false, false, true},
		{"192.167.255.0/24", true, false, true},
		{"100.64.0.0/16", false, false, true},
		{"100.128.0.1/32", true, false, true},
		{"169.254.3.0/24", false, false, true},
		{"127.40.1.0/24", false, false, false},
		{"127.255.255.255/32", false, false, false},
		{"203.0.113.9/32", true, false, true},
		{"8.8.0.0/16", true, false, true},
		{"126.0.0.0/7", true, false, true}, // half of it is this machine
	} {
		p := netip.MustParsePrefix(tc.p)
		for _, x := range []struct{ lead, demo, want bool }{{false, false, tc.technician}, {true, false, tc.lead}, {true, true, tc.demoRules}} {
			if got := Refuses(p, x.lead, x.demo); (got != "") != x.want {
				t.Errorf("%s, lead %v, demo %v: %q", p, x.lead, x.demo, got)
			}
		}
	}
}

func TestOutside(t *testing.T) {
	networks := []Network{{Prefix: netip.MustParsePrefix("10.0.1.0/24")}, {Prefix: netip.MustParsePrefix("10.0.2.0/25")}}
	var all, want []netip.Addr
	for _, a := range []string{"10.0.1.7", "10.0.2.130", "192.168.1.1", "10.0.2.130", "10.0.2.127"} {
		all = append(all, netip.MustParseAddr(a))
	}
	want = []netip.Addr{all[1], all[2]}
	if got := Outside(networks, append(all, netip.Addr{})); !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}

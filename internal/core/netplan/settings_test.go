package netplan

import (
	"net/netip"
	"testing"
)

func TestSettingsOfAnAddress(t *testing.T) {
	networks := []Network{{ID: 1, Name: "Quay", Prefix: netip.MustParsePrefix("127.40.1.0/24")}}
	c, err := SettingsAt(networks, at("127.40.1.7"))
	if err != nil || c != (IPConfig{Address: at("127.40.1.7"), Bits: 24, Gateway: at("127.40.1.1")}) {
		t.Errorf("%v %v", c, err)
	}
	for _, bad := range []string{"127.40.2.7", "127.40.1.0", "127.40.1.255"} {
		if c, err := SettingsAt(networks, at(bad)); err == nil {
			t.Errorf("%s: %v", bad, c)
		}
	}
}

func TestWhoTakesAnAddress(t *testing.T) {
	a := at("127.40.1.7")
	for _, tc := range []struct {
		there []At
		free  bool
	}{{nil, true}, {[]At{{1, "Slipway", true}}, true}, {[]At{{2, "Net loft", false}},
		true}, {[]At{{1, "Slipway", true}, {2, "Net loft", true}}, false}} {
		if why := Taken(1, a, tc.there); (why == "") != tc.free {
			t.Errorf("%+v: %q", tc.there, why)
		}
	}
}

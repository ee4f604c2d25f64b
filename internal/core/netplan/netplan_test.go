package netplan

import (
	"errors"
	"net/netip"
	"testing"
)

func TestHostsLeaveOutNetworkAndBroadcast(t *testing.T) {
	for text, want := range map[string]int{"127.40.1.0/24": 254, "127.40.1.77/30": 2, "127.40.1.0/31": 2,
		"127.40.1.1/32": 1, "127.40.160.0/20": 4094} {
		p, err := ParsePrefix(text)
		if err != nil {
			t.Fatal(err)
		}
		hosts := Hosts(p)
		if len(hosts) != want {
			t.Errorf("%s has %d hosts, want %d", text, len(hosts), want)
		}
		for _, h := range hosts {
			if !p.Contains(h) || Reserved(p, h) {
				t.Errorf("%s: %v is no host of it", text, h)
			}
		}
	}
}

func TestParsePrefixRefuses(t *testing.T) {
	for _, text := range []string{"", "127.40.1.0", "127.0.0.0/8", "127.40.0.0/15", "::1/128", "x/24", "127.40.1.0/33"} {
		if _, err := ParsePrefix(text); !errors.Is(err, ErrPrefix) {
			t.Errorf("ParsePrefix(%q): %v", text, err)
		}
	}
	p, err := ParsePrefix(" 127.40.1.9/24 ")
	if err != nil || p.String() != "127.40.1.0/24" {
		t.Errorf("%v %v", p, err)
	}
}

func TestOfTakesTheNarrowest(t *testing.T) {
	ns := []Network{{Name: "wide", Prefix: netip.MustParsePrefix("127.40.0.0/20")},
		{Name: "quay", Prefix: netip.MustParsePrefix("127.40.1.0/24")}}
	if n, ok := Of(ns, netip.MustParseAddr("127.40.1.11")); !ok || n.Name != "quay" {
		t.Errorf("%v %v", n, ok)
	}
	if _, ok := Of(ns, netip.MustParseAddr("127.41.1.11")); ok {
		t.Error("an address outside belongs to a network")
	}
	if !Reserved(ns[1].Prefix, netip.MustParseAddr("127.40.1.255")) || Reserved(ns[1].Prefix, netip.MustParseAddr("127.40.1.254")) {
		t.Error("the broadcast address isn't told apart")
	}
}

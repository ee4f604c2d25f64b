package netplan

import (
	"errors"
	"net/netip"
	"slices"
	"testing"
)

func addrs(all ...string) []netip.Addr {
	out := make([]netip.Addr, len(all))
	for i, a := range all {
		out[i] = netip.MustParseAddr(a)
	}
	return out
}

func TestWhichNameServersADeviceShouldHave(t *testing.T) {
	quay := Network{Name: "quay", Prefix: netip.MustParsePrefix("192.0.2.0/24"), DNS: addrs("192.0.2.53", "192.0.2.54")}
	for _, x := range []struct {
		name string
		has  DNS
		of   Network
		want string // empty: as it is
	}{
		{"none, and some are named", DNS{}, quay, "192.0.2.53, 192.0.2.54"},
		{"another", DNS{Servers: addrs("198.51.100.1")}, quay, "192.0.2.53, 192.0.2.54"},
		{"one of two", DNS{Servers: addrs("192.0.2.53")}, quay, "192.0.2.53, 192.0.2.54"},
		{"one more", DNS{Servers: addrs("192.0.2.53", "192.0.2.54", "192.0.2.55")}, quay, "192.0.2.53, 192.0.2.54"},
		{"the same", DNS{Servers: addrs("192.0.2.53", "192.0.2.54")}, quay, ""},
		{"in another order", DNS{Servers: addrs("192.0.2.54", "192.0.2.53")}, quay, ""},
		{"handed out", DNS{Automatic: true}, quay, ""},
		{"nobody named one", DNS{Servers: addrs("198.51.100.1")}, Network{Name: "hall"}, ""},
	} {
		want, why, other := x.has.Want(x.of)
		switch {
		case other != (x.want != ""):
			t.Errorf("%s: says %q, to be written: %v", x.name, why, other)
		case other && (want.String() != x.want || why == ""):
			t.Errorf("%s: wants %q, says %q", x.name, want, why)
		}
		if _, _, again := want.Want(x.of); again {
			t.Errorf("%s: what was written is to be written again", x.name)
		}
	}
}

func TestNameServersAreReadAsTheyAreTyped(t *testing.T) {
	for _, x := range []struct {
		typed string
		want  []netip.Addr
		wrong bool
	}{
		{"", nil, false},
		{" 192.0.2.53 ", addrs("192.0.2.53"), false},
		{"192.0.2.53, 192.0.2.54", addrs("192.0.2.53", "192.0.2.54"), false},
		{"192.0.2.53;192.0.2.54 192.0.2.55", addrs("192.0.2.53", "192.0.2.54", "192.0.2.55"), false},
		{"192.0.2.53 192.0.2.53", addrs("192.0.2.53"), false},
		{"192.0.2.1 192.0.2.2 192.0.2.3 192.0.2.4", nil, true},
		{"dns.quay", nil, true},
		{"2001:db8::53", nil, true},
	} {
		got, err := ParseServers(x.typed)
		var asked ErrAddress
		if (err != nil) != x.wrong || err != nil && !errors.As(err, &asked) || !slices.Equal(got, x.want) {
			t.Errorf("%q: %v, %v", x.typed, got, err)
		}
	}
}

func FuzzParseDNS(f *testing.F) {
	for _, s := range []string{"", "none", "automatic", "192.0.2.53, 192.0.2.54", "0.0.0.0", ", ,"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := ParseDNS(text)
		if err != nil {
			return
		}
		if again, err := ParseDNS(d.String()); err != nil || again.String() != d.String() || len(d.Servers) > MaxDNS {
			t.Fatalf("%q reads %q, which reads %q (%v)", text, d, again, err)
		}
	})
}

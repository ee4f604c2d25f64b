package netplan

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
)

func at(s string) netip.Addr { return netip.MustParseAddr(s) }

func TestIPConfigsRoundTrip(t *testing.T) {
	for _, s := range []IPConfig{{Address: at("127.40.1.7"), Bits: 24, Gateway: at("127.40.1.1")},
		{Address: at("127.40.1.7"), Bits: 20}, {Automatic: true}} {
		back, err := ParseIPConfig(s.String())
		if err != nil || back != s {
			t.Errorf("%v reads back as %+v, %v", s, back, err)
		}
	}
	for _, bad := range []string{"", "127.40.1.7", "127.40.1.7/40", "::1/64", "127.40.1.7/24 via",
		"127.40.1.7/24 via x", "127.40.1.7/24 via ::1"} {
		if s, err := ParseIPConfig(bad); err == nil {
			t.Errorf("%q is %+v", bad, s)
		}
	}
}

func FuzzParseIPConfig(f *testing.F) {
	for _, s := range []string{"127.40.1.7/24 via 127.40.1.1", "automatic", "1.2.3.4/0", " via "} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseIPConfig(text)
		if err != nil {
			return
		}
		if back, err := ParseIPConfig(s.String()); err != nil || back != s {
			t.Errorf("%q: %+v, %v", text, back, err)
		}
	})
}

func TestMaskAndGateway(t *testing.T) {
	quay := Network{ID: 1, Name: "Quay", Prefix: netip.MustParsePrefix("127.40.1.0/24")}
	named := quay
	named.Gateway = at("127.40.1.254")
	site := []Network{quay, {ID: 2, Name: "Terminal", Prefix: netip.MustParsePrefix("127.40.2.0/24")}}
	for _, tc := range []struct {
		s     IPConfig
		n     Network
		want  string
		means string
	}{
		{IPConfig{Address: at("127.40.1.7"), Bits: 24, Gateway: at("127.40.1.1")}, quay, "", "as its network"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 24}, quay, "", "no gateway is none wrong"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 24, Gateway: at("0.0.0.0")}, quay, "", "none, as some write it"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 16, Gateway: at("127.40.1.1")}, quay, "mask", "it takes Terminal for neighbours"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 23, Gateway: at("127.40.1.1")}, quay, "", "wider than the list, and nobody else is in it"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 25, Gateway: at("127.40.1.1")}, quay, "", "narrower, and it has a gateway to ask"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 28}, quay, "mask", "narrower, without a gateway"},
		{IPConfig{Address: at("127.40.1.200"), Bits: 25, Gateway: at("127.40.1.1")}, quay, "gateway", "its mask doesn't reach it"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 24, Gateway: at("127.40.2.1")}, quay, "gateway", "of another network"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 24, Gateway: at("127.40.1.7")}, quay, "gateway", "itself"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 24, Gateway: at("127.40.1.255")}, quay, "gateway", "the broadcast address"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 24, Gateway: at("127.40.1.1")}, named, "gateway", "another was named"},
		{IPConfig{Address: at("127.40.1.7"), Bits: 24, Gateway: at("127.40.1.254")}, named, "", "as was named"},
		{IPConfig{Automatic: true, Bits: 8}, quay, "", "handed out"},
		{IPConfig{Address: at("127.41.1.7"), Bits: 8}, quay, "", "not in the network: that is told otherwise"},
	} {
		var codes []string
		for _, x := range tc.s.Trouble(tc.n, site) {
			codes = append(codes, x.Code)
		}
		if got := strings.Join(codes, " "); got != tc.want {
			t.Errorf("%v (%s): %q, want %q", tc.s, tc.means, got, tc.want)
		}
		m := tc.s.Mended(tc.n)
		if tc.n.Prefix.Contains(tc.s.Address) && !tc.s.Automatic && len(m.Trouble(tc.n, site)) > 0 || m.Address != tc.s.Address {
			t.Errorf("%v mended is %v", tc.s, m)
		}
	}
}

func TestANetworkIsChecked(t *testing.T) {
	others := []Network{{ID: 1, Name: "Quay", Prefix: netip.MustParsePrefix("127.40.1.0/24")}}
	for _, tc := range []struct {
		n    Network
		says string
	}{
		{Network{ID: 2, Prefix: netip.MustParsePrefix("127.40.2.0/24")}, ""},
		{Network{ID: 1, Prefix: netip.MustParsePrefix("127.40.0.0/16")}, ""}, // itself, made wider
		{Network{Prefix: netip.MustParsePrefix("127.40.0.0/16")}, "overlaps Quay"},
		{Network{Prefix: netip.MustParsePrefix("127.40.1.128/25")}, "overlaps Quay"},
		{Network{Prefix: netip.MustParsePrefix("127.40.2.0/24"), Gateway: at("127.40.1.1")}, "no address of"},
		{Network{Prefix: netip.MustParsePrefix("127.40.2.0/24"), Gateway: at("127.40.2.255")}, "no address of"},
		{Network{Prefix: netip.MustParsePrefix("127.40.2.0/24"), Gateway: at("127.40.2.254")}, ""},
	} {
		if got := tc.n.Check(others); (tc.says == "") != (got == "") || !strings.Contains(got, tc.says) {
			t.Errorf("%+v: %q, want %q", tc.n, got, tc.says)
		}
	}
}

// Whatever is used and expected, no address is given twice, none that is used, the
// gateway's or reserved, and who is expected somewhere free goes there.
func TestPlan(t *testing.T) {
	rnd := rand.New(rand.NewPCG(2, 4))
	networks := []Network{{ID: 1, Name: "Quay", Prefix: netip.MustParsePrefix("127.40.1.0/27")},
		{ID: 2, Name: "Terminal", Prefix: netip.MustParsePrefix("127.40.2.0/28"), Gateway: at("127.40.2.14")}}
	pick := func() netip.Addr {
		n := networks[rnd.IntN(2)].Prefix
		all := Hosts(n)
		return all[rnd.IntN(len(all))]
	}
	for range 400 {
		used, spoken := map[netip.Addr]bool{}, map[netip.Addr]bool{}
		for range rnd.IntN(20) {
			used[pick()] = true
			spoken[pick()] = true
		}
		var movers []Mover
		for i := range rnd.IntN(12) {
			m := Mover{ID: int64(i), From: netip.AddrFrom4([4]byte{127, 40, 250, byte(64 + i)})}
			if rnd.IntN(2) == 0 {
				m.Want = pick()
				spoken[m.Want] = true
			}
			movers = append(movers, m)
		}
		given := map[netip.Addr]bool{}
		for i, m := range Plan(networks, func(a netip.Addr) bool { return used[a] }, func(a netip.Addr) bool { return spoken[a] }, movers) {
			if m.ID != movers[i].ID || m.Why == "" {
				t.Fatalf("%+v", m)
			}
			to := m.To.Address
			if !to.IsValid() {
				continue
			}
			n, ok := Of(networks, to)
			if !ok || used[to] || given[to] || Reserved(n.Prefix,
				to) || m.To.Bits != n.Prefix.Bits() || m.To.Gateway != n.Settings(to).Gateway || to != m.Want && (spoken[to] || to == First(n.Prefix) || to == n.Router()) {
				t.Fatalf("%+v", m)
			}
			given[to] = true
		}
		for _, m := range movers {
			if m.Want.IsValid() && !used[m.Want] && !given[m.Want] {
				t.Fatalf("%s was free and wanted, and nobody got it", m.Want)
			}
		}
	}
	full := Plan(networks[1:], func(netip.Addr) bool { return true }, func(netip.Addr) bool { return false },
		[]Mover{{From: at("127.40.250.64")}})
	if full[0].To.Address.IsValid() || full[0].Why != "no address of Terminal is free" {
		t.Errorf("%+v", full)
	}
}

func TestALaptopBesideADevice(t *testing.T) {
	device := at("127.40.250.64")
	taken := map[netip.Addr]bool{at("127.40.250.254"): true}
	b, ok := ReachFrom(device, func(a netip.Addr) bool { return taken[a] })
	if !ok || b.Address != at("127.40.250.253") || b.Mask != "255.255.255.0" || b.Bits != 24 {
		t.Fatalf("%+v", b)
	}
	for _, command := range []string{b.Linux, b.Windows, b.MacOS} {
		if !strings.Contains(command, b.Address.String()) {
			t.Errorf("%q doesn't give the address", command)
		}
	}
	if _, ok := ReachFrom(device, func(netip.Addr) bool { return true }); ok {
		t.Error("a full network has room")
	}
}

// What waits for another is left alone until that one has moved; of a ring one makes room; and
// plan by plan everyone gets to where it is expected, never onto an address that is held.
func TestPlanPutsExchangedAddressesBack(t *testing.T) {
	networks := []Network{{ID: 1, Name: "Quay", Prefix: netip.MustParsePrefix("127.40.1.0/26")}}
	for name, want := range map[string][]int{"exchanged": {1, 0}, "a ring of three": {1, 2, 0}, "a chain": {1, 2, 9}, "two pairs": {1, 0, 3, 2}, "a ring and who waits for it": {1, 0, 0}} {
		place := func(i int) netip.Addr { return netip.AddrFrom4([4]byte{127, 40, 1, byte(10 + i)}) }
		var movers []Mover
		for i, w := range want {
			movers = append(movers, Mover{ID: int64(i), From: place(i), Want: place(w)})
		}
		spoken := map[netip.Addr]bool{}
		for _, m := range movers {
			spoken[m.Want] = true
		}
		plans := 0
		for ; plans < 6; plans++ {
			held := map[netip.Addr]bool{}
			for _, m := range movers {
				held[m.From] = true
			}
			var left []Mover // those that aren't where they are expected
			for _, m := range movers {
				if m.From != m.Want {
					left = append(left, m)
				}
			}
			moved := 0
			for _, p := range Plan(networks, func(a netip.Addr) bool { return held[a] }, func(a netip.Addr) bool { return spoken[a] }, left) {
				if !p.To.Address.IsValid() {
					if !strings.Contains(p.Why, "waits until") {
						t.Errorf("%s: %+v", name, p)
					}
					continue
				}
				if held[p.To.Address] {
					t.Fatalf("%s: %+v is moved onto a held address", name, p)
				}
				movers[p.ID].From = p.To.Address
				moved++
			}
			if moved == 0 {
				break
			}
		}
		for i, m := range movers {
			if twice := name == "a ring and who waits for it" && i == 2; m.From != m.Want && !twice { // two are expected at one address: one of them can't be
				t.Errorf("%s: after %d plans %d is at %s, expected at %s", name, plans, i, m.From, m.Want)
			}
		}
	}
}

func TestALaptopTakesNoGatewaysAddress(t *testing.T) {
	for _, device := range []string{"192.168.1.64", "192.168.1.253", "10.0.0.1"} {
		l, ok := ReachFrom(netip.MustParseAddr(device), func(netip.Addr) bool { return false })
		if last := l.Address.As4()[3]; !ok || last == 1 || last == 254 || l.Address == l.Device {
			t.Errorf("beside %s the laptop is given %s", device, l.Address)
		}
	}
}

package netplan

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// IPConfig is a device's place on a network: address, mask and gateway, given by hand or
// handed out. A seat that is handed out has the address it was given.
type IPConfig struct {
	Address   netip.Addr `json:"address"`
	Bits      int        `json:"bits"`
	Gateway   netip.Addr `json:"gateway"` // invalid: none
	Automatic bool       `json:"automatic"`
}

// AutomaticText is what a seat reads that is handed out.
const AutomaticText = "automatic"

// String is the canonical text: "192.0.2.7/24 via 192.0.2.1", or "automatic".
func (s IPConfig) String() string {
	if s.Automatic {
		return AutomaticText
	}
	text := fmt.Sprintf("%s/%d", s.Address, s.Bits)
	if s.Gateway.IsValid() {
		text += " via " + s.Gateway.String()
	}
	return text
}

// ErrIPConfig is returned for text that is no seat.
var ErrIPConfig = errors.New("not an address with mask and gateway, as 192.0.2.7/24 via 192.0.2.1")

// ParseIPConfig is the inverse of String.
func ParseIPConfig(text string) (IPConfig, error) {
	if text == AutomaticText {
		return IPConfig{Automatic: true}, nil
	}
	at, via, has := strings.Cut(text, " via ")
	p, err := netip.ParsePrefix(at)
	if err != nil || !p.Addr().Is4() {
		return IPConfig{}, fmt.Errorf("%w: %.60q", ErrIPConfig, text)
	}
	s := IPConfig{Address: p.Addr(), Bits: p.Bits()}
	if has {
		if s.Gateway, err = netip.ParseAddr(via); err != nil || !s.Gateway.Is4() {
			return IPConfig{}, fmt.Errorf("%w: %.60q", ErrIPConfig, text)
		}
	}
	return s, nil
}

// Trouble is what is wrong with a seat in its network.
type Trouble struct{ Code, Words, Sentence string }

// Trouble says what of the seat doesn't fit the network that it is in: another mask, a
// gateway that it can't reach or that is itself. A seat that is handed out isn't judged.
func (s IPConfig) Trouble(p netip.Prefix) []Trouble {
	if s.Automatic || !p.Contains(s.Address) {
		return nil
	}
	var out []Trouble
	if s.Bits != p.Bits() {
		out = append(out, Trouble{"mask", "wrong mask",
			fmt.Sprintf("Its mask is /%d and its network's /%d: it takes other addresses for its neighbours than it has.", s.Bits, p.Bits())})
	}
	if g := s.Gateway; g.IsValid() && !g.IsUnspecified() {
		switch {
		case g == s.Address:
			out = append(out, Trouble{"gateway", "gateway", "Its gateway is its own address: nothing outside its network reaches it."})
		case !p.Contains(g), Reserved(p, g):
			out = append(out, Trouble{"gateway", "gateway",
				fmt.Sprintf("Its gateway %s isn't an address of its network %s: nothing outside its network reaches it.", g, p)})
		}
	}
	return out
}

// Mended is the seat with mask and gateway of its network: a gateway that fits stays,
// another becomes the network's first address.
func (s IPConfig) Mended(p netip.Prefix) IPConfig {
	s.Bits = p.Bits()
	if g := s.Gateway; g.IsValid() && (!p.Contains(g) || Reserved(p, g) || g == s.Address) {
		s.Gateway = First(p)
		if s.Gateway == s.Address {
			s.Gateway = netip.Addr{}
		}
	}
	return s
}

// First is the first address of p that a device can have: by custom the gateway's.
func First(p netip.Prefix) netip.Addr {
	if p.Bits() >= 31 {
		return p.Masked().Addr()
	}
	return p.Masked().Addr().Next()
}

// Free lists at most n free addresses of p in order, for devices by hand: none that is
// used, the gateway's (first) or reserved.
func Free(p netip.Prefix, used func(netip.Addr) bool, n int) []netip.Addr {
	var out []netip.Addr
	for _, a := range Hosts(p) {
		if len(out) >= n {
			break
		}
		if !used(a) && a != First(p) {
			out = append(out, a)
		}
	}
	return out
}

// Mover is a device that must move.
type Mover struct {
	ID   int64
	From netip.Addr
	Want netip.Addr // expected; invalid: none
}

// Move is where a mover goes; To is invalid where nothing is free, and Why says so.
type Move struct {
	Mover
	To  IPConfig
	Why string
}

// Plan gives each mover an address of the site: the one it is expected at where that
// is free, else the next free one of that network, or of the first network for one that
// nobody expects anywhere. No address is given twice, none that is used, and none that is
// spoken for, by being expected, but to the mover that is expected there.
func Plan(networks []Network, used, spoken func(netip.Addr) bool, movers []Mover) []Move {
	given := map[netip.Addr]bool{}
	for _, m := range movers {
		given[m.From] = true
	}
	taken := func(a netip.Addr) bool { return given[a] || used(a) }
	out := make([]Move, len(movers))
	for i, m := range movers { // those with a wish choose first
		out[i].Mover = m
		if n, ok := Of(networks, m.Want); ok && m.Want.IsValid() && !taken(m.Want) && !Reserved(n.Prefix, m.Want) {
			out[i].To = IPConfig{Address: m.Want, Bits: n.Prefix.Bits(), Gateway: First(n.Prefix)}
			out[i].Why = "expected there"
			given[m.Want] = true
		}
	}
	for i, m := range movers {
		if out[i].To.Address.IsValid() || len(networks) == 0 {
			continue
		}
		n, ok := Of(networks, m.Want)
		if !ok {
			n = networks[0]
		}
		free := Free(n.Prefix, func(a netip.Addr) bool { return taken(a) || spoken(a) }, 1)
		if len(free) == 0 {
			out[i].Why = "no address of " + n.Name + " is free"
			continue
		}
		out[i].To = IPConfig{Address: free[0], Bits: n.Prefix.Bits(), Gateway: First(n.Prefix)}
		out[i].Why = "next free in " + n.Name
		given[free[0]] = true
	}
	return out
}

// Laptop is how a laptop reaches a device at an address outside the site's networks.
type Laptop struct {
	Device  netip.Addr
	Address netip.Addr // for the laptop
	Mask    string     // dotted
	Bits    int
	Linux   string
	Windows string
	MacOS   string
}

// ReachFrom gives the laptop an address beside a device: in the device's own /24 (most
// makes ship that), not the device, not the gateway's, not in use.
func ReachFrom(device netip.Addr, used func(netip.Addr) bool) (Laptop, bool) {
	p, err := device.Prefix(24)
	if err != nil {
		return Laptop{}, false
	}
	hosts := Hosts(p)
	for i := len(hosts) - 1; i >= 0; i-- { // from the end: devices are mostly at the beginning
		a := hosts[i]
		if a == device || a == First(p) || used(a) {
			continue
		}
		b := Laptop{Device: device, Address: a, Mask: "255.255.255.0", Bits: 24}
		b.Linux = fmt.Sprintf("sudo ip addr add %s/24 dev eth0", a)
		b.Windows = fmt.Sprintf(`netsh interface ipv4 add address "Ethernet" %s 255.255.255.0`, a)
		b.MacOS = fmt.Sprintf("sudo ifconfig en0 alias %s 255.255.255.0", a)
		return b, true
	}
	return Laptop{}, false
}

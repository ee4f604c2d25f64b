package netplan

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// IPConfig is a device's place on a network: address, mask and gateway, given by hand or
// handed out. Settings that are handed out have the address it was given.
type IPConfig struct {
	Address   netip.Addr `json:"address"`
	Bits      int        `json:"bits"`
	Gateway   netip.Addr `json:"gateway"` // invalid: none
	Automatic bool       `json:"automatic"`
}

// automaticText is what settings read that are handed out.
const automaticText = "automatic"

// String is the canonical text: "192.0.2.7/24 via 192.0.2.1", or "automatic".
func (s IPConfig) String() string {
	if s.Automatic {
		return automaticText
	}
	text := fmt.Sprintf("%s/%d", s.Address, s.Bits)
	if s.Gateway.IsValid() {
		text += " via " + s.Gateway.String()
	}
	return text
}

// ErrIPConfig is returned for text that is no address settings.
var ErrIPConfig = errors.New("not an address with mask and gateway, as 192.0.2.7/24 via 192.0.2.1")

// ParseIPConfig is the inverse of String.
func ParseIPConfig(text string) (IPConfig, error) {
	if text == automaticText {
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

// Trouble is what is wrong with address settings in its network.
type Trouble struct{ Code, Words, Sentence string }

// Trouble says what of the settings keeps the device from reaching others, or others from
// reaching it: a gateway that is itself, that its mask doesn't reach, or another than was
// named for its network n; a mask that takes one of the site's other networks for
// neighbours, or that leaves part of its own out without a gateway to ask. Another mask
// than the listed prefix is none by itself: a list may be cut otherwise than the wire.
// Settings that are handed out aren't judged.
func (s IPConfig) Trouble(n Network, site []Network) []Trouble {
	if s.Automatic || !n.Prefix.Contains(s.Address) || s.Bits < 1 || s.Bits > 32 {
		return nil
	}
	var out []Trouble
	add := func(code, words, sentence string, args ...any) {
		out = append(out, Trouble{code, words, fmt.Sprintf(sentence, args...)})
	}
	own := netip.PrefixFrom(s.Address, s.Bits).Masked()
	g := s.Gateway
	has := g.IsValid() && !g.IsUnspecified()
	if s.Bits < n.Prefix.Bits() {
		for _, o := range site {
			if !o.Prefix.Overlaps(n.Prefix) && own.Overlaps(o.Prefix) {
				add("mask", "wrong mask", "Its mask is /%d and its network's /%d: it takes %s (%s) for its neighbours and never asks its gateway for them.",
					s.Bits, n.Prefix.Bits(), o.Name, o.Prefix)
				own = n.Prefix // where its gateway must be, once the mask is right
				break
			}
		}
	}
	if s.Bits > n.Prefix.Bits() && !has {
		add("mask", "wrong mask", "Its mask is /%d and its network's /%d: it reaches nothing of it beyond %s, and has no gateway to ask.",
			s.Bits, n.Prefix.Bits(), own)
	}
	switch {
	case !has:
	case g == s.Address:
		add("gateway", "gateway", "Its gateway is its own address: nothing outside its network reaches it.")
	case !own.Contains(g), Reserved(own, g):
		add("gateway", "gateway", "Its gateway %s isn't an address of %s, which it reaches by itself: nothing outside its network reaches it.", g, own)
	case n.Gateway.IsValid() && g != n.Gateway && s.Address != n.Gateway:
		add("gateway", "gateway", "Its gateway is %s, and that of %s is %s.", g, n.Name, n.Gateway)
	}
	return out
}

// Mended is the settings with mask and gateway of its network: without a gateway it stays
// so, unless one was named for the network.
func (s IPConfig) Mended(n Network) IPConfig {
	s.Bits = n.Prefix.Bits()
	if g := s.Gateway; g.IsValid() && (n.Gateway.IsValid() || !n.Prefix.Contains(g) || Reserved(n.Prefix, g) || g == s.Address) {
		s.Gateway = n.Router()
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
// used, the gateway's, the first (by custom a gateway's) or reserved.
func Free(of Network, used func(netip.Addr) bool, n int) []netip.Addr {
	var out []netip.Addr
	for _, a := range Hosts(of.Prefix) {
		if len(out) >= n {
			break
		}
		if !used(a) && a != First(of.Prefix) && a != of.Router() {
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
// spoken for, by being expected, but to the mover that is expected there. A mover that is
// expected where another one still is waits for that one: its To is invalid until the next
// plan. Where all of a ring wait for each other, as two whose addresses were exchanged, one
// makes room at a free address.
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
			out[i].To = n.Settings(m.Want)
			out[i].Why = "expected there"
			given[m.Want] = true
		}
	}
	waits := waiting(movers, func(i int) bool { return out[i].To.Address.IsValid() })
	for i, m := range movers {
		if out[i].To.Address.IsValid() || len(networks) == 0 {
			continue
		}
		if held := waits[i]; held == waitsFor {
			out[i].Why = fmt.Sprintf("waits until %s is free: what is there moves first", m.Want)
			continue
		}
		n, ok := Of(networks, m.Want)
		if !ok {
			n = networks[0]
		}
		free := Free(n, func(a netip.Addr) bool { return taken(a) || spoken(a) }, 1)
		if len(free) == 0 {
			out[i].Why = "no address of " + n.Name + " is free"
			continue
		}
		out[i].To = n.Settings(free[0])
		if out[i].Why = "next free in " + n.Name; waits[i] == makesRoom {
			out[i].Why = fmt.Sprintf("makes room: addresses were exchanged, and it goes to %s after", m.Want)
		}
		given[free[0]] = true
	}
	return out
}

// wait is how a mover stands to the others.
type wait int

const (
	goes      wait = iota // nobody is in its way
	waitsFor              // another mover is where it is expected
	makesRoom             // it is the one of a ring that goes first
)

// waiting says of each mover that isn't placed yet whether it waits for another to move away.
func waiting(movers []Mover, placed func(int) bool) []wait {
	at := map[netip.Addr]int{}
	for i, m := range movers {
		at[m.From] = i
	}
	// holder is who is in the way of i; −1: nobody who moves.
	holder := func(i int) int {
		h, ok := at[movers[i].Want]
		if !ok || h == i || placed(i) {
			return -1
		}
		return h
	}
	out := make([]wait, len(movers))
	for i := range movers {
		if holder(i) < 0 {
			continue
		}
		out[i] = waitsFor
		first := i
		h, steps := holder(i), 0
		for ; h >= 0 && h != i && steps < len(movers); steps++ {
			first = min(first, h)
			h = holder(h)
		}
		if h == i && first == i { // a ring, told by its first
			out[i] = makesRoom
		}
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
		if a == device || a == First(p) || i == len(hosts)-1 || used(a) { // gateways are first or last
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

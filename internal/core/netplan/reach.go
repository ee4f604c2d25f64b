package netplan

import (
	"fmt"
	"net/netip"
)

// shared is the address space of carriers, RFC 6598 section 7: nobody's from outside.
var shared = netip.MustParsePrefix("100.64.0.0/10")

// public says whether an address is anybody's on the internet: none of private networks
// (RFC 1918), of this machine, of one link (RFC 3927) or of a carrier (RFC 6598).
func public(a netip.Addr) bool {
	a = a.Unmap()
	return !a.IsPrivate() && !a.IsLoopback() && !a.IsLinkLocalUnicast() && !shared.Contains(a)
}

// loopback is all that a demo dials.
var loopback = netip.MustParsePrefix("127.0.0.0/8")

// Refuses says why whoever asks may not have addresses of p dialled, empty where they may: a
// demo dials this machine alone, and what is public needs a lead.
func Refuses(p netip.Prefix, lead, demo bool) string {
	p = p.Masked()
	what := p.String()
	if p.IsSingleIP() {
		what = p.Addr().String()
	}
	switch {
	case demo && !(loopback.Contains(p.Addr()) && p.Bits() >= loopback.Bits()):
		return fmt.Sprintf("%s is outside 127.0.0.0/8, and a demo dials this machine alone.", what)
	case !lead && (public(p.Addr()) || public(last(p))):
		return fmt.Sprintf("%s is public, it may be anybody's: a lead of the site has to add it.", what)
	}
	return ""
}

// last is the highest address of a prefix.
func last(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < 8*len(b); i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// Outside lists the addresses that are in none of the networks, each once, in their order.
func Outside(networks []Network, all []netip.Addr) (out []netip.Addr) {
	met := map[netip.Addr]bool{}
	for _, a := range all {
		if _, ok := Of(networks, a); !ok && a.IsValid() && !met[a] {
			met[a] = true
			out = append(out, a)
		}
	}
	return out
}

package netplan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// MaxDNS is how many name servers a network has at most.
const MaxDNS = 3

// DNS is where a device asks for the addresses of names: servers given by hand, or handed
// out with its address. None and by hand is a device that knows no names.
type DNS struct {
	Servers   []netip.Addr `json:"servers"`
	Automatic bool         `json:"automatic"`
}

// noDNSText is what a device without a name server reads.
const noDNSText = "none"

// String is the canonical text: "192.0.2.53, 192.0.2.54", "none" or "automatic".
func (d DNS) String() string {
	if d.Automatic {
		return automaticText
	}
	return cmp.Or(DNSText(d.Servers), noDNSText)
}

// DNSText lists name servers with commas; empty for none.
func DNSText(servers []netip.Addr) string {
	words := make([]string, len(servers))
	for i, a := range servers {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}

// ParseDNS is the inverse of String. Every error is an ErrAddress.
func ParseDNS(text string) (DNS, error) {
	switch text {
	case automaticText:
		return DNS{Automatic: true}, nil
	case noDNSText:
		return DNS{}, nil
	}
	all, err := ParseServers(text)
	return DNS{Servers: all}, err
}

// ParseServers reads name servers as a person types them: at most MaxDNS addresses with
// commas or spaces between. Empty for none, each once. Every error is an ErrAddress.
func ParseServers(text string) ([]netip.Addr, error) {
	var out []netip.Addr
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' || r == ' ' || r == '\t' }) {
		a, err := ParseAddress(word)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	if len(out) > MaxDNS {
		return nil, ErrAddress(fmt.Sprintf("A network has at most %d name servers; these are %d.", MaxDNS, len(out)))
	}
	return out, nil
}

// Want is the name servers that a device of network n should have and why: where some were
// named for the network, and the device has by hand none or others. The order is the
// device's own affair; servers that are handed out aren't judged.
func (d DNS) Want(n Network) (want DNS, why string, other bool) {
	if len(n.DNS) == 0 || d.Automatic || same(d.Servers, n.DNS) {
		return d, "", false
	}
	want = DNS{Servers: n.DNS}
	if len(d.Servers) == 0 {
		return want, fmt.Sprintf("It has no name server, and that of %s is %s: what it is told by name, as a time server, it doesn't find.", n.Name, want), true
	}
	return want, fmt.Sprintf("Its name server is %s, and that of %s is %s.", d, n.Name, want), true
}

// same says whether two lists hold the same addresses, in any order.
func same(a, b []netip.Addr) bool {
	in := func(all []netip.Addr) func(netip.Addr) bool {
		return func(x netip.Addr) bool { return !slices.Contains(all, x) }
	}
	return !slices.ContainsFunc(a, in(b)) && !slices.ContainsFunc(b, in(a))
}

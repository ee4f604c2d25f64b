// Package netplan knows a site's networks: their prefixes, which addresses of
// them are asked, and what an address is for.
package netplan

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// maxAddresses is the most addresses one prefix is swept for (a /16).
const maxAddresses = 65536

// widest is the shortest mask of a prefix that is swept.
const widest = 16

// ErrPrefix is returned for text that is no IPv4 prefix of a size that is swept.
var ErrPrefix = errors.New("not an IPv4 network of at most 65,536 addresses (a /16), as 192.0.2.0/24")

// Network is one prefix of a site.
type Network struct {
	ID         int64
	Name       string
	Prefix     netip.Prefix
	Gateway    netip.Addr   // that a person named; invalid: its first address, by custom
	TimeServer netip.Addr   // that its clocks take their time from; invalid: as the site asks
	DNS        []netip.Addr // its name servers, at most MaxDNS; none: nobody named one, and what devices have isn't judged
}

// Router is the network's gateway, as named or by custom.
func (n Network) Router() netip.Addr {
	if n.Gateway.IsValid() {
		return n.Gateway
	}
	return First(n.Prefix)
}

// Settings are a device's settings at an address of the network.
func (n Network) Settings(a netip.Addr) IPConfig {
	s := IPConfig{Address: a, Bits: n.Prefix.Bits(), Gateway: n.Router()}
	if s.Gateway == a {
		s.Gateway = netip.Addr{}
	}
	return s
}

// Check says what is wrong with a network that is to be one of a site's: beside others (but
// the one with its own number), it may overlap none, and its gateway is an address of it
// that a device can have. Empty where nothing is.
func (n Network) Check(others []Network) string {
	for _, o := range others {
		if o.ID != n.ID && o.Prefix.Overlaps(n.Prefix) {
			return fmt.Sprintf("%s overlaps %s (%s): an address belongs to one network.", n.Prefix, o.Name, o.Prefix)
		}
	}
	if g := n.Gateway; g.IsValid() && (!n.Prefix.Contains(g) || Reserved(n.Prefix, g)) {
		return fmt.Sprintf("The gateway %s is no address of %s that a device can have.", g, n.Prefix)
	}
	return ""
}

// ParsePrefix reads an IPv4 prefix and masks it to its network address.
func ParsePrefix(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(strings.TrimSpace(text))
	if err != nil || !p.Addr().Is4() || p.Bits() < widest {
		return netip.Prefix{}, fmt.Errorf("%w: %q", ErrPrefix, text)
	}
	return p.Masked(), nil
}

// Hosts lists the addresses of p that a device can have: all but the network and
// broadcast address, or all of a /31 and /32.
func Hosts(p netip.Prefix) []netip.Addr {
	p = p.Masked()
	var out []netip.Addr
	for a := p.Addr(); p.Contains(a) && len(out) < maxAddresses; a = a.Next() {
		out = append(out, a)
	}
	if p.Bits() < 31 && len(out) > 2 {
		out = out[1 : len(out)-1]
	}
	return out
}

// ProbeLimit is how long one port of an address is probed, at the first try, and
// probesAtOnce how many are at once.
const (
	ProbeLimit   = 300 * time.Millisecond
	probesAtOnce = 1024
)

// LookLimit is how long a look at a prefix may ask, by how many ports each of its addresses
// is knocked at: a minute and a half, and what silence costs at every knock.
func LookLimit(p netip.Prefix, ports int) time.Duration {
	probes := ports << (32 - max(p.Bits(), widest))
	return 90*time.Second + time.Duration(probes/probesAtOnce)*ProbeLimit
}

// LongestLook is LookLimit of the widest prefix with all further ports.
func LongestLook() time.Duration {
	return LookLimit(netip.PrefixFrom(netip.IPv4Unspecified(), widest), len(portMeans)+morePorts)
}

// Reserved says whether a is p's network or broadcast address.
func Reserved(p netip.Prefix, a netip.Addr) bool {
	if p.Bits() >= 31 || !p.Contains(a) {
		return false
	}
	return a == p.Masked().Addr() || !p.Contains(a.Next())
}

// Of finds the network that holds an address, the narrowest where several do.
func Of(networks []Network, a netip.Addr) (Network, bool) {
	best, ok := Network{}, false
	for _, n := range networks {
		if n.Prefix.Contains(a) && (!ok || n.Prefix.Bits() > best.Prefix.Bits()) {
			best, ok = n, true
		}
	}
	return best, ok
}

package discovery

import (
	"net"
	"net/netip"
	"slices"
)

// Local lists the IPv4 networks that this machine's interfaces are on, loopback left out.
// One that is wider than bits is told as the part of that size which the machine's own
// address is in.
func Local(bits int) ([]netip.Prefix, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	var out []netip.Prefix
	for _, i := range all {
		addrs, err := i.Addrs()
		if err != nil || i.Flags&net.FlagUp == 0 || i.Flags&net.FlagLoopback != 0 {
			continue
		}
		for _, a := range addrs {
			in, ok := a.(*net.IPNet)
			if !ok {
				continue
			}
			ip, ok := netip.AddrFromSlice(in.IP)
			if ip = ip.Unmap(); !ok || !ip.Is4() {
				continue
			}
			ones, _ := in.Mask.Size()
			p, err := ip.Prefix(max(ones, bits))
			if err == nil && ones < 31 && !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	return out, nil
}

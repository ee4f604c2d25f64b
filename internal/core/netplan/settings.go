package netplan

import (
	"fmt"
	"net/netip"
)

// SettingsAt are a device's settings at an address of the site's networks: mask and
// gateway are its network's. Every error is an ErrAddress.
func SettingsAt(networks []Network, a netip.Addr) (IPConfig, error) {
	n, ok := Of(networks, a)
	if !ok || Reserved(n.Prefix, a) {
		return IPConfig{}, ErrAddress(fmt.Sprintf("%s is no address of the site's networks that a device can have.", a))
	}
	return n.Settings(a), nil
}

// At is a device at an address.
type At struct {
	ID     int64
	Place  string
	Answer bool // it answered there at the last look
}

// Taken says why a device can't be given an address, by who is known to be there: another
// that answers. Empty where nobody else does.
func Taken(device int64, a netip.Addr, there []At) string {
	for _, x := range there {
		if x.ID != device && x.Answer {
			return fmt.Sprintf("%s answers at %s: give another address.", x.Place, a)
		}
	}
	return ""
}

package netplan

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"
)

// ErrAddress says why a text names no address that a device can have.
type ErrAddress string

// Error is a sentence for the person.
func (e ErrAddress) Error() string { return string(e) }

// maxAddress is how long a text may be that names an address, in bytes.
const maxAddress = 512

// ParseAddress reads an IPv4 address that a device can have, or the one that an rtsp://
// or http:// address names. Every error is an ErrAddress.
func ParseAddress(text string) (netip.Addr, error) {
	text = strings.TrimSpace(text)
	if len(text) > maxAddress {
		return netip.Addr{}, ErrAddress(fmt.Sprintf("That is no address: %.60q…", text))
	}
	host := text
	if strings.Contains(text, "://") {
		u, err := url.Parse(text)
		if err != nil {
			return netip.Addr{}, ErrAddress(fmt.Sprintf("That is no address: %.60q.", text))
		}
		host = u.Hostname()
	}
	a, err := netip.ParseAddr(host)
	if err != nil || !a.Is4() || a.IsUnspecified() || a.IsMulticast() || a == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
		return netip.Addr{}, ErrAddress(fmt.Sprintf("Give an IPv4 address as 192.0.2.7, or a stream's address as rtsp://192.0.2.7/main; %.60q is neither.", text))
	}
	return a, nil
}

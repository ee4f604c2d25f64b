// Package ntp asks time servers what time it is.
package ntp

import (
	"net/netip"
	"time"

	"github.com/beevik/ntp"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/device/dial"
)

// Ask bounds how far the server's clock is ahead of this one: its measured offset
// with half the round trip on either side (RFC 5905, section 8).
func Ask(server netip.Addr) (clock.Offset, error) {
	r, err := ntp.QueryWithOptions(server.String(), ntp.QueryOptions{Timeout: 2 * time.Second})
	if err == nil {
		err = r.Validate()
	}
	if err != nil {
		return clock.Offset{}, &dial.Error{Tried: "NTP", On: server.String(), Kind: dial.ErrUnreachable, Says: dial.Plain(err)}
	}
	return clock.Offset{Low: r.ClockOffset - r.RTT/2, High: r.ClockOffset + r.RTT/2}, nil
}

// Package ntp asks time servers what time it is.
package ntp

import (
	"context"
	"net"
	"time"

	"github.com/beevik/ntp"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/device/dial"
)

// Port of NTP; ONVIF gives it no other.
const Port = 123

const askLimit = 2 * time.Second

// Ask bounds how far the server's clock is ahead of this one: its measured offset
// with half the round trip on either side (RFC 5905, section 8).
func Ask(ctx context.Context, server dial.Host) (clock.Offset, error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	r, err := ntp.QueryWithOptions(server.Addr.String(), ntp.QueryOptions{Timeout: askLimit,
		Dialer: func(string, string) (net.Conn, error) { return server.Packets(ctx, Port) }})
	if err == nil {
		err = r.Validate()
	}
	if err != nil {
		return clock.Offset{}, &dial.Error{Tried: "NTP", On: server.Addr.String(), Kind: dial.ErrUnreachable, Says: dial.Plain(err)}
	}
	return clock.Offset{Low: r.ClockOffset - r.RTT/2, High: r.ClockOffset + r.RTT/2}, nil
}

package page

import (
	"context"
	"fmt"
	"net/http"
	"sync/atomic"

	"github.com/icholy/digest"

	"duskyharbor/internal/device/dial"
)

// maxPicture is how large a picture may be, in bytes.
const maxPicture = 4 << 20

// Pictures fetches pictures from a device's web page, by HTTP Digest.
type Pictures struct {
	host   dial.Host
	base   string
	plain  *http.Client
	signed *http.Client
	guard  dial.Guard
	sent   atomic.Bool
}

// NewPictures makes a client; try stands before the account. Without a user none is sent.
func NewPictures(host dial.Host, port int, username, password string, try dial.Try) *Pictures {
	p := &Pictures{host: host, base: fmt.Sprintf("http://%s:%d", host.Addr, port), plain: host.Client(new(string)), guard: dial.Guard{Try: try}}
	p.signed = &http.Client{CheckRedirect: p.plain.CheckRedirect, Transport: &digest.Transport{Username: username, Password: password,
		Transport: dial.Carrier(p.plain.Transport, false, &p.sent)}}
	return p
}

// Close lets idle connections go.
func (p *Pictures) Close() { p.plain.CloseIdleConnections() }

// Get fetches a picture: bytes that must still be checked. Errors are of the kinds of dial.
func (p *Pictures) Get(ctx context.Context, path string) ([]byte, error) {
	var data []byte
	on := p.host.Addr.String()
	err := p.guard.Do(ctx, func() (bool, error) {
		if !p.guard.Took() {
			p.sent.Store(false)
		}
		res, body, err := getUpTo(ctx, p.signed, p.base+path, maxPicture)
		switch {
		case err != nil:
		case dial.LockedFor(res) > 0:
			err = dial.LockedError(res, "its picture", on)
		case res.StatusCode == http.StatusUnauthorized, res.StatusCode == http.StatusForbidden:
			err = &dial.Error{Tried: "its picture", On: on, Kind: dial.ErrNotAuthorised, Says: fmt.Sprintf("HTTP %d", res.StatusCode)}
		case res.StatusCode != http.StatusOK:
			err = &dial.Error{Tried: "its picture", On: on, Kind: dial.ErrRefused, Says: fmt.Sprintf("HTTP %d", res.StatusCode), Beyond: true}
		}
		data = body
		return p.sent.Load(), err
	})
	if err != nil {
		return nil, err
	}
	return data, nil
}

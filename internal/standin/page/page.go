// Package page is a stand-in for what answers on a network and is neither camera nor
// recorder: a web page that says what it is.
package page

import (
	"context"
	"io"
	"net/http"
	"net/netip"
	"time"

	"duskyharbor/internal/standin/wire"
)

// Port of the page.
const Port = 8080

// Serve shows a page called name at an address until ctx ends.
func Serve(ctx context.Context, at netip.Addr, name string) error {
	l, err := wire.Listen(ctx, netip.AddrPortFrom(at, Port).String())
	if err != nil {
		return err
	}
	srv := &http.Server{ReadHeaderTimeout: 5 * time.Second, ErrorLog: wire.Silent,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/" {
				http.NotFound(w, r)
				return
			}
			_, _ = io.WriteString(w, "<!doctype html><title>"+wire.Esc(name)+"</title><h1>"+wire.Esc(name)+"</h1>")
		})}
	go func() { _ = srv.Serve(l) }()
	go func() { <-ctx.Done(); _ = srv.Close() }()
	return nil
}

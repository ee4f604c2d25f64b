package camera

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/standin/wire"
)

// up brings the camera onto the network at the address it has.
func (c *Camera) up() error {
	ctx, stop := context.WithCancel(c.ctx)
	at := c.At()
	control := http.NewServeMux()
	control.HandleFunc("POST /walk", c.walk)
	control.HandleFunc("POST /clock", c.setSkew)
	control.HandleFunc("POST /light", c.setLight)
	control.HandleFunc("GET /heard", c.heard)
	control.HandleFunc("POST /certificate", func(w http.ResponseWriter, _ *http.Request) {
		c.change(func(m *memory) { m.Cert = wire.KeyPair{} })
		w.WriteHeader(http.StatusNoContent)
		_ = http.NewResponseController(w).Flush() // the answer goes before the camera does
		c.leave(0)
	})
	ports := map[int]http.Handler{HTTPPort: c.web(), ControlPort: control}
	if c.cfg.Manners.TLS {
		delete(ports, HTTPPort)
		ports[tlsPort] = c.web()
	}
	if c.cfg.Manners.RTSPOnly {
		delete(ports, HTTPPort)
	}
	if c.cfg.Quiet {
		delete(ports, ControlPort)
	}
	err := c.listen(ctx, at, ports)
	if err == nil {
		err = c.serveRTSP(ctx, at)
	}
	if err == nil && !c.cfg.Manners.RTSPOnly && !c.cfg.Manners.NoONVIF {
		err = c.serveDiscovery(ctx, at)
	}
	if err != nil {
		stop()
		return err
	}
	c.mu.Lock()
	c.away, c.present = stop, ctx
	c.mu.Unlock()
	for _, p := range c.profiles() {
		c.castAnew(p)
	}
	return nil
}

// listenTCP listens at an address of the camera. One behind a recorder's port is spoken to
// by the recorder alone: whoever else calls is told nothing.
func (c *Camera) listenTCP(ctx context.Context, at netip.AddrPort) (net.Listener, error) {
	l, err := wire.Listen(ctx, at.String())
	if err != nil || !c.cfg.Manners.Behind.IsValid() {
		return l, err
	}
	return wired{l, c.cfg.Manners.Behind}, nil
}

// wired takes connections from one address; others are closed and told nothing.
type wired struct {
	net.Listener
	from netip.Addr
}

// Accept returns the next connection from the address.
func (w wired) Accept() (net.Conn, error) {
	for {
		conn, err := w.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if at, perr := netip.ParseAddrPort(conn.RemoteAddr().String()); perr == nil && at.Addr().Unmap() == w.from {
			return conn, nil
		}
		_ = conn.Close()
	}
}

func (c *Camera) listen(ctx context.Context, at netip.Addr, ports map[int]http.Handler) error {
	for port, h := range ports {
		l, err := c.listenTCP(ctx, netip.AddrPortFrom(at, uint16(port)))
		if err != nil {
			return err
		}
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ErrorLog: wire.Silent,
			BaseContext: func(net.Listener) context.Context { return ctx }}
		serve := func() error { return srv.Serve(l) }
		if port == tlsPort {
			tls, err := c.certificate()
			if err != nil {
				return err
			}
			srv.TLSConfig = tls
			serve = func() error { return srv.ServeTLS(l, "", "") }
		}
		c.run(func() { _ = serve() })
		c.run(func() { <-ctx.Done(); _ = srv.Close() })
	}
	return nil
}

func (c *Camera) web() http.Handler {
	web := http.NewServeMux()
	if !c.cfg.Manners.NoONVIF {
		web.HandleFunc("POST /onvif/", c.soap)
	}
	web.HandleFunc("GET /snapshot", c.snapshot)
	web.HandleFunc("GET /", func(w http.ResponseWriter, r *http.Request) {
		if c.cfg.Manners.WebOnly { // this make asks for an account at once
			if _, ok := c.webUser(w, r); !ok {
				return
			}
		}
		plug := ""
		if c.cfg.Manners.OldPage {
			plug = `<object classid="clsid:0d05c0de-0000-4000-8000-000000000001" codebase="view.cab#version=1,0"></object>`
		}
		fmt.Fprintf(w, "<!doctype html><title>%s %s</title><h1>%s %s</h1><p>Sign in on the device's own page.%s",
			wire.Esc(c.cfg.Make), c.cfg.Model, wire.Esc(c.cfg.Make), c.cfg.Model, plug)
	})
	web.HandleFunc("GET /settings", func(w http.ResponseWriter, r *http.Request) {
		if name, ok := c.webUser(w, r); ok {
			fmt.Fprintf(w, "<!doctype html><title>%s</title><p>Signed in as %s.", c.cfg.Model, wire.Esc(name))
		}
	})
	return web
}

// leave takes the camera off the network and brings it back after a while, where it
// then is. Connections are dropped, subscriptions forgotten.
func (c *Camera) leave(before time.Duration) {
	down := c.cfg.Manners.RestartTime
	if down == 0 {
		down = 1500 * time.Millisecond
	}
	c.run(func() {
		was := c.At()
		if !c.pause(before) {
			return
		}
		c.mu.Lock()
		off := c.away
		c.away = nil
		c.nonces = map[string]time.Time{}
		c.mu.Unlock()
		if off == nil {
			return
		}
		off()
		c.events.forget()
		if c.habits().Forgets {
			c.change(func(m *memory) { m.Rules, m.Beside = nil, make([][]rule.Rule, len(m.Beside)) })
			c.events.follow(c.memory())
		}
		if !c.pause(down) {
			return
		}
		for c.ctx.Err() == nil {
			if err := c.up(); err == nil {
				return
			}
			// The address is taken: it goes back to the one it had.
			c.change(func(m *memory) { m.Address = was })
			if !c.pause(300 * time.Millisecond) {
				return
			}
		}
	})
}

// Unplug takes it off its network, as if its cable were pulled; its clock runs on.
func (c *Camera) Unplug() {
	c.mu.Lock()
	off := c.away
	c.away = nil
	c.mu.Unlock()
	if off != nil {
		off()
		c.events.forget()
	}
}

// Plugged says whether it is on its network.
func (c *Camera) Plugged() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.away != nil
}

// Plug puts it on its network again.
func (c *Camera) Plug() error {
	if c.Plugged() {
		return nil
	}
	return c.up()
}

func (c *Camera) pause(d time.Duration) bool {
	select {
	case <-c.ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// certificate is the camera's own, made at first and kept.
func (c *Camera) certificate() (*tls.Config, error) {
	k := c.memory().Cert
	cert, err := k.Certificate(c.cfg.Model, c.At())
	if err != nil {
		return nil, err
	}
	c.change(func(m *memory) { m.Cert = k })
	return &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}, nil
}

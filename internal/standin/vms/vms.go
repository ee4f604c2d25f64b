// Package vms is a stand-in video management system that records over ONVIF: it offers Recording
// Control, Receiver, Recording Search and Replay over TLS, pulls the streams that its receivers are
// told, keeps seconds of them within a bound, and plays them back. A recorder of another make that is
// spoken to in the same way is one of these too.
package vms

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/standin/relay"
	"duskyharbor/internal/standin/shelf"
	"duskyharbor/internal/standin/wire"
)

const (
	// Port is where it speaks ONVIF, over TLS.
	Port = 8443
	// ReplayPort is where it plays back, over RTSP.
	ReplayPort = 8554

	maxBytes = 2 << 20 // of a recording on disk
)

// Config describes one of them.
type Config struct {
	Place, Make, Model, Serial, Firmware string
	Address                              netip.Addr
	Username, Password                   string
	Most                                 int      // recordings
	Codecs                               []string // that it takes
	Skew                                 time.Duration
	Zone                                 string        // POSIX TZ that it keeps
	Restart                              time.Duration // how long it is away [1.5 s]
	StateFile                            string        // its recordings stand beside it; empty: it keeps neither
}

// recordingOf is one recording with how it is called.
type recordingOf struct {
	Token       string `json:"token"`
	SourceID    string `json:"source_id"`
	Name        string `json:"name"`
	Location    string `json:"location"`
	Description string `json:"description"`
	Address     string `json:"address"`
	Content     string `json:"content"`
	Keep        string `json:"keep"` // xs:duration
}

type receiver struct {
	Token string `json:"token"`
	Mode  string `json:"mode"`
	URI   string `json:"uri"` // with the account
}

type job struct {
	Token     string `json:"token"`
	Recording string `json:"recording"`
	Receiver  string `json:"receiver"`
	Mode      string `json:"mode"`
}

type memory struct {
	Recordings map[string]recordingOf `json:"recordings"`
	Receivers  map[string]receiver    `json:"receivers"`
	Jobs       map[string]job         `json:"jobs"`
	Next       int                    `json:"next"`
	Skew       time.Duration          `json:"skew"`
	wire.KeyPair
}

// VMS is one running stand-in.
type VMS struct {
	cfg    Config
	digest *wire.Digest
	dialer *dial.Dialer
	shelf  *shelf.Shelf
	cert   tls.Certificate

	mu    sync.Mutex
	mem   memory
	pulls map[string]*pull // by job
	srv   *http.Server

	ctx  context.Context
	stop context.CancelFunc
	done sync.WaitGroup
}

// Start brings it up; it takes up its jobs again.
func Start(ctx context.Context, cfg Config) (*VMS, error) {
	v := &VMS{cfg: cfg, dialer: &dial.Dialer{Local: cfg.Address}, pulls: map[string]*pull{}, shelf: &shelf.Shelf{Most: maxBytes}}
	v.mem = memory{Recordings: map[string]recordingOf{}, Receivers: map[string]receiver{}, Jobs: map[string]job{}, Skew: cfg.Skew}
	if err := wire.Load(cfg.StateFile, &v.mem); err != nil {
		return nil, fmt.Errorf("%s: its kept state: %w", cfg.Place, err)
	}
	if cfg.StateFile != "" {
		v.shelf.Dir = strings.TrimSuffix(cfg.StateFile, filepath.Ext(cfg.StateFile)) + "-video"
	}
	v.digest = &wire.Digest{Realm: cfg.Model, Password: func(u string) (string, bool) { return cfg.Password, u == cfg.Username }}
	v.ctx, v.stop = context.WithCancel(ctx)
	var err error
	if v.cert, err = v.mem.Certificate(cfg.Model, cfg.Address); err == nil {
		err = v.save()
	}
	if err == nil {
		err = relay.Serve(v.ctx, netip.AddrPortFrom(cfg.Address, ReplayPort), v.digest, v.replay)
	}
	if err == nil {
		err = v.serve()
	}
	if err != nil {
		v.stop()
		return nil, fmt.Errorf("%s: %w", cfg.Place, err)
	}
	v.mu.Lock()
	v.follow()
	v.mu.Unlock()
	return v, nil
}

// Config is what it was started with.
func (v *VMS) Config() Config { return v.cfg }

// Close ends it.
func (v *VMS) Close() {
	v.stop()
	v.mu.Lock()
	if v.srv != nil {
		_ = v.srv.Close()
	}
	v.mu.Unlock()
	v.done.Wait()
	v.shelf.Close()
}

func (v *VMS) save() error { return wire.Save(v.cfg.StateFile, v.mem) }

// Now is its own time.
func (v *VMS) Now() time.Time {
	v.mu.Lock()
	defer v.mu.Unlock()
	return time.Now().Add(v.mem.Skew)
}

func (v *VMS) serve() error {
	l, err := wire.Listen(v.ctx, netip.AddrPortFrom(v.cfg.Address, Port).String())
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /onvif/device_service", v.soap)
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, "<!doctype html><html lang=en><title>"+wire.Esc(v.cfg.Place)+"</title><h1>"+wire.Esc(v.cfg.Make+" "+v.cfg.Model)+"</h1>")
	})
	srv := &http.Server{Handler: http.MaxBytesHandler(mux, 256<<10), ReadHeaderTimeout: 10 * time.Second, ErrorLog: wire.Silent,
		TLSConfig:   &tls.Config{Certificates: []tls.Certificate{v.cert}, MinVersion: tls.VersionTLS12},
		BaseContext: func(net.Listener) context.Context { return v.ctx }}
	v.mu.Lock()
	v.srv = srv
	v.mu.Unlock()
	v.done.Go(func() { _ = srv.ServeTLS(l, "", "") })
	return nil
}

// restart is away for a while and comes back as it was.
func (v *VMS) restart() {
	v.mu.Lock()
	srv := v.srv
	v.srv = nil
	for _, p := range v.pulls {
		p.cancel()
	}
	v.pulls = map[string]*pull{}
	v.mu.Unlock()
	wire.Shut(srv) // the answer goes out first
	away := v.cfg.Restart
	if away == 0 {
		away = 1500 * time.Millisecond
	}
	select {
	case <-v.ctx.Done():
		return
	case <-time.After(away):
	}
	if v.serve() == nil {
		v.mu.Lock()
		v.follow()
		v.mu.Unlock()
	}
}

// follow starts and ends pulls as jobs and receivers are told to; v.mu is held.
func (v *VMS) follow() {
	want := map[string]receiver{}
	for _, j := range v.mem.Jobs {
		if r, ok := v.mem.Receivers[j.Receiver]; ok && j.Mode == "Active" && r.Mode != "NeverConnect" {
			want[j.Token] = r
		}
	}
	for token, p := range v.pulls {
		if r, ok := want[token]; !ok || r.URI != p.from {
			p.cancel()
			delete(v.pulls, token)
		}
	}
	for token, r := range want {
		if v.pulls[token] == nil {
			p := newPull(v, r.URI, v.mem.Jobs[token].Recording)
			v.pulls[token] = p
			v.done.Go(p.run)
		}
	}
}

// change alters what it keeps, writes it down and acts on it.
func (v *VMS) change(f func(m *memory) error) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := f(&v.mem); err != nil {
		return err
	}
	v.follow()
	return v.save()
}

// Receiving says how many jobs get pictures now.
func (v *VMS) Receiving() (n int) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, p := range v.pulls {
		if state, _ := p.stands(); state == "Active" {
			n++
		}
	}
	return n
}

// replay plays a recording from its oldest second on, in the pace in which it came.
func (v *VMS) replay(path string) *relay.Stream {
	token, ok := strings.CutPrefix(path, "replay/")
	v.mu.Lock()
	_, known := v.mem.Recordings[token]
	var s *relay.Stream
	for _, j := range v.mem.Jobs {
		if p := v.pulls[j.Token]; p != nil && j.Recording == token {
			s = p.described()
		}
	}
	v.mu.Unlock()
	if !ok || !known || s == nil {
		return nil
	}
	s.Play = func(ctx context.Context, send func([]byte) bool) {
		began, first := time.Now(), time.Time{}
		_ = v.shelf.Read(token, func(p shelf.Packet) bool {
			if first.IsZero() {
				first = p.At
			}
			select {
			case <-ctx.Done():
				return false
			case <-time.After(time.Until(began.Add(p.At.Sub(first)))):
			}
			return send(p.Raw)
		})
	}
	return s
}

func sorted[T any](m map[string]T) []T {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	out := make([]T, len(keys))
	for i, k := range keys {
		out[i] = m[k]
	}
	return out
}

// at is the nth recording, in the order of their tokens.
func (m *memory) at(nth int) (recordingOf, error) {
	all := sorted(m.Recordings)
	if nth < 1 || nth > len(all) {
		return recordingOf{}, fmt.Errorf("it has %d recordings", len(all))
	}
	return all[nth-1], nil
}

// Rename gives the nth recording another name, as someone at its own screen would.
func (v *VMS) Rename(nth int, name string) error {
	return v.change(func(m *memory) error {
		x, err := m.at(nth)
		if err == nil {
			x.Name = name
			m.Recordings[x.Token] = x
		}
		return err
	})
}

// Forget deletes the nth recording with what fills it, as someone at its own screen would.
func (v *VMS) Forget(nth int) error {
	return v.change(func(m *memory) error {
		x, err := m.at(nth)
		if err != nil {
			return err
		}
		delete(m.Recordings, x.Token)
		for token, j := range m.Jobs {
			if j.Recording == x.Token {
				delete(m.Receivers, j.Receiver)
				delete(m.Jobs, token)
			}
		}
		v.shelf.Drop(x.Token)
		return nil
	})
}

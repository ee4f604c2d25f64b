// Package analyser is a stand-in analyser: a box that looks at stills of cameras that have no analytics of their own. It is told over
// HTTP which views there are and is sent their stills (docs/analyser-interface.yaml); what it sees it tells over ONVIF, with rules
// that are written to it as to a camera and a stream of metadata for each view. It really looks: what it takes for what comes of the
// shapes and colours in the pictures, right or wrong.
package analyser

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/wire"
)

// Port of the analyser interface, over TLS.
const Port = 8443

const (
	maxStill   = 1 << 20  // bytes, where its limits say nothing
	maxWaiting = 32 << 20 // bytes of stills that wait, of all views
	away       = 1500 * time.Millisecond
)

// Limits are how much it takes; what is 0 isn't limited.
type Limits struct {
	Views     int     `json:"views,omitempty"`
	Licences  int     `json:"licences,omitempty"`
	Width     int     `json:"width,omitempty"`
	Height    int     `json:"height,omitempty"`
	PerSecond float64 `json:"per_second,omitempty"`
	Bytes     int     `json:"bytes,omitempty"`
}

// Config describes one analyser.
type Config struct {
	Place, Make, Model, Serial, MAC, UUID, Firmware string
	Address                                         netip.Addr
	Network                                         netip.Prefix
	Username, Password                              string
	Limits                                          Limits
	Takes                                           time.Duration // to look at one still, besides the looking
	Forgets                                         bool          // a restart loses its views
	Skew                                            time.Duration // its clock − true time
	StateFile                                       string        // empty: nothing is kept
}

// slots is how many views there can be.
func (c Config) slots() int {
	if c.Limits.Views > 0 {
		return c.Limits.Views
	}
	return 16
}

// paired is one view as kept over a restart.
type paired struct {
	ID         string    `json:"id"`
	Name       string    `json:"name"`
	Slot       int       `json:"slot"`
	PerSecond  float64   `json:"per_second"`
	LeastScore float64   `json:"least_score"`
	Within     corners   `json:"within,omitempty"`
	Since      time.Time `json:"since"`
}

// corners are of the area that is looked at, across and down in hundredths of the picture; none: the whole picture.
type corners [][2]float64

// holds says whether what stands in a box stands in the area: the middle of its lower edge.
func (c corners) holds(b scene.Box) bool {
	if len(c) == 0 {
		return true
	}
	var area scene.Polygon
	for _, p := range c {
		area = append(area, scene.Point{X: p[0]/50 - 1, Y: 1 - p[1]/50})
	}
	return area.Contains(b.Anchor())
}

type memory struct {
	Views []paired     `json:"views"`
	Sets  []set        `json:"sets,omitempty"`
	Keys  wire.KeyPair `json:"keys"`
}

// Analyser is one running stand-in.
type Analyser struct {
	cfg    Config
	onvif  *camera.Camera
	digest *wire.Digest
	cert   tls.Certificate

	mu      sync.Mutex
	mem     memory
	live    map[string]*view
	waiting int // bytes of stills that wait
	busy    time.Duration
	began   time.Time
	takes   time.Duration
	srv     *http.Server // nil while it is away
	wake    chan struct{}
	ctx     context.Context
	stop    context.CancelFunc
	done    sync.WaitGroup
}

// Start brings an analyser up.
func Start(ctx context.Context, cfg Config) (*Analyser, error) {
	a := &Analyser{cfg: cfg, live: map[string]*view{}, wake: make(chan struct{}, 1), takes: cfg.Takes, began: time.Now()}
	state := ""
	if cfg.StateFile != "" {
		state = cfg.StateFile + ".onvif"
	}
	if err := wire.Load(cfg.StateFile, &a.mem); err != nil {
		return nil, fmt.Errorf("%s: its kept state: %w", cfg.Place, err)
	}
	cert, err := a.mem.Keys.Certificate(cfg.Model, cfg.Address)
	if err == nil {
		err = wire.Save(cfg.StateFile, a.mem)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", cfg.Place, err)
	}
	a.cert = cert
	names := make([]string, cfg.slots())
	for i := range names {
		names[i] = fmt.Sprintf("View %d", i+1)
	}
	a.ctx, a.stop = context.WithCancel(ctx)
	a.onvif, err = camera.Start(a.ctx, camera.Config{Place: cfg.Place, Make: cfg.Make, Model: cfg.Model, Serial: cfg.Serial, MAC: cfg.MAC, UUID: cfg.UUID,
		Firmware: cfg.Firmware, Address: cfg.Address, Network: cfg.Network, Username: cfg.Username, Password: cfg.Password, TakesDigest: true, Window: 30 * time.Second,
		Skew: cfg.Skew, StateFile: state, Fed: true, Classes: classes, Manners: camera.Manners{Sources: names, SeesOnAll: true, Silent: true, NoDirected: true, NoGroups: true}})
	if err != nil {
		a.stop()
		return nil, err
	}
	a.digest = &wire.Digest{Realm: cfg.Model, Password: func(u string) (string, bool) { return cfg.Password, u == cfg.Username && cfg.Username != "" }}
	a.takeUp()
	if err := a.serve(); err != nil {
		a.Close()
		return nil, fmt.Errorf("%s: %w", cfg.Place, err)
	}
	a.run(a.work)
	a.run(func() {
		<-a.ctx.Done()
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.srv != nil {
			_ = a.srv.Close()
		}
	})
	return a, nil
}

func (a *Analyser) run(f func()) {
	a.done.Add(1)
	go func() {
		defer a.done.Done()
		f()
	}()
}

// Close ends it and waits for its servers.
func (a *Analyser) Close() {
	a.stop()
	a.onvif.Close()
	a.done.Wait()
}

// Config is what it was started with.
func (a *Analyser) Config() Config { return a.cfg }

// ONVIF is the side of it that is spoken to as to a camera.
func (a *Analyser) ONVIF() *camera.Camera { return a.onvif }

// Now is its own time.
func (a *Analyser) Now() time.Time { return a.onvif.Now() }

// Slowly has it take so long for each still from now on.
func (a *Analyser) Slowly(takes time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.takes = takes
}

// Views are how many views it looks at.
func (a *Analyser) Views() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.mem.Views)
}

// takeUp begins with the views that it remembers.
func (a *Analyser) takeUp() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.live = map[string]*view{}
	for _, p := range a.mem.Views {
		a.live[p.ID] = &view{slot: p.Slot}
	}
	a.waiting = 0
}

// serve answers its interface from now on.
func (a *Analyser) serve() error {
	l, err := wire.Listen(a.ctx, netip.AddrPortFrom(a.cfg.Address, Port).String())
	if err != nil {
		return err
	}
	srv := &http.Server{Handler: a.handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, ErrorLog: wire.Silent,
		TLSConfig:   &tls.Config{Certificates: []tls.Certificate{a.cert}, MinVersion: tls.VersionTLS12},
		BaseContext: func(net.Listener) context.Context { return a.ctx }}
	a.mu.Lock()
	a.srv = srv
	a.mu.Unlock()
	a.run(func() { _ = srv.ServeTLS(l, "", "") })
	return nil
}

// Restart starts it again: what waited is lost, and where it forgets so are its views with their rules.
func (a *Analyser) Restart() {
	a.mu.Lock()
	srv := a.srv
	a.srv = nil
	a.mu.Unlock()
	if srv == nil {
		return
	}
	_ = srv.Close()
	a.onvif.Restart()
	if a.cfg.Forgets {
		a.mu.Lock()
		was := a.mem.Views
		a.mem.Views = nil
		_ = wire.Save(a.cfg.StateFile, a.mem)
		a.mu.Unlock()
		for _, p := range was {
			a.onvif.Clear(p.Slot)
		}
	}
	a.takeUp()
	a.run(func() {
		select {
		case <-a.ctx.Done():
			return
		case <-time.After(away):
		}
		for a.ctx.Err() == nil {
			if a.serve() == nil {
				return
			}
			select {
			case <-a.ctx.Done():
			case <-time.After(300 * time.Millisecond):
			}
		}
	})
}

// find is where a view stands among those that are kept; −1: nowhere.
func (m memory) find(id string) int {
	return slices.IndexFunc(m.Views, func(p paired) bool { return p.ID == id })
}

// free is the lowest slot that no view has; −1: none is.
func (a *Analyser) free() int {
	for i := range a.cfg.slots() {
		if !slices.ContainsFunc(a.mem.Views, func(p paired) bool { return p.Slot == i }) {
			return i
		}
	}
	return -1
}

// Package camera is a stand-in camera: a real server on a loopback address that
// speaks WS-Discovery, ONVIF, RTSP and JPEG over HTTP with its own clock, accounts
// and analytics. Its faults are how it behaves; no page reads them from here.
package camera

import (
	"context"
	"encoding/json"
	"fmt"
	"image/jpeg"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/standin/ntp"
	"duskyharbor/internal/standin/scenery"
	"duskyharbor/internal/standin/wire"
)

// Ports of every stand-in camera on its own address.
const (
	HTTPPort    = 8080
	RTSPPort    = 8554
	ControlPort = 8099
)

// Config describes one camera as it leaves the box, and what was done to it since.
type Config struct {
	Place, Make, Model, Serial, MAC, UUID, Firmware string
	Address                                         netip.Addr
	Network                                         netip.Prefix // multicast is heard from here alone
	Username, Password                              string
	TakesDigest, TakesToken                         bool
	Window                                          time.Duration // of a token's Created
	Skew                                            time.Duration // its clock − true time
	Zone                                            string
	Daylight                                        bool
	Scene                                           scenery.Scene
	StateFile                                       string // empty: nothing is kept
	// Quiet leaves out what costs a camera of a thousand: moving analytics and the
	// control port.
	Quiet bool
	// Refuses lists operations that this make keeps locked: it answers them with a
	// fault, whoever asks.
	Refuses []string
}

// memory is what survives a restart.
type memory struct {
	Skew     time.Duration `json:"skew"`
	Zone     string        `json:"zone"`
	Daylight bool          `json:"daylight"`
	NTP      bool          `json:"ntp"`
	Servers  []string      `json:"servers"`
	Rules    []rule.Rule   `json:"rules"`
}

// Camera is one running stand-in.
type Camera struct {
	cfg    Config
	digest *wire.Digest
	line   *timeline
	events *hub

	mu     sync.Mutex
	mem    memory
	nonces map[string]time.Time
	served map[string]int // operations that were done, by name
	ask    chan struct{}  // wakes the NTP client
	stop   context.CancelFunc
	done   sync.WaitGroup
}

// Start brings a camera up; it runs until ctx ends or Close is called.
func Start(ctx context.Context, cfg Config) (*Camera, error) {
	c := &Camera{cfg: cfg, nonces: map[string]time.Time{}, served: map[string]int{}, ask: make(chan struct{}, 1)}
	c.mem = memory{Skew: cfg.Skew, Zone: cfg.Zone, Daylight: cfg.Daylight, Rules: slices.Clone(cfg.Scene.Rules)}
	if err := wire.Load(cfg.StateFile, &c.mem); err != nil {
		return nil, fmt.Errorf("%s: its kept state: %w", cfg.Place, err)
	}
	c.digest = &wire.Digest{Realm: cfg.Model, Password: func(u string) (string, bool) { return cfg.Password, u == cfg.Username }}
	c.line = newTimeline()
	c.events = newHub(c)
	ctx, c.stop = context.WithCancel(ctx)
	if err := c.listen(ctx); err != nil {
		c.Close()
		return nil, fmt.Errorf("%s: %w", cfg.Place, err)
	}
	c.run(func() { c.follow(ctx) })
	if !cfg.Quiet {
		c.run(func() { c.watch(ctx) })
	}
	return c, nil
}

func (c *Camera) run(f func()) {
	c.done.Add(1)
	go func() {
		defer c.done.Done()
		f()
	}()
}

// Close ends the camera and waits for its servers.
func (c *Camera) Close() {
	c.stop()
	c.done.Wait()
}

// Config is what the camera was started with.
func (c *Camera) Config() Config { return c.cfg }

func (c *Camera) listen(ctx context.Context) error {
	web := http.NewServeMux()
	web.HandleFunc("POST /onvif/", c.soap)
	web.HandleFunc("GET /snapshot", c.snapshot)
	web.HandleFunc("GET /", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "<!doctype html><title>%s</title><h1>%s %s</h1><p>Sign in on the device's own page.", c.cfg.Model, c.cfg.Make, c.cfg.Model)
	})
	control := http.NewServeMux()
	control.HandleFunc("POST /walk", c.walk)
	control.HandleFunc("POST /clock", c.setSkew)
	ports := map[int]http.Handler{HTTPPort: web, ControlPort: control}
	if c.cfg.Quiet {
		delete(ports, ControlPort)
	}
	for port, h := range ports {
		l, err := (&net.ListenConfig{}).Listen(ctx, "tcp4", netip.AddrPortFrom(c.cfg.Address, uint16(port)).String())
		if err != nil {
			return err
		}
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return ctx }}
		c.run(func() { _ = srv.Serve(l) })
		c.run(func() { <-ctx.Done(); _ = srv.Close() })
	}
	if err := c.serveRTSP(ctx); err != nil {
		return err
	}
	return c.serveDiscovery(ctx)
}

// Now is the camera's own time.
func (c *Camera) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Add(c.mem.Skew)
}

// Step sets its clock d off true time by hand, as someone at its own page would.
func (c *Camera) Step(d time.Duration) { c.change(func(m *memory) { m.Skew, m.NTP = d, false }) }

// Served is how often an operation was done, refusals not counted.
func (c *Camera) Served(op string) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.served[op]
}

func (c *Camera) change(f func(m *memory)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.mem)
	_ = wire.Save(c.cfg.StateFile, c.mem)
}

func (c *Camera) memory() memory {
	c.mu.Lock()
	defer c.mu.Unlock()
	m := c.mem
	m.Servers, m.Rules = slices.Clone(m.Servers), slices.Clone(m.Rules)
	return m
}

// follow keeps the clock in step with the first NTP server that answers.
func (c *Camera) follow(ctx context.Context) {
	for {
		wait := time.Minute
		if m := c.memory(); m.NTP {
			wait = 5 * time.Second
			for _, s := range m.Servers {
				server, err := netip.ParseAddr(s)
				if err != nil {
					continue
				}
				off, err := ntp.Ask(ctx, c.cfg.Address, server, c.Now)
				if err == nil {
					c.change(func(m *memory) { m.Skew += off })
					wait = time.Minute
					break
				}
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-c.ask:
		case <-time.After(wait):
		}
	}
}

func (c *Camera) walk(w http.ResponseWriter, _ *http.Request) {
	at := c.line.walk(time.Now())
	_ = json.NewEncoder(w).Encode(map[string]any{"walks_at": at.UTC()})
}

func (c *Camera) setSkew(w http.ResponseWriter, r *http.Request) {
	d, err := time.ParseDuration(r.FormValue("skew"))
	if err != nil {
		http.Error(w, "skew is a duration, as 3600s", http.StatusBadRequest)
		return
	}
	c.Step(d)
	w.WriteHeader(http.StatusNoContent)
}

func (c *Camera) snapshot(w http.ResponseWriter, r *http.Request) {
	if _, ok := c.digest.Check(r.Header.Get("Authorization"), r.Method); !ok {
		w.Header().Set("WWW-Authenticate", c.digest.Challenge(true))
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	walk, frame := c.line.at(time.Now())
	width, height := scenery.Size(r.FormValue("profile") == "sub")
	w.Header().Set("Content-Type", "image/jpeg")
	img := c.cfg.Scene.Draw(walk, time.Duration(frame)*time.Second/scenery.FPS, width, height)
	_ = jpeg.Encode(w, img, &jpeg.Options{Quality: 82})
}

func (c *Camera) url(path string) string {
	return fmt.Sprintf("http://%s:%d%s", c.cfg.Address, HTTPPort, path)
}

// timeline says which frame of which clip is shown when; every stream, still and
// detector of a camera follows it.
type timeline struct {
	mu    sync.Mutex
	start time.Time
	begin int64 // frame at which the last walk began; −1: none yet
}

const clipFrames = int64(scenery.FPS * scenery.Length / time.Second)

func newTimeline() *timeline { return &timeline{start: time.Now(), begin: -clipFrames} }

// frame is the number of frames shown since the start.
func (t *timeline) frame(now time.Time) int64 {
	return int64(now.Sub(t.start) * scenery.FPS / time.Second)
}

// when is the moment frame n is due.
func (t *timeline) when(n int64) time.Time {
	return t.start.Add(time.Duration(n) * time.Second / scenery.FPS)
}

// clip gives clip and index of frame n.
func (t *timeline) clip(n int64) (walk bool, index int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if n >= t.begin && n < t.begin+clipFrames && t.begin >= 0 {
		return true, n - t.begin
	}
	return false, ((n-t.begin)%clipFrames + clipFrames) % clipFrames
}

func (t *timeline) at(now time.Time) (bool, int64) { return t.clip(t.frame(now)) }

// walk starts a walk at the next key frame, or leaves one that runs alone.
func (t *timeline) walk(now time.Time) time.Time {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.frame(now)
	if t.begin >= 0 && n < t.begin+clipFrames {
		return t.when(t.begin)
	}
	t.begin = (n/scenery.FPS + 1) * scenery.FPS
	return t.when(t.begin)
}

func scopes(c Config) string {
	esc := strings.NewReplacer(" ", "%20", "&", "%26")
	return strings.Join([]string{
		"onvif://www.onvif.org/type/video_encoder", "onvif://www.onvif.org/Profile/T",
		"onvif://www.onvif.org/manufacturer/" + esc.Replace(c.Make),
		"onvif://www.onvif.org/hardware/" + esc.Replace(c.Model),
		"onvif://www.onvif.org/name/" + esc.Replace(c.Make+" "+c.Model),
		"onvif://www.onvif.org/MAC/" + c.MAC}, " ")
}

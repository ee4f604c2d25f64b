// Package recorder is a stand-in recorder with the recorder interface of
// docs/recorder-interface.yaml. What it reports it did: it signs in to cameras with
// WS-UsernameToken and its own clock, pulls their streams, fetches stills,
// subscribes to events and keeps a log.
package recorder

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/standin/ntp"
	"duskyharbor/internal/standin/shelf"
	"duskyharbor/internal/standin/wire"
)

// Port of the recorder interface, over TLS.
const Port = 8443

// Inputs that every channel of this recorder can hear.
var Inputs = []string{"line", "area", "loitering", "motion", "tamper", "contact"}

// Config describes one recorder.
type Config struct {
	Place, Make, Model, Serial, MAC, Firmware string
	Address                                   netip.Addr
	Username, Password                        string
	Limits                                    Limits
	Skew                                      time.Duration
	StateFile                                 string
	NoNTP                                     bool
	Zone                                      string             // POSIX TZ; empty: it doesn't say
	Dates, Times                              string             // order of its dates, as tt:DateFormat, and of its times
	Plugged                                   map[int]netip.Addr // what hangs on its own ports
	PortUser, PortSecret                      string             // the account by which it takes what hangs on a port that is bound to a channel; empty: it takes nothing by itself
	Ports                                     int                // of its own; those with nothing plugged in are told too
	Draws                                     map[int]int        // PoE class of what hangs on a port
	HandsOut                                  netip.Prefix       // what its ports give
	Entries                                   []Entry            // channels as an earlier installer left them
	OwnScreen                                 bool               // no way in but its own screen
	Analog                                    []AnalogInput      // of a hybrid; each that is off gives Limits.Capacity.Gain
	RestartTime                               time.Duration      // how long it is away; 0: 1.5 s
	Lists                                     []List             // of models, the oldest first; it begins with the first
	Usable                                    float64            // bytes that it keeps recordings in; 0: it doesn't say
	Buffer                                    int                // seconds that it holds back; 0: it doesn't say
	Records                                   int                // channels that it has a licence to record, the lowest first; 0: all
	ByPlan                                    bool               // it listens to events in those hours alone whose plan waits for them
}

// AnalogInput is one analog input as it leaves the installer.
type AnalogInput struct {
	Name   string // empty: nothing hangs on it
	Signal bool
	Off    bool
}

// Entry is a channel that someone set up before.
type Entry struct {
	Number, Port                int
	Name, Address, User, Secret string
}

// placed is one channel as kept over a restart.
type placed struct {
	Number   int                 `json:"number"`
	Name     string              `json:"name"`
	Address  string              `json:"address"`
	Service  string              `json:"service"`
	URI      string              `json:"uri,omitempty"`
	Username string              `json:"username"`
	Password string              `json:"password"`
	Profile  string              `json:"profile"`
	Inputs   map[string][]string `json:"inputs"`
	Port     int                 `json:"port"`
	Paused   bool                `json:"paused"`
	Label    string              `json:"label"`
	Way      string              `json:"way,omitempty"`
	Make     string              `json:"make,omitempty"`
	Model    string              `json:"model,omitempty"`
	View     string              `json:"view,omitempty"` // profile of the view stream
	Plan     *plan               `json:"plan,omitempty"` // nil: its own default
	Ledger   ledger              `json:"ledger,omitzero"`
}

type memory struct {
	Burns    []string        `json:"burns,omitempty"`
	Off      map[int]bool    `json:"off,omitempty"`  // analog inputs that are switched off
	Next     map[int]bool    `json:"next,omitempty"` // and after the next restart
	Channels map[int]*placed `json:"channels"`
	Bound    map[int]int     `json:"bound,omitempty"` // channels by the own ports that they are bound to
	Skew     time.Duration   `json:"skew"`
	wire.KeyPair
	Log []entry `json:"log"`
	Seq int64   `json:"seq"`

	List    int                `json:"list,omitempty"`    // of models, that is installed
	Loaded  int                `json:"loaded,omitempty"`  // that its services run by
	Others  bool               `json:"others,omitempty"`  // it takes other makes, though its limits say that it doesn't
	Deletes int                `json:"deletes,omitempty"` // after so many days; 0: when it is full
	Set     time.Time          `json:"set,omitzero"`      // when what it keeps was last changed, by its own time
	Other   map[string]float64 `json:"other,omitempty"`   // bytes kept of analog inputs, by local date
	Left    map[string]float64 `json:"left,omitempty"`    // and of channels that were taken out
}

type entry struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"`
	Channel int       `json:"channel"`
	Name    string    `json:"name"`
	Input   string    `json:"input"`
	Topic   string    `json:"topic"`
	Phase   string    `json:"phase"`
}

const maxLog = 1000

// Recorder is one running stand-in.
type Recorder struct {
	cfg    Config
	digest *wire.Digest
	dialer *dial.Dialer

	mu    sync.Mutex
	mem   memory
	live  map[int]*worker
	wake  chan struct{} // closed and renewed at every log entry
	ntp   bool
	ports map[int]port
	ctx   context.Context
	stop  context.CancelFunc
	done  sync.WaitGroup
	dirty bool
	srv   *http.Server // nil while it starts again
	cert  tls.Certificate
	local *localTime
	shelf *shelf.Shelf
	began int           // restarts
	idles time.Duration // see Slowly
}

// Start brings a recorder up; it takes up its channels again.
func Start(ctx context.Context, cfg Config) (*Recorder, error) {
	r := &Recorder{cfg: cfg, live: map[int]*worker{}, wake: make(chan struct{}),
		dialer: &dial.Dialer{Local: cfg.Address}, ports: map[int]port{}, local: newLocalTime(cfg.Zone), shelf: newShelf(cfg.StateFile)}
	r.mem.Channels, r.mem.Skew, r.mem.Bound = map[int]*placed{}, cfg.Skew, map[int]int{}
	r.mem.Off, r.mem.Next = map[int]bool{}, map[int]bool{}
	for i, a := range cfg.Analog {
		r.mem.Off[i+1], r.mem.Next[i+1] = a.Off, a.Off
	}
	for _, e := range cfg.Entries {
		r.mem.Channels[e.Number] = &placed{Number: e.Number, Name: e.Name, Address: e.Address,
			Service: "http://" + e.Address + ":8080/onvif/device_service", Username: e.User, Password: e.Secret, Profile: "main", Port: e.Port, Inputs: map[string][]string{}}
		if e.Port > 0 {
			r.mem.Bound[e.Port] = e.Number
		}
	}
	if err := wire.Load(cfg.StateFile, &r.mem); err != nil {
		return nil, fmt.Errorf("%s: its kept state: %w", cfg.Place, err)
	}
	r.digest = &wire.Digest{Realm: cfg.Model, Password: func(u string) (string, bool) { return cfg.Password, u == cfg.Username }}
	r.ctx, r.stop = context.WithCancel(ctx)
	if cfg.OwnScreen {
		return r, r.screen()
	}
	cert, err := r.mem.Certificate(cfg.Model, cfg.Address)
	if err != nil {
		return nil, err
	}
	if err := wire.Save(cfg.StateFile, r.mem); err != nil {
		return nil, err
	}
	r.cert = cert
	if err := r.serve(); err != nil {
		r.stop()
		return nil, fmt.Errorf("%s: %w", cfg.Place, err)
	}
	r.run(func() {
		<-r.ctx.Done()
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.srv != nil {
			_ = r.srv.Close()
		}
	})
	if err := errors.Join(r.control(), r.relays()); err != nil {
		r.Close()
		return nil, fmt.Errorf("%s: %w", cfg.Place, err)
	}
	r.ntp = !cfg.NoNTP && ntp.Serve(r.ctx, cfg.Address, r.Now) == nil
	for _, p := range r.mem.Channels {
		r.begin(p)
	}
	r.run(r.keep)
	r.run(r.bookkeeping)
	for n, at := range cfg.Plugged {
		r.run(func() { r.mind(n, at) })
	}
	return r, nil
}

func (r *Recorder) run(f func()) {
	r.done.Add(1)
	go func() {
		defer r.done.Done()
		f()
	}()
}

// Close ends the recorder.
func (r *Recorder) Close() {
	r.stop()
	r.done.Wait()
	r.shelf.Close()
}

// Slowly has it wait so long before it signs in to a camera that it was given, or let sign in to again.
func (r *Recorder) Slowly(wait time.Duration) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.idles = wait
}

func (r *Recorder) slow() time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.idles
}

// Config is what the recorder was started with.
func (r *Recorder) Config() Config { return r.cfg }

// Now is the recorder's own time.
func (r *Recorder) Now() time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.now()
}

func (r *Recorder) now() time.Time { return time.Now().Add(r.mem.Skew) }

// keep writes the state down when it changed, at most once a second.
func (r *Recorder) keep() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-r.ctx.Done():
		case <-tick.C:
		}
		r.mu.Lock()
		if r.dirty {
			r.dirty = false
			_ = wire.Save(r.cfg.StateFile, r.mem)
		}
		r.mu.Unlock()
		if r.ctx.Err() != nil {
			return
		}
	}
}

// serve answers its interface from now on.
func (r *Recorder) serve() error {
	l, err := wire.Listen(r.ctx, netip.AddrPortFrom(r.cfg.Address, Port).String())
	if err != nil {
		return err
	}
	srv := &http.Server{Handler: r.handler(), ReadHeaderTimeout: 10 * time.Second, ErrorLog: wire.Silent,
		TLSConfig:   &tls.Config{Certificates: []tls.Certificate{r.cert}, MinVersion: tls.VersionTLS12},
		BaseContext: func(net.Listener) context.Context { return r.ctx }}
	r.mu.Lock()
	r.srv = srv
	r.mu.Unlock()
	r.run(func() { _ = srv.ServeTLS(l, "", "") })
	return nil
}

func (r *Recorder) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /api/hello", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, map[string]string{"kind": "recorder", "make": r.cfg.Make, "model": r.cfg.Model, "serial": r.cfg.Serial,
			"mac": r.cfg.MAC, "firmware": r.cfg.Firmware})
	})
	signed := func(pattern string, h http.HandlerFunc) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, q *http.Request) {
			if _, v := r.digest.Check(q.Header.Get("Authorization"), q.Method); v != wire.Right {
				w.Header().Set("WWW-Authenticate", r.digest.Challenge(true))
				refuse(w, http.StatusUnauthorized, "sign in")
				return
			}
			h(w, q)
		})
	}
	signed("GET /api/status", r.status)
	signed("PUT /api/clock", r.setClock)
	signed("PUT /api/analog/{n}", r.setAnalog)
	signed("POST /api/restart", r.restart)
	signed("PUT /api/recordings", r.setAge)
	signed("POST /api/models/renew", r.renewList)
	signed("POST /api/services/restart", r.restartServices)
	signed("PUT /api/others", r.setOthers)
	signed("PUT /api/channels/{n}/plan", r.setPlan)
	signed("PUT /api/channels/{n}/name", r.setName)
	signed("PUT /api/channels/{n}/account", r.account)
	signed("POST /api/channels/{n}/pause", func(w http.ResponseWriter, q *http.Request) { r.pausing(w, q, true) })
	signed("POST /api/channels/{n}/resume", func(w http.ResponseWriter, q *http.Request) { r.pausing(w, q, false) })
	signed("GET /ports/{port}/page/{path...}", r.relay)
	signed("PUT /api/channels/{n}", r.place)
	signed("DELETE /api/channels/{n}", r.remove)
	signed("GET /api/channels/{n}/still", r.still)
	signed("GET /api/channels/{n}/inputs", r.inputs)
	signed("PUT /api/channels/{n}/inputs/{input}", r.setInput)
	signed("GET /api/events", r.events)
	return mux
}

func reply(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func refuse(w http.ResponseWriter, status int, sentence string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": sentence})
}

func (r *Recorder) number(w http.ResponseWriter, q *http.Request) (int, bool) {
	n, err := strconv.Atoi(q.PathValue("n"))
	if err != nil || n < 1 || n > r.channels() {
		refuse(w, http.StatusNotFound, fmt.Sprintf("there are channels 1 to %d", r.channels()))
		return 0, false
	}
	return n, true
}

func (r *Recorder) place(w http.ResponseWriter, q *http.Request) {
	n, ok := r.number(w, q)
	if !ok {
		return
	}
	var p placed
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 64<<10)).Decode(&p); err != nil || p.Address == "" || p.Name == "" {
		refuse(w, http.StatusBadRequest, "name and address are needed")
		return
	}
	if why := r.nameRefused(p.Name); why != "" {
		refuse(w, http.StatusConflict, why)
		return
	}
	p.Number, p.Inputs, p.Plan, p.Ledger = n, map[string][]string{}, nil, ledger{}
	r.mu.Lock()
	old := r.mem.Channels[n]
	refusal := ""
	for m, o := range r.mem.Channels {
		if m != n && o.Address == p.Address && o.Profile == p.Profile {
			refusal = fmt.Sprintf("channel %d holds that camera", m)
		}
	}
	switch {
	case refusal != "":
	case old != nil && old.Address != p.Address:
		refusal = fmt.Sprintf("channel %d holds %s", n, old.Name)
	case r.wayRefused(p) != "":
		refusal = r.wayRefused(p)
	case old == nil && r.tooMuch() != "":
		refusal = r.tooMuch()
	case old == nil && len(r.mem.Channels) >= r.cfg.Limits.Licences:
		refusal = fmt.Sprintf("all %d licences are used", r.cfg.Limits.Licences)
	}
	if refusal == "" {
		if old != nil {
			p.Inputs, p.Plan, p.Ledger = old.Inputs, old.Plan, old.Ledger
			r.live[n].stop()
		} else {
			r.mem.Set = r.now()
		}
		r.mem.Channels[n] = &p
		r.dirty = true
		_ = wire.Save(r.cfg.StateFile, r.mem)
		r.begin(&p)
	}
	worker := r.live[n]
	r.mu.Unlock()
	if refusal != "" {
		refuse(w, http.StatusConflict, refusal)
		return
	}
	worker.firstWord(q.Context())
	s := worker.slot()
	s.Number, s.Name, s.Address, s.Profile = n, p.Name, p.Address, p.Profile
	reply(w, s)
}

// begin starts the worker of a channel; r.mu is held or nothing runs yet.
func (r *Recorder) begin(p *placed) {
	w := newWorker(r, *p)
	r.live[p.Number] = w
	r.run(w.run)
}

func (r *Recorder) remove(w http.ResponseWriter, q *http.Request) {
	n, ok := r.number(w, q)
	if !ok {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if wk := r.live[n]; wk != nil {
		wk.stop()
		if r.mem.Left == nil { // what was recorded stays until it is written over
			r.mem.Left = map[string]float64{}
		}
		for day, bytes := range r.mem.Channels[n].Ledger.Days {
			r.mem.Left[day] += bytes
		}
		delete(r.live, n)
		delete(r.mem.Channels, n)
		r.mem.Set = r.now()
		r.dirty = true
	}
	reply(w, map[string]string{})
}

func (r *Recorder) worker(w http.ResponseWriter, q *http.Request) (*worker, *placed, bool) {
	n, ok := r.number(w, q)
	if !ok {
		return nil, nil, false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.live[n] == nil {
		refuse(w, http.StatusConflict, fmt.Sprintf("channel %d is free", n))
		return nil, nil, false
	}
	return r.live[n], r.mem.Channels[n], true
}

func (r *Recorder) still(w http.ResponseWriter, q *http.Request) {
	wk, _, ok := r.worker(w, q)
	if !ok {
		return
	}
	data := wk.picture()
	if data == nil {
		refuse(w, http.StatusConflict, "no picture was received yet")
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	_, _ = w.Write(data)
}

func (r *Recorder) inputs(w http.ResponseWriter, q *http.Request) {
	wk, p, ok := r.worker(w, q)
	if !ok {
		return
	}
	type input struct {
		Name   string   `json:"name"`
		Topics []string `json:"topics"`
	}
	var out []input
	r.mu.Lock()
	for _, name := range Inputs {
		out = append(out, input{name, append([]string{}, p.Inputs[name]...)})
	}
	r.mu.Unlock()
	reply(w, map[string]any{"inputs": out, "events": wk.slot().Events})
}

func (r *Recorder) setInput(w http.ResponseWriter, q *http.Request) {
	wk, p, ok := r.worker(w, q)
	if !ok {
		return
	}
	input := q.PathValue("input")
	var in struct {
		Topics []string `json:"topics"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 64<<10)).Decode(&in); err != nil || !slices.Contains(Inputs, input) {
		refuse(w, http.StatusBadRequest, "a channel has the inputs "+strings.Join(Inputs, ", "))
		return
	}
	r.mu.Lock()
	p.Inputs[input] = in.Topics
	r.dirty = true
	_ = wire.Save(r.cfg.StateFile, r.mem)
	wk.listenTo(p.Inputs)
	r.mu.Unlock()
	reply(w, map[string]string{})
}

func (r *Recorder) log(e entry) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.mem.Seq++
	e.Seq, e.At = r.mem.Seq, r.now().UTC()
	r.mem.Log = append(r.mem.Log, e)
	if len(r.mem.Log) > maxLog {
		r.mem.Log = slices.Clone(r.mem.Log[len(r.mem.Log)-maxLog:])
	}
	r.dirty = true
	close(r.wake)
	r.wake = make(chan struct{})
}

func (r *Recorder) events(w http.ResponseWriter, q *http.Request) {
	after, err := strconv.ParseInt(q.FormValue("after"), 10, 64)
	wait, err2 := strconv.Atoi(q.FormValue("wait"))
	if err != nil || err2 != nil || wait < 0 || wait > 60 {
		refuse(w, http.StatusBadRequest, "after is a number, wait 0 to 60 seconds")
		return
	}
	deadline := time.NewTimer(time.Duration(wait) * time.Second)
	defer deadline.Stop()
	for over := false; ; {
		r.mu.Lock()
		seq, wake := r.mem.Seq, r.wake
		out := []entry{}
		if after >= 0 {
			for _, e := range r.mem.Log {
				if e.Seq > after {
					out = append(out, e)
				}
			}
		}
		r.mu.Unlock()
		if len(out) > 0 || over || after < 0 || wait == 0 {
			reply(w, map[string]any{"events": out, "next": seq})
			return
		}
		select {
		case <-wake:
		case <-deadline.C:
			over = true
		case <-q.Context().Done():
			return
		}
	}
}

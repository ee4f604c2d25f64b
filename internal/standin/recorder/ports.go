package recorder

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"strconv"
	"time"

	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/standin/wire"
)

// mind asks what hangs on one of the recorder's own ports, from time to time.
func (r *Recorder) mind(number int, at netip.Addr) {
	missed := 0
	for {
		p := port{Number: number, Watts: powerOf(r.cfg.Draws[number])}
		if _, feeds := r.cfg.Draws[number]; !feeds {
			p.Watts = 0
		}
		if p.Denied = !r.feeds(number, p.Watts); p.Denied {
			r.mu.Lock()
			r.ports[number] = p // without power nothing answers there
			r.mu.Unlock()
			if !r.pause(5 * time.Second) {
				return
			}
			continue
		}
		ctx, cancel := context.WithTimeout(r.ctx, 3*time.Second)
		seen, _ := discovery.Directed(ctx, r.cfg.Address, []netip.Addr{at}, 700*time.Millisecond)
		cancel()
		if missed++; len(seen) > 0 {
			missed = 0
			s := seen[0]
			p.Linked, p.Address, p.MAC, p.UUID, p.Make, p.Model = true, at.String(), s.MAC, s.UUID, s.Make, s.Model
			p.Fixed = r.cfg.HandsOut.IsValid() && !r.cfg.HandsOut.Contains(at)
		}
		r.mu.Lock()
		if _, known := r.ports[number]; missed == 0 || missed > 3 || !known {
			r.ports[number] = p
		}
		r.plugged(p)
		r.mu.Unlock()
		if !r.pause(5 * time.Second) {
			return
		}
	}
}

// plugged takes what hangs on a port on the channel that is bound to it, where that is free. Its lock
// is held.
func (r *Recorder) plugged(p port) {
	n := r.mem.Bound[p.Number]
	if !p.Linked || n == 0 || r.mem.Channels[n] != nil || r.cfg.PortUser == "" || r.tooMuch() != "" {
		return
	}
	c := &placed{Number: n, Name: fmt.Sprintf("Port %d", p.Number), Address: p.Address, Service: "http://" + p.Address + ":8080/onvif/device_service",
		Username: r.cfg.PortUser, Password: r.cfg.PortSecret, Profile: "main", Port: p.Number, Inputs: map[string][]string{}, Make: p.Make, Model: p.Model}
	r.mem.Channels[n] = c
	r.dirty, r.mem.Set = true, r.now()
	r.begin(c)
}

func (r *Recorder) pause(d time.Duration) bool {
	select {
	case <-r.ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// feeds says whether its budget has power for a port: what asked first has it.
func (r *Recorder) feeds(number int, watts float64) bool {
	if r.cfg.Limits.Watts == 0 || watts == 0 {
		return true
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for n, p := range r.ports {
		if n != number && !p.Denied {
			watts += p.Watts
		}
	}
	if watts > r.cfg.Limits.Watts {
		return false
	}
	if p := r.ports[number]; p.Number == 0 || p.Denied { // it is set aside before anything answers
		r.ports[number] = port{Number: number, Watts: powerOf(r.cfg.Draws[number])}
	}
	return true
}

// relay shows the page of what hangs on a port, as the recorder sees it.
func (r *Recorder) relay(w http.ResponseWriter, q *http.Request) {
	n, err := strconv.Atoi(q.PathValue("port"))
	at, ok := r.cfg.Plugged[n]
	if err != nil || !ok {
		refuse(w, http.StatusNotFound, "nothing hangs on that port")
		return
	}
	to := &url.URL{Scheme: "http", Host: netip.AddrPortFrom(at, 8080).String(), Path: "/" + q.PathValue("path")}
	proxy := &httputil.ReverseProxy{ErrorLog: wire.Silent,
		Rewrite: func(p *httputil.ProxyRequest) { p.Out.URL, p.Out.Host = to, to.Host; p.Out.Header.Del("Authorization") },
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, hostport string) (net.Conn, error) {
			return r.dialer.At(at).Dial(ctx, hostport)
		}}}
	proxy.ServeHTTP(w, q)
}

func (r *Recorder) setClock(w http.ResponseWriter, q *http.Request) {
	var in struct {
		UTC time.Time `json:"utc"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 4<<10)).Decode(&in); err != nil || in.UTC.IsZero() {
		refuse(w, http.StatusBadRequest, "utc is needed")
		return
	}
	r.mu.Lock()
	r.mem.Skew, r.dirty = time.Until(in.UTC), true
	r.mu.Unlock()
	reply(w, map[string]string{})
}

// again starts a channel's worker anew after f changed what it is given.
func (r *Recorder) again(w http.ResponseWriter, q *http.Request, f func(p *placed)) {
	n, ok := r.number(w, q)
	if !ok {
		return
	}
	r.mu.Lock()
	p := r.mem.Channels[n]
	if p == nil {
		r.mu.Unlock()
		refuse(w, http.StatusConflict, fmt.Sprintf("channel %d is free", n))
		return
	}
	f(p)
	r.live[n].stop()
	r.dirty = true
	_ = wire.Save(r.cfg.StateFile, r.mem)
	r.begin(p)
	worker := r.live[n]
	r.mu.Unlock()
	worker.firstWord(q.Context())
	reply(w, map[string]string{})
}

// account gives a channel another account to sign in with.
func (r *Recorder) account(w http.ResponseWriter, q *http.Request) {
	var in struct{ Username, Password, Label string }
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 4<<10)).Decode(&in); err != nil || in.Username == "" {
		refuse(w, http.StatusBadRequest, "username and password are needed")
		return
	}
	r.again(w, q, func(p *placed) { p.Username, p.Password, p.Label = in.Username, in.Password, in.Label })
}

func (r *Recorder) pausing(w http.ResponseWriter, q *http.Request, on bool) {
	r.again(w, q, func(p *placed) { p.Paused = on })
}

// Step sets its clock d off true time, as someone at its own screen would.
func (r *Recorder) Step(d time.Duration) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.mem.Skew, r.dirty = d, true
}

// Burn has it burn "name" or "time" into its channels' pictures itself, as someone at its own
// screen would.
func (r *Recorder) Burn(what ...string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.mem.Burns, r.dirty = what, true
}

// PauseAll pauses every channel, as someone at its own screen would.
func (r *Recorder) PauseAll() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for n, p := range r.mem.Channels {
		p.Paused = true
		r.live[n].stop()
		r.begin(p)
	}
}

package recorder

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/standin/wire"
)

// analog are the analog inputs as they are told; r.mu is held.
func (r *Recorder) analog() []analogInput {
	out := []analogInput{}
	for i, a := range r.cfg.Analog {
		n := i + 1
		out = append(out, analogInput{Number: n, Name: a.Name, Signal: a.Signal, On: !r.mem.Off[n], Next: !r.mem.Next[n]})
	}
	return out
}

// ip is how many IP channels there are; r.mu is held.
func (r *Recorder) ip() int {
	c := r.cfg.Limits.Capacity
	if len(r.cfg.Analog) == 0 {
		return r.cfg.Limits.Channels
	}
	off := 0
	for _, is := range r.mem.Off {
		if is {
			off++
		}
	}
	return c.channels(off)
}

func (r *Recorder) channels() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.ip()
}

// limits are its limits as they are told now; r.mu is held.
func (r *Recorder) limits() Limits {
	l := r.cfg.Limits
	l.Channels, l.NoOthers = r.ip(), l.NoOthers && !r.mem.Others
	l.RestartFor = r.away().Seconds()
	return l
}

func (r *Recorder) away() time.Duration {
	if r.cfg.RestartTime > 0 {
		return r.cfg.RestartTime
	}
	return 1500 * time.Millisecond
}

// tooMuch says why one camera more is too much for it by the tables of its decoder, by what the
// others send; r.mu is held.
func (r *Recorder) tooMuch() string {
	if len(r.cfg.Limits.Tables) == 0 {
		return ""
	}
	large, rows := 0.0, []string{}
	for n := range r.mem.Channels {
		s := r.live[n].slot()
		large = max(large, float64(s.Width*s.Height)/1e6)
	}
	for _, t := range r.cfg.Limits.Tables {
		// What its decoder is sold as: 8 MP is 3840 × 2160, 4 MP is 2688 × 1520, a twentieth more than
		// it says.
		if len(r.mem.Channels)+1 <= t.Channels && large*20 <= t.Megapixels*21 {
			return ""
		}
		rows = append(rows, fmt.Sprintf("%d of %g MP", t.Channels, t.Megapixels))
	}
	return "it decodes " + strings.Join(rows, " or ")
}

// setAnalog switches an analog input; that holds after a restart.
func (r *Recorder) setAnalog(w http.ResponseWriter, q *http.Request) {
	var in struct {
		On *bool `json:"on"`
	}
	n, err := strconv.Atoi(q.PathValue("n"))
	if err != nil || n < 1 || n > len(r.cfg.Analog) {
		refuse(w, http.StatusNotFound, fmt.Sprintf("there are analog inputs 1 to %d", len(r.cfg.Analog)))
		return
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 4<<10)).Decode(&in); err != nil || in.On == nil {
		refuse(w, http.StatusBadRequest, "on is needed")
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	next := maps.Clone(r.mem.Next)
	next[n] = !*in.On
	off := 0
	for _, is := range next {
		if is {
			off++
		}
	}
	c := r.cfg.Limits.Capacity
	for m := range r.mem.Channels {
		if m > c.channels(off) {
			refuse(w, http.StatusConflict, fmt.Sprintf("channel %d is taken and would be gone", m))
			return
		}
	}
	r.mem.Next = next
	_ = wire.Save(r.cfg.StateFile, r.mem)
	reply(w, map[string]string{})
}

// restart starts it again: it is away for a while, records nothing meanwhile, and comes back with
// what waited.
func (r *Recorder) restart(w http.ResponseWriter, _ *http.Request) {
	reply(w, map[string]string{})
	r.run(func() {
		r.mu.Lock()
		srv := r.srv
		r.srv = nil
		for _, worker := range r.live {
			worker.stop()
		}
		if srv != nil {
			r.began++
		}
		r.mu.Unlock()
		if srv == nil {
			return // it starts again already
		}
		wire.Shut(srv) // the answer goes out first
		select {
		case <-r.ctx.Done():
			return
		case <-time.After(r.away()):
		}
		r.mu.Lock()
		r.mem.Off = maps.Clone(r.mem.Next)
		_ = wire.Save(r.cfg.StateFile, r.mem)
		for _, p := range r.mem.Channels {
			r.begin(p)
		}
		r.mu.Unlock()
		for r.serve() != nil && r.ctx.Err() == nil { // its port may not be free at once
			select {
			case <-r.ctx.Done():
			case <-time.After(100 * time.Millisecond):
			}
		}
	})
}

// Restarts is how often it was started again.
func (r *Recorder) Restarts() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.began
}

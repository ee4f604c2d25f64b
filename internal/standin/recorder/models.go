package recorder

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"duskyharbor/internal/standin/wire"
)

// List is a list of the models that it knows.
type List struct {
	Version string
	Models  []string // "Make model", or "Make *"
}

// models are its lists as it tells them; nil: it has none. r.mu is held.
func (r *Recorder) list() *models {
	if len(r.cfg.Lists) == 0 {
		return nil
	}
	out := models{Version: r.cfg.Lists[r.mem.List].Version, Loaded: r.cfg.Lists[r.mem.Loaded].Version, Models: r.cfg.Lists[r.mem.Loaded].Models}
	if r.mem.List < len(r.cfg.Lists)-1 {
		out.Newer = r.cfg.Lists[len(r.cfg.Lists)-1].Version
	}
	return &out
}

// wayRefused says why it doesn't take a camera so; r.mu is held.
func (r *Recorder) wayRefused(p placed) string {
	if len(r.cfg.Limits.Ways) == 0 {
		return ""
	}
	has := false
	for _, w := range r.cfg.Limits.Ways {
		has = has || w.Name == p.way()
	}
	l := r.list()
	listed := l == nil || l.has(p.Make, p.Model)
	switch {
	case !has:
		return "it has no such way in"
	case p.way() == Native && !listed:
		return fmt.Sprintf("%s %s isn't in its list (%s)", p.Make, p.Model, l.Loaded)
	case p.way() != Native && !listed && !r.mem.Others && r.cfg.Limits.NoOthers:
		return "it takes no other makes"
	}
	return ""
}

func (r *Recorder) renewList(w http.ResponseWriter, _ *http.Request) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.cfg.Lists) == 0 {
		refuse(w, http.StatusNotFound, "it has no list of models")
		return
	}
	r.mem.List = len(r.cfg.Lists) - 1
	_ = wire.Save(r.cfg.StateFile, r.mem)
	reply(w, map[string]string{})
}

// restartServices takes up the list that is installed: its channels let their cameras go and sign
// in again.
func (r *Recorder) restartServices(w http.ResponseWriter, _ *http.Request) {
	r.mu.Lock()
	r.mem.Loaded = r.mem.List
	_ = wire.Save(r.cfg.StateFile, r.mem)
	for _, worker := range r.live {
		worker.stop()
	}
	r.mu.Unlock()
	reply(w, map[string]string{})
	r.run(func() {
		select {
		case <-r.ctx.Done():
			return
		case <-time.After(300 * time.Millisecond):
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.srv == nil {
			return // it starts again as a whole, and begins them then
		}
		for n, p := range r.mem.Channels {
			if r.live[n] == nil || r.live[n].ctx.Err() != nil {
				r.begin(p)
			}
		}
	})
}

func (r *Recorder) setOthers(w http.ResponseWriter, q *http.Request) {
	var in struct {
		Allow *bool `json:"allow"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 4<<10)).Decode(&in); err != nil || in.Allow == nil {
		refuse(w, http.StatusBadRequest, "allow is needed")
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.mem.Others = *in.Allow
	_ = wire.Save(r.cfg.StateFile, r.mem)
	reply(w, map[string]string{})
}

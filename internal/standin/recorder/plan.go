package recorder

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"duskyharbor/internal/standin/wire"
)

// defaultPlan is what a channel keeps before anyone says otherwise.
var defaultPlan = plan{Modes: []mode{{Name: "always", Idle: keepRecord, Event: keepRecord, Causes: []string{cameraEvent}, Lead: 5, Tail: 10}}}

func init() {
	for day := range defaultPlan.Week {
		defaultPlan.Week[day] = strings.Repeat("0", 48)
	}
}

func (p *placed) keeps() plan {
	if p.Plan == nil {
		return defaultPlan
	}
	return *p.Plan
}

// way is how it takes a camera.
func (p *placed) way() string {
	switch {
	case p.Way != "":
		return p.Way
	case p.URI != "":
		return RTSP
	}
	return ONVIF
}

// hears lists what reaches a channel by its way in as something that happens.
func (r *Recorder) hears(p *placed) []string {
	passes := []string{PassEvents}
	if p.way() == RTSP {
		passes = nil
	}
	for _, w := range r.cfg.Limits.Ways {
		if w.Name == p.way() {
			passes = w.Passes
		}
	}
	out := []string{}
	if slices.Contains(passes, PassEvents) {
		out = append(out, motion, cameraEvent)
	}
	if slices.Contains(passes, PassInputs) {
		out = append(out, contact)
	}
	return out
}

func (r *Recorder) setPlan(w http.ResponseWriter, q *http.Request) {
	wk, p, ok := r.worker(w, q)
	if !ok {
		return
	}
	var want plan
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 64<<10)).Decode(&want); err != nil {
		refuse(w, http.StatusBadRequest, "that is no plan")
		return
	}
	if why := want.check(); why != "" {
		refuse(w, http.StatusConflict, why)
		return
	}
	for _, m := range want.Modes {
		if r.cfg.Buffer > 0 && m.Lead > r.cfg.Buffer && m.Event != m.Idle {
			refuse(w, http.StatusConflict, fmt.Sprintf("%s: it holds back %d s, not %d", m.Name, r.cfg.Buffer, m.Lead))
			return
		}
	}
	if want.uses(keepView) && p.View == "" {
		refuse(w, http.StatusConflict, "this channel has no view stream")
		return
	}
	r.mu.Lock()
	if !p.keeps().asOther(want) {
		r.mem.Set = r.now()
	}
	p.Plan = &want
	r.dirty = true
	_ = wire.Save(r.cfg.StateFile, r.mem)
	r.mu.Unlock()
	wk.replan()
	reply(w, map[string]string{})
}

func (r *Recorder) setAge(w http.ResponseWriter, q *http.Request) {
	var in struct {
		Days *int `json:"days"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 4<<10)).Decode(&in); err != nil || in.Days == nil || *in.Days < 0 || *in.Days > 3650 {
		refuse(w, http.StatusBadRequest, "days is 0 to 3650")
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.mem.Deletes = *in.Days
	r.trim(r.now().UTC())
	_ = wire.Save(r.cfg.StateFile, r.mem)
	reply(w, map[string]string{})
}

func (r *Recorder) setName(w http.ResponseWriter, q *http.Request) {
	_, p, ok := r.worker(w, q)
	if !ok {
		return
	}
	var in struct {
		Name string `json:"name"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 4<<10)).Decode(&in); err != nil || in.Name == "" {
		refuse(w, http.StatusBadRequest, "name is needed")
		return
	}
	if why := r.nameRefused(in.Name); why != "" {
		refuse(w, http.StatusConflict, why)
		return
	}
	r.mu.Lock()
	p.Name, r.dirty = in.Name, true
	_ = wire.Save(r.cfg.StateFile, r.mem)
	r.mu.Unlock()
	reply(w, map[string]string{})
}

// nameRefused says why it takes no such name; empty where it does.
func (r *Recorder) nameRefused(name string) string {
	l := r.cfg.Limits
	switch {
	case l.NameMax > 0 && len([]rune(name)) > l.NameMax:
		return fmt.Sprintf("a name has at most %d characters", l.NameMax)
	case l.NameBytes > 0 && len(name) > l.NameBytes:
		return fmt.Sprintf("a name has at most %d bytes", l.NameBytes)
	case l.NameChars == "":
		return ""
	}
	if bad := regexp.MustCompile("[^" + l.NameChars + "]").FindString(name); bad != "" {
		return fmt.Sprintf("a name has no %q", bad)
	}
	return ""
}

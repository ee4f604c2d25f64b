package analyser

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/jpeg"
	"io"
	"net/http"
	"strings"
	"time"

	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/wire"
)

// status is what it tells of itself.
type status struct {
	Name     string       `json:"name"`
	Make     string       `json:"make"`
	Model    string       `json:"model"`
	Serial   string       `json:"serial"`
	Firmware string       `json:"firmware"`
	Clock    time.Time    `json:"clock"`
	Takes    []string     `json:"takes"`
	Classes  []string     `json:"classes"`
	Knows    []string     `json:"knows"`
	Limits   Limits       `json:"limits"`
	Load     float64      `json:"load"`
	Views    []viewStatus `json:"views"`
}

type viewStatus struct {
	ID            string     `json:"id"`
	Name          string     `json:"name"`
	PerSecond     float64    `json:"per_second"`
	LeastScore    float64    `json:"least_score"`
	Within        corners    `json:"within"`
	Configuration string     `json:"configuration"`
	Metadata      string     `json:"metadata"`
	Waiting       int        `json:"waiting"`
	Behind        float64    `json:"behind_seconds"`
	Taken         int64      `json:"taken"`
	Looked        int64      `json:"looked"`
	Refused       int64      `json:"refused"`
	LastAt        *time.Time `json:"last_at,omitempty"`
}

func (a *Analyser) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /api/hello", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, http.StatusOK, map[string]string{"kind": "analyser", "make": a.cfg.Make, "model": a.cfg.Model, "serial": a.cfg.Serial, "mac": a.cfg.MAC, "firmware": a.cfg.Firmware})
	})
	signed := func(pattern string, h http.HandlerFunc) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, q *http.Request) {
			if _, v := a.digest.Check(q.Header.Get("Authorization"), q.Method); v != wire.Right {
				_, _ = io.Copy(io.Discard, io.LimitReader(q.Body, maxStill)) // so that the connection can be used again
				challenge := a.digest.Challenge(true)
				if v == wire.Stale {
					challenge += ", stale=true"
				}
				w.Header().Set("WWW-Authenticate", challenge)
				refuse(w, http.StatusUnauthorized, "sign in")
				return
			}
			h(w, q)
		})
	}
	signed("GET /api/status", a.status)
	signed("PUT /api/views/{id}", a.pair)
	signed("DELETE /api/views/{id}", a.unpair)
	signed("POST /api/views/{id}/stills", a.still)
	signed("GET /api/known", a.known)
	signed("PUT /api/known/{set}", a.holdSet)
	signed("DELETE /api/known/{set}", a.forgetSet)
	signed("GET /api/known/{set}/likeness", a.likeness)
	signed("PUT /api/known/{set}/entries/{entry}", a.holdEntry)
	signed("DELETE /api/known/{set}/entries/{entry}", a.forgetEntry)
	return mux
}

func reply(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(v)
}

func refuse(w http.ResponseWriter, code int, sentence string) {
	reply(w, code, map[string]string{"error": sentence})
}

func (a *Analyser) status(w http.ResponseWriter, _ *http.Request) {
	now := time.Now()
	a.mu.Lock()
	defer a.mu.Unlock()
	out := status{Name: a.cfg.Place, Make: a.cfg.Make, Model: a.cfg.Model, Serial: a.cfg.Serial, Firmware: a.cfg.Firmware, Clock: a.Now().UTC(), Takes: []string{"stills"},
		Classes: classes, Knows: knows, Limits: a.cfg.Limits, Load: min(1, a.busy.Seconds()/max(1, now.Sub(a.began).Seconds())), Views: []viewStatus{}}
	for _, p := range a.mem.Views {
		v := a.live[p.ID]
		x := viewStatus{ID: p.ID, Name: p.Name, PerSecond: p.PerSecond, LeastScore: p.LeastScore, Within: p.Within, Configuration: fmt.Sprintf("vac%d", p.Slot),
			Metadata: a.metadata(p.Slot), Waiting: len(v.queue), Taken: v.taken, Looked: v.looked, Refused: v.refused}
		if len(v.queue) > 0 {
			x.Behind = now.Sub(v.queue[0].came).Seconds()
		}
		if !v.last.IsZero() {
			last := v.last
			x.LastAt = &last
		}
		out.Views = append(out.Views, x)
	}
	reply(w, http.StatusOK, out)
}

// metadata is where a slot's metadata is streamed.
func (a *Analyser) metadata(slot int) string {
	tail := ""
	if slot > 0 {
		tail = fmt.Sprint(slot + 1)
	}
	return fmt.Sprintf("rtsp://%s:%d/main%s", a.cfg.Address, camera.RTSPPort, tail)
}

func (a *Analyser) pair(w http.ResponseWriter, q *http.Request) {
	var in struct {
		Name       string  `json:"name"`
		PerSecond  float64 `json:"per_second"`
		LeastScore float64 `json:"least_score"`
		Within     corners `json:"within"`
	}
	id := q.PathValue("id")
	if err := json.NewDecoder(io.LimitReader(q.Body, 1<<16)).Decode(&in); err != nil || len(id) > 64 || in.Name == "" || len(in.Name) > 200 || !(in.PerSecond > 0 && in.PerSecond <= 25) || !(in.LeastScore >= 0 && in.LeastScore <= 1) || len(in.Within) > 64 {
		refuse(w, http.StatusBadRequest, "a view has a name, a rate above 0 and up to 25 a second, and a least score from 0 to 1")
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	sum := in.PerSecond
	for _, p := range a.mem.Views {
		if p.ID != id {
			sum += p.PerSecond
		}
	}
	if l := a.cfg.Limits.PerSecond; l > 0 && sum > l+1e-9 {
		refuse(w, http.StatusConflict, fmt.Sprintf("it looks at %g stills a second at the most", l))
		return
	}
	i := a.mem.find(id)
	if i < 0 {
		slot := a.free()
		switch n := len(a.mem.Views); {
		case slot < 0 || a.cfg.Limits.Views > 0 && n >= a.cfg.Limits.Views:
			refuse(w, http.StatusConflict, fmt.Sprintf("it looks at %d views at the most", a.cfg.slots()))
			return
		case a.cfg.Limits.Licences > 0 && n >= a.cfg.Limits.Licences:
			refuse(w, http.StatusConflict, "no licence is left")
			return
		}
		a.mem.Views = append(a.mem.Views, paired{ID: id, Slot: slot, Since: a.Now().UTC()})
		a.live[id] = &view{slot: slot}
		i = len(a.mem.Views) - 1
	}
	p := &a.mem.Views[i]
	p.Name, p.PerSecond, p.LeastScore, p.Within = in.Name, in.PerSecond, in.LeastScore, in.Within
	_ = wire.Save(a.cfg.StateFile, a.mem)
	reply(w, http.StatusOK, map[string]string{"id": id})
}

func (a *Analyser) unpair(w http.ResponseWriter, q *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	id := q.PathValue("id")
	i := a.mem.find(id)
	if i < 0 {
		refuse(w, http.StatusNotFound, "it knows no such view")
		return
	}
	a.onvif.Clear(a.mem.Views[i].Slot)
	a.mem.Views = append(a.mem.Views[:i:i], a.mem.Views[i+1:]...)
	for _, s := range a.live[id].queue {
		a.waiting -= len(s.data)
	}
	delete(a.live, id)
	_ = wire.Save(a.cfg.StateFile, a.mem)
	reply(w, http.StatusOK, map[string]string{})
}

func (a *Analyser) still(w http.ResponseWriter, q *http.Request) {
	most := maxStill
	if l := a.cfg.Limits.Bytes; l > 0 {
		most = l
	}
	data, err := io.ReadAll(io.LimitReader(q.Body, int64(most)+1))
	at, atErr := time.Parse(time.RFC3339Nano, q.URL.Query().Get("at"))
	size, sizeErr := jpeg.DecodeConfig(bytes.NewReader(data))
	a.mu.Lock()
	defer a.mu.Unlock()
	i := a.mem.find(q.PathValue("id"))
	if i < 0 {
		refuse(w, http.StatusNotFound, "it knows no such view")
		return
	}
	p, v := a.mem.Views[i], a.live[q.PathValue("id")]
	no := func(code int, format string, args ...any) {
		v.refused++
		refuse(w, code, fmt.Sprintf(format, args...))
	}
	l := a.cfg.Limits
	switch now := time.Now(); {
	case err != nil || atErr != nil || sizeErr != nil || !strings.HasPrefix(q.Header.Get("Content-Type"), "image/jpeg"):
		no(http.StatusBadRequest, "a still is a JPEG picture with the time at which it was taken")
	case len(data) > most:
		no(http.StatusRequestEntityTooLarge, "a still has %d bytes at the most", most)
	case l.Width > 0 && size.Width > l.Width || l.Height > 0 && size.Height > l.Height:
		no(http.StatusRequestEntityTooLarge, "it takes stills of up to %d × %d, and this is %d × %d", l.Width, l.Height, size.Width, size.Height)
	case !v.mayTake(now, p.PerSecond):
		no(http.StatusTooManyRequests, "%g stills a second were asked for of this view", p.PerSecond)
	case !at.After(v.newest):
		no(http.StatusConflict, "it was sent a later still of this view already")
	case a.waiting+len(data) > maxWaiting:
		no(http.StatusServiceUnavailable, "too many stills wait to be looked at")
	default:
		v.taken, v.newest = v.taken+1, at
		v.queue = append(v.queue, still{at: at, came: now, data: data})
		a.waiting += len(data)
		select {
		case a.wake <- struct{}{}:
		default:
		}
		reply(w, http.StatusAccepted, map[string]int{"waiting": len(v.queue)})
	}
}

package analyser

import (
	"bytes"
	"image/jpeg"
	"math"
	"slices"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/camera"
)

// still is a picture that waits to be looked at.
type still struct {
	at   time.Time // as who sent it says
	came time.Time
	data []byte
}

// view is one view that it looks at.
type view struct {
	slot                   int
	queue                  []still
	taken, looked, refused int64
	newest, last           time.Time
	room                   float64 // stills that it may be sent now, see mayTake
	filled                 time.Time
	sees                   look
	tracks                 tracker
}

// burst is how many stills more than its rate a view may be sent at once.
const burst = 3

// mayTake takes one still off what the view's rate allows.
func (v *view) mayTake(now time.Time, rate float64) bool {
	if v.filled.IsZero() {
		v.room = burst
	} else {
		v.room = math.Min(burst, v.room+now.Sub(v.filled).Seconds()*rate)
	}
	v.filled = now
	if v.room < 1 {
		return false
	}
	v.room--
	return true
}

// next takes the still that waited for the longest.
func (a *Analyser) next() (v *view, s still, as paired, takes time.Duration, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, p := range a.mem.Views {
		w := a.live[p.ID]
		if len(w.queue) > 0 && (!ok || w.queue[0].came.Before(s.came)) {
			v, s, as, ok = w, w.queue[0], p, true
		}
	}
	if ok {
		v.queue = v.queue[1:]
		a.waiting -= len(s.data)
	}
	return v, s, as, a.takes, ok
}

// work looks at stills, one after the other.
func (a *Analyser) work() {
	for {
		v, s, as, takes, ok := a.next()
		if !ok {
			select {
			case <-a.ctx.Done():
				return
			case <-a.wake:
			}
			continue
		}
		began := time.Now()
		img, err := jpeg.Decode(bytes.NewReader(s.data))
		var found []scene.Observation
		var gone []string
		var shows map[string]camera.Shown
		if err == nil {
			there := slices.DeleteFunc(v.sees.at(img), func(x seen) bool { return !as.Within.holds(x.box) })
			found, gone = v.tracks.follow(s.at, there, as.LeastScore)
			shows = a.shows(v, img, found)
		}
		if takes > 0 {
			select {
			case <-a.ctx.Done():
				return
			case <-time.After(takes):
			}
		}
		a.mu.Lock()
		a.busy += time.Since(began)
		v.looked, v.last = v.looked+1, s.at
		here := a.mem.find(a.idOf(v)) >= 0
		a.mu.Unlock()
		if err == nil && here {
			a.onvif.Tell(v.slot, s.at, found, gone, shows)
		}
	}
}

// idOf is by what a view is known; empty: it isn't any more.
func (a *Analyser) idOf(v *view) string {
	for id, w := range a.live {
		if w == v {
			return id
		}
	}
	return ""
}

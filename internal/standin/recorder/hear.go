package recorder

import (
	"context"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/device/onvif"
)

// hear keeps a subscription while an input asks for one.
func (w *worker) hear() {
	for w.p.URI == "" && w.ctx.Err() == nil {
		if !w.listens() {
			w.quiet()
			w.set(func(s *slot) { s.Events = "not asked" })
			select {
			case <-w.ctx.Done():
			case <-w.pegged:
			case <-time.After(10 * time.Second): // other hours may have begun
			}
			continue
		}
		err := w.subscribe()
		w.quiet()
		if w.ctx.Err() != nil {
			return
		}
		if err != nil {
			w.set(func(s *slot) { s.Events = err.Error() })
			pause(w.ctx, retry)
		}
	}
}

// listens says whether anything waits for the camera's events now: an input that topics are pegged
// to, or the plan.
func (w *worker) listens() bool {
	w.r.mu.Lock()
	defer w.r.mu.Unlock()
	p := w.r.mem.Channels[w.p.Number]
	if p == nil {
		return false
	}
	hears := w.r.hears(p)
	m := during(p.keeps(), w.r.local.at(w.r.now()))
	waits := false
	for _, c := range m.Causes {
		waits = waits || slices.Contains(hears, c)
	}
	if waits && m.Event != m.Idle {
		return true
	}
	return len(w.wants()) > 0 && (waits || !w.r.cfg.ByPlan)
}

// quiet forgets what went on: nothing is heard any more.
func (w *worker) quiet() {
	w.mu.Lock()
	defer w.mu.Unlock()
	clear(w.going)
}

// goes notes what an event says goes on, or happens once.
func (w *worker) goes(e onvif.Event) {
	cause := cameraEvent
	switch {
	case strings.Contains(e.Topic, "Motion"):
		cause = motion
	case strings.Contains(e.Topic, "DigitalInput"):
		cause = contact
	}
	bit := uint8(1) << slices.Index(causes, cause)
	key := e.Topic + "|" + e.Rule()
	w.mu.Lock()
	defer w.mu.Unlock()
	if e.Operation == "" {
		w.coming.on |= bit
		return
	}
	if on, _ := e.True(); on && e.Operation != "Deleted" {
		w.going[key] = bit
		w.coming.on |= bit
	} else {
		delete(w.going, key)
	}
}

func (w *worker) subscribe() error {
	c, _, err := w.client()
	if err != nil {
		return err
	}
	defer c.Close()
	services, _, err := c.Services(w.ctx)
	if err != nil {
		return err
	}
	point, err := c.Subscribe(w.ctx, services)
	if err != nil {
		return err
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(w.ctx), 2*time.Second)
		defer cancel()
		_ = point.Close(ctx)
	}()
	w.set(func(s *slot) { s.Events = "listening" })
	held := map[string]bool{}
	renewed := time.Now()
	for {
		events, err := point.Pull(w.ctx, 5*time.Second)
		if err != nil {
			return err
		}
		if !w.listens() {
			return nil
		}
		pegs := w.wants()
		for _, e := range events {
			w.note(e, pegs, held)
		}
		if time.Since(renewed) > 20*time.Second {
			if err := point.Renew(w.ctx); err != nil {
				return err
			}
			renewed = time.Now()
		}
	}
}

// note logs what an event means for the inputs it is pegged to.
func (w *worker) note(e onvif.Event, pegs map[string][]string, held map[string]bool) {
	w.mu.Lock()
	view := w.view
	w.mu.Unlock()
	if view.elsewhere(e.Source) {
		return // another view of the same camera, which another channel may take
	}
	w.goes(e)
	phase := phaseOf(e, held)
	if phase == "" {
		return
	}
	for _, input := range Inputs {
		if slices.Contains(pegs[input], e.Topic) {
			w.r.log(entry{Channel: w.p.Number, Name: w.p.Name, Input: input, Topic: e.Topic, Phase: phase})
		}
	}
}

// phaseOf is what an event is by what was heard before of the same rule, in held: once, begins or ends;
// empty where it only says how things stand (ONVIF Core, section 9.4.2: PropertyOperation).
func phaseOf(e onvif.Event, held map[string]bool) string {
	if e.Operation == "" {
		return "once"
	}
	key := e.Topic + "|" + e.Rule()
	was, known := held[key]
	is, _ := e.True()
	if e.Operation == "Deleted" {
		delete(held, key)
		if was {
			return "ends"
		}
		return ""
	}
	held[key] = is
	switch {
	case e.Operation == "Initialized" || known && is == was:
		return ""
	case is:
		return "begins"
	}
	return "ends"
}

// shows are the tokens of the view that a channel takes, and of the camera's other views.
type shows struct{ own, others []string }

func viewOf(profiles []tokens, taken tokens) (v shows) {
	for _, p := range profiles {
		if taken.source == "" || p.source == taken.source {
			v.own = append(v.own, p.source, p.config)
		} else {
			v.others = append(v.others, p.source, p.config)
		}
	}
	return v
}

// tokens are those of a profile's video source and of its configuration.
type tokens struct{ source, config string }

// elsewhere says whether an event names another view of the camera.
func (v shows) elsewhere(source map[string]string) bool {
	for _, item := range []string{"VideoSourceConfigurationToken", "VideoSourceToken", "VideoSource", "Source"} {
		if t := source[item]; t != "" && slices.Contains(v.others, t) && !slices.Contains(v.own, t) {
			return true
		}
	}
	return false
}

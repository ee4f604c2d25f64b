package engine

import (
	"context"
	"time"

	"duskyharbor/internal/store"
)

const (
	joinFor     = 250 * time.Millisecond // what changes within is told together
	notifyLimit = 2 * time.Second        // how long the database may take to tell it
	tellEach    = 32                     // beyond so many devices of a topic, several are told as one
)

// touch notes that something of a site changed; tell joins touches.
func (e *Engine) touch(site int64, topic store.Topic, ids ...int64) {
	if len(ids) == 0 {
		ids = []int64{0}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, id := range ids {
		e.dirty[store.Event{Site: site, Topic: topic, ID: id}] = true
	}
}

// Touch has pages hear that people decided something about a site.
func (e *Engine) Touch(site int64) { e.touch(site, store.OnSite) }

func (e *Engine) tell() {
	defer e.done.Done()
	tick := time.NewTicker(joinFor)
	defer tick.Stop()
	for over := false; !over; {
		select {
		case <-tick.C:
		case <-e.stop:
			over = true
		}
		e.mu.Lock()
		events := joined(e.dirty)
		e.dirty = map[store.Event]bool{}
		e.mu.Unlock()
		if len(events) == 0 {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), notifyLimit)
		if err := e.store.Notify(ctx, events...); err != nil {
			e.opt.Log.Warn("progress wasn't told", "err", err)
		}
		cancel()
	}
}

// joined lists what changed; many devices of one topic of a site become one event of
// several.
func joined(dirty map[store.Event]bool) []store.Event {
	type about struct {
		site  int64
		topic store.Topic
	}
	of := map[about][]store.Event{}
	for e := range dirty {
		a := about{e.Site, e.Topic}
		of[a] = append(of[a], e)
	}
	var out []store.Event
	for a, all := range of {
		if len(all) > tellEach {
			all = []store.Event{{Site: a.site, Topic: a.topic}}
		}
		out = append(out, all...)
	}
	return out
}

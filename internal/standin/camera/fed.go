package camera

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/wire"
)

// maxTold is how many documents wait for a stream of metadata whose reader is slow; more are lost.
const maxTold = 64

// fed is what one that is told what is seen does with it.
type fed struct {
	mu      sync.Mutex
	engines []engine
	hears   map[chan told]int // streams of metadata, by source
}

// told is what was seen of a source at a moment.
type told struct {
	at    time.Time
	seen  []scene.Observation
	shows map[string]Shown
}

// Shown is what is told of an object besides where it is.
type Shown struct {
	Picture []byte // JPEG; nil: none now
	Known   []Known
}

// Known is what an object is held to be by a set of references.
type Known struct {
	Set   string
	Entry int64
	As    string
	Score float64
}

// xml is it within an object's appearance.
func (s Shown) xml() string {
	out := pictureXML(s.Picture)
	if len(s.Known) == 0 {
		return out
	}
	out += `<tt:Extension>`
	for _, k := range s.Known {
		out += fmt.Sprintf(`<an:Known xmlns:an="urn:analyser:known" Set="%s" Entry="%d" As="%s" Score="%.3f"/>`, wire.Esc(k.Set), k.Entry, wire.Esc(k.As), k.Score)
	}
	return out + `</tt:Extension>`
}

// Tell has the analytics of a source be told what was seen at a moment, and what isn't there any more: their rules run over it, and who
// hears the source's metadata is told, with what there is to be told of some of it besides, by object.
func (c *Camera) Tell(source int, at time.Time, seen []scene.Observation, gone []string, shows map[string]Shown) {
	c.fed.mu.Lock()
	defer c.fed.mu.Unlock()
	select {
	case <-c.events.changed:
		c.fed.engines = c.engines()
	default:
	}
	when := time.Duration(at.UnixNano())
	for i := range c.fed.engines {
		e := &c.fed.engines[i]
		if e.source != source {
			continue
		}
		for _, o := range seen {
			o.At = when
			c.events.fire(source, e.Rule, e.Feed(o), at)
		}
		for _, who := range gone {
			c.events.fire(source, e.Rule, e.Forget(who, when), at)
		}
	}
	for hears, of := range c.fed.hears {
		if of != source {
			continue
		}
		select {
		case hears <- told{at, slices.Clone(seen), shows}:
		default:
		}
	}
}

// relate sends what a source's analytics are told, as it comes.
func (s *rtspSession) relate(ctx context.Context, t *track) {
	c, hears := s.cam, make(chan told, maxTold)
	events, leave := c.events.overhear()
	defer leave()
	c.fed.mu.Lock()
	if c.fed.hears == nil {
		c.fed.hears = map[chan told]int{}
	}
	c.fed.hears[hears] = s.profile.source
	c.fed.mu.Unlock()
	defer func() {
		c.fed.mu.Lock()
		delete(c.fed.hears, hears)
		c.fed.mu.Unlock()
	}()
	began := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case x := <-hears:
			doc := metadataXML(x.at, x.seen, func(o scene.Observation) string { return x.shows[o.Object].xml() }, events())
			if !s.sendDocument(t, []byte(doc), uint32(time.Since(began)*90000/time.Second)) {
				return
			}
		}
	}
}

// Clear takes all rules of a source off.
func (c *Camera) Clear(source int) {
	c.change(func(m *memory) { m.setRules(source, []rule.Rule{}) })
	c.events.follow(c.memory())
}

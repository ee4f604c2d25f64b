package camera

import (
	"context"
	"slices"
	"sync"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
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
	at       time.Time
	seen     []scene.Observation
	pictures map[string][]byte
}

// Tell has the analytics of a source be told what was seen at a moment, and what isn't there any more: their rules run over it, and who
// hears the source's metadata is told, with pictures (JPEG) of some of it by object.
func (c *Camera) Tell(source int, at time.Time, seen []scene.Observation, gone []string, pictures map[string][]byte) {
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
		case hears <- told{at, slices.Clone(seen), pictures}:
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
			doc := metadataXML(x.at, x.seen, func(o scene.Observation) string { return pictureXML(x.pictures[o.Object]) }, events())
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

package channel

import (
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stream"
)

// Planner proposes channels for sources that are placed together: each is proposed as if
// those before it were placed. The zero Planner has placed nothing.
type Planner struct {
	tables map[int64]*Recorder // as placing has left them
}

// Next proposes a source's channel on the recorder that w names, and takes it.
func (p *Planner) Next(now time.Time, f Facts, w Wishes) []finding.Change {
	if f.Recorder == nil || w.RecorderID == 0 {
		return nil
	}
	if p.tables == nil {
		p.tables = map[int64]*Recorder{}
	}
	r := p.tables[w.RecorderID]
	if r == nil {
		c := *f.Recorder
		c.Slots = slices.Clone(c.Slots)
		r, p.tables[w.RecorderID] = &c, &c
	}
	f.Recorder = r
	changes := Propose(now, f, w)
	for _, c := range changes {
		if n, err := strconv.Atoi(c.Args["channel"]); err == nil && c.Kind == Place {
			r.Slots = append(r.Slots, Slot{Number: n, Address: f.Address, Profile: w.Stream, Kbps: float64(w.Kbps), Width: w.Width, Height: w.Height, FPS: w.FPS})
		}
	}
	return changes
}

// PlacedAs is what a channel counts as: the stream that it asks for as its camera declares it; else what
// it counted as, or received, when its recorder was read before, where it holds the same.
func PlacedAs(s Slot, before Recorder, profiles []stream.Profile) Figures {
	if i := slices.IndexFunc(profiles, func(p stream.Profile) bool { return p.Token == s.Profile }); i >= 0 && s.Profile != "" {
		p := profiles[i]
		return Figures{Kbps: float64(p.Kbps), Width: p.Width, Height: p.Height, FPS: p.FPS}
	}
	i := slices.IndexFunc(before.Slots, func(o Slot) bool {
		return o.Number == s.Number && o.Address == s.Address && o.Profile == s.Profile && o.From == s.From
	})
	if i < 0 {
		return Figures{}
	}
	return before.Slots[i].counts()
}

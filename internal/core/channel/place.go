package channel

import (
	"fmt"
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

// On puts a source on one channel, w.Channel, beside those before it; why says what keeps it off.
func (p *Planner) On(now time.Time, f Facts, w Wishes) (changes []finding.Change, why string) {
	if t := p.tables[w.RecorderID]; t != nil {
		f.Recorder = t
	}
	if r := f.Recorder; r != nil && w.Channel > r.ChannelsNow() {
		return nil, fmt.Sprintf("channel %d of %s isn't there before its restart: Make room, on its channel face, comes first", w.Channel, f.Planned)
	} else if r != nil && r.Free(w.Channel) != w.Channel {
		return nil, fmt.Sprintf("channel %d of %s is taken, or kept for another", w.Channel, f.Planned)
	}
	if why := Waits(f, w, true); why != "" {
		return nil, why
	}
	if changes = p.Next(now, f, w); len(changes) == 0 {
		why = "nothing is to be changed of it"
	}
	return changes, why
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

package channels

import (
	"context"
	"fmt"
	"slices"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/channels"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// proposal is where each source that isn't placed would go.
type proposal struct {
	Recorders []proposed
	Left      []leftOver
	Unread    []string
	Says      string
	Count     int
}

type proposed struct {
	Recorder store.Device
	Restart  string // what a restart would cost; empty: none is needed
	Sources  []proposedSource
}

type proposedSource struct {
	ID    int64
	Name  string
	Value string
	Way   string
	On    string // its channel there
	From  string // the recorder that it was planned for, where this is another
}

type leftOver struct{ Name, Why string }

// propose reckons where all that isn't placed would go.
func (pg *Page) propose(ctx context.Context, p *shell.Request) (*proposal, error) {
	s, err := site.Load(ctx, pg.Store, p.Site.ID, nil)
	if err != nil {
		return nil, err
	}
	all, bins, a, unread := channels.Assign(s)
	out := &proposal{Count: len(a.To)}
	for _, b := range bins {
		d, _ := s.Device(b.ID)
		r := proposed{Recorder: d}
		for _, x := range all {
			if a.To[x.ID] != b.ID {
				continue
			}
			v := proposedSource{ID: x.ID, Name: x.Name, Value: fmt.Sprintf("%d:%d:%d", x.ID, b.ID, a.Number[x.ID]), Way: channel.WaySays(x.Fits[b.ID].Way)}
			v.On = fmt.Sprintf("channel %d", a.Number[x.ID])
			if a.Number[x.ID] > b.Recorder.ChannelsNow() {
				v.On += ", after the restart"
			}
			if was, ok := s.Device(x.Wish); ok && x.Wish != b.ID {
				v.From = was.Place
			}
			r.Sources = append(r.Sources, v)
		}
		if slices.Contains(a.Restarts, b.ID) {
			if changes, _ := b.Recorder.Room(b.ID, len(r.Sources)); len(changes) > 0 {
				r.Restart = changes[len(changes)-1].Why
			}
		}
		if len(r.Sources) > 0 {
			out.Recorders = append(out.Recorders, r)
		}
	}
	for _, x := range all {
		if why, left := a.Why[x.ID]; left {
			out.Left = append(out.Left, leftOver{x.Name, why})
		}
	}
	for _, of := range unread {
		out.Unread = append(out.Unread, of.Place)
	}
	switch {
	case a.Exact:
		out.Says = "No other placement takes more of them; of those that take as many none keeps more of what is planned, and of those none loses less, or restarts less."
	case a.Beyond == 0:
		out.Says = "No other placement takes more of them; another that takes as many may keep more of what is planned, or lose less."
	default:
		out.Says = fmt.Sprintf("The best that was found in a moment: another placement may take up to %s more.", shell.Plural(a.Beyond, "source"))
	}
	return out, nil
}

// sheetExtra is what the sheet asks of a source that is to be placed.
type sheetExtra struct {
	Source   store.Source
	Recorder int64 // that it is planned for
	Free     []int // channels of it
	Placed   bool
	Moves    []moveTo // where it can be moved to
}

// moveTo is a recorder that a camera can be moved to.
type moveTo struct {
	ID    int64
	Place string
	Here  bool // it holds it: another channel of it
}

func extraOf(sh *shell.Sheet) sheetExtra {
	x := sheetExtra{Source: sh.Row.Source}
	f, w := channels.Facts(sh.Snapshot, sh.Row.Source)
	x.Recorder, x.Placed = w.RecorderID, f.Slot != nil
	holder, slot, held := sh.Snapshot.HolderOf(sh.Row.Source)
	for _, rec := range sh.Snapshot.Recorders() {
		r, known := site.Recorder.Of(sh.Snapshot, rec.ID)
		if held && slot != nil && known && !r.ByHand && !r.Lacks(channel.ActPlace) && rec.Cascade == nil {
			x.Moves = append(x.Moves, moveTo{rec.ID, rec.Place, rec.ID == holder.ID})
		}
	}
	slices.SortStableFunc(x.Moves, func(a, b moveTo) int { return shell.Int(a.Here) - shell.Int(b.Here) })
	if f.Recorder == nil || f.Slot != nil {
		return x
	}
	for n := 1; n <= f.Recorder.ChannelsNow() && len(x.Free) < maxSlots; n++ {
		if !slices.ContainsFunc(f.Recorder.Slots, func(s channel.Slot) bool { return s.Number == n }) {
			x.Free = append(x.Free, n)
		}
	}
	return x
}

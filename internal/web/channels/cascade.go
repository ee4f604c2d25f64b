package channels

import (
	"context"
	"fmt"
	"slices"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/stages/channels"
	"duskyharbor/internal/web/shell"
)

// cascadeView is what a recorder that takes other recorders' channels holds of them.
type cascadeView struct {
	Groups []offerGroup
	Out    int // steps that are out of step
	Mends  int // of which can be mended from here
	Free   int // that could be taken
}

type offerGroup struct {
	Place string
	Rows  []offerRow
}

type offerRow struct {
	channel.Step
	Value string // recorder and channel, to be taken
	Title string
	Shown stage.Mark
	Note  string // how it stands, or why it can't be taken
	Free  bool   // it can be taken
}

// standingMarks are the marks of how a channel stands.
var standingMarks = map[channel.Standing]stage.State{channel.InStep: stage.Ready, channel.Coming: stage.Working, channel.Offered: stage.NotYet, channel.Renamed: stage.Needs,
	channel.Extra: stage.Needs, channel.Missing: stage.Blocked, channel.Dark: stage.Blocked, channel.Gone: stage.Needs}

// cascade fills in what a recorder takes of others, the worst first within each.
func (pg *Page) cascade(_ context.Context, p *shell.Request, d *channelsData) error {
	d.MayCascade = d.Status != nil && !d.Status.ByHand && len(d.Recorders) > 1
	steps, plan, ok := channels.CascadeSteps(p.Snapshot, d.Chosen)
	if !ok {
		return nil
	}
	v := &cascadeView{}
	for _, s := range steps {
		r := rowOf(s, *plan)
		if s.Is == channel.InStep && s.Offer.Slot.HasStill {
			d.lend(s)
		}
		if d.Trouble != "" && r.Shown.State == stage.Ready { // it is silent: how it stands isn't known now
			r.Shown.State = stage.Stale
		}
		v.Free += shell.Int(r.Free)
		if s.Out() {
			v.Out++
			_, _, mends := plan.Alone().Mend(s)
			v.Mends += shell.Int(mends)
		}
		i := slices.IndexFunc(v.Groups, func(g offerGroup) bool { return g.Place == s.Offer.Place })
		if i < 0 {
			i, v.Groups = len(v.Groups), append(v.Groups, offerGroup{Place: s.Offer.Place})
		}
		v.Groups[i].Rows = append(v.Groups[i].Rows, r)
	}
	for _, g := range v.Groups {
		slices.SortStableFunc(g.Rows, func(a, b offerRow) int { return shell.Int(b.Out()) - shell.Int(a.Out()) })
	}
	d.Cascade = v
	return nil
}

// lend shows, on the channel that takes it, the picture of the recorder that a channel is of.
func (d *channelsData) lend(s channel.Step) {
	for i := range d.Slots {
		if v := &d.Slots[i]; v.Number == s.Held.Number && v.Still == "" {
			v.Still, v.StillSays = fmt.Sprintf("%d/%d", s.Offer.Recorder, s.Offer.Channel), "What "+s.Offer.Place+" holds of"
		}
	}
}

// rowOf is one channel with how it stands.
func rowOf(s channel.Step, plan channel.CascadePlanner) offerRow {
	r := offerRow{Step: s, Value: fmt.Sprintf("%d:%d", s.Offer.Recorder, s.Offer.Channel), Title: fmt.Sprintf("%d · %s", s.Offer.Channel, s.Offer.Slot.Name),
		Shown: stage.Mark{State: standingMarks[s.Is], Words: string(s.Is)}, Note: s.Words}
	switch {
	case s.Offer.Slot.Name == "" && s.Held != nil:
		r.Title = s.Held.Name
	case s.Offer.Slot.Name == "":
		r.Title = fmt.Sprintf("channel %d", s.Offer.Channel)
	}
	switch s.Is {
	case channel.InStep:
		r.Note = fmt.Sprintf("on channel %d, called the same, and it receives", s.Held.Number)
	case channel.Offered:
		if _, r.Note, r.Free = plan.Take(s.Offer); r.Free && s.Offer.Slot.State != channel.Receiving {
			r.Note = fmt.Sprintf("%s receives nothing of it now", s.Offer.Place)
		}
	}
	return r
}

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

// feedsView is what a recorder that takes other recorders' channels holds of them.
type feedsView struct {
	Groups []feedGroup
	Out    int // steps that are out of step
	Mends  int // of which can be mended from here
	Free   int // that could be taken
}

type feedGroup struct {
	Place string
	Rows  []feedRow
}

type feedRow struct {
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

// feeds fills in what a recorder takes of others, the worst first within each.
func (pg *Page) feeds(_ context.Context, p *shell.Request, d *channelsData) error {
	d.MayFeed = d.Status != nil && !d.Status.ByHand && len(d.Recorders) > 1
	steps, plan, ok := channels.Steps(p.Snapshot, d.Chosen)
	if !ok {
		return nil
	}
	v := &feedsView{}
	for _, s := range steps {
		r := rowOf(s, *plan)
		if s.Is == channel.InStep && s.Feed.Slot.HasStill {
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
		i := slices.IndexFunc(v.Groups, func(g feedGroup) bool { return g.Place == s.Feed.Place })
		if i < 0 {
			i, v.Groups = len(v.Groups), append(v.Groups, feedGroup{Place: s.Feed.Place})
		}
		v.Groups[i].Rows = append(v.Groups[i].Rows, r)
	}
	for _, g := range v.Groups {
		slices.SortStableFunc(g.Rows, func(a, b feedRow) int { return shell.Int(b.Out()) - shell.Int(a.Out()) })
	}
	d.Feeds = v
	return nil
}

// lend shows, on the channel that takes it, the picture of the recorder that a channel is of.
func (d *channelsData) lend(s channel.Step) {
	for i := range d.Slots {
		if v := &d.Slots[i]; v.Number == s.Held.Number && v.Still == "" {
			v.Still, v.StillSays = fmt.Sprintf("%d/%d", s.Feed.Recorder, s.Feed.Channel), "What "+s.Feed.Place+" holds of"
		}
	}
}

// rowOf is one channel with how it stands.
func rowOf(s channel.Step, plan channel.FeedPlanner) feedRow {
	r := feedRow{Step: s, Value: fmt.Sprintf("%d:%d", s.Feed.Recorder, s.Feed.Channel), Title: fmt.Sprintf("%d · %s", s.Feed.Channel, s.Feed.Slot.Name),
		Shown: stage.Mark{State: standingMarks[s.Is], Words: string(s.Is)}, Note: s.Words}
	switch {
	case s.Feed.Slot.Name == "" && s.Held != nil:
		r.Title = s.Held.Name
	case s.Feed.Slot.Name == "":
		r.Title = fmt.Sprintf("channel %d", s.Feed.Channel)
	}
	switch s.Is {
	case channel.InStep:
		r.Note = fmt.Sprintf("on channel %d, called the same, and it receives", s.Held.Number)
	case channel.Offered:
		if _, r.Note, r.Free = plan.Take(s.Feed); r.Free && s.Feed.Slot.State != channel.Receiving {
			r.Note = fmt.Sprintf("%s receives nothing of it now", s.Feed.Place)
		}
	}
	return r
}

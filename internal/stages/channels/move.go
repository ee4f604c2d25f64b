package channels

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Move is cameras, and the recorder that they are moved to; the channel, where it is one camera.
type Move struct {
	act.Selection
	Recorder
	Channel int `form:"channel" json:"channel,omitempty"`
}

// planMove places each on the other recorder, and takes it out of the one that holds it once it is received there.
func planMove(now time.Time, s *act.Seen, x Move) (p act.Planned, err error) {
	if x.ID == 0 {
		return p, act.Wrong("recorder", "Choose the recorder that they are moved to.")
	}
	to, r, err := x.Recorder.of(s.Snapshot)
	if err != nil {
		return p, err
	}
	if x.Channel != 0 && len(s.Of) > 1 {
		return p, act.Wrong("channel", "A channel is chosen for one camera; several get free ones, their own numbers where those are free.")
	}
	if why := r.Chosen(x.Channel, to.Place); x.Channel != 0 && why != "" {
		return p, act.Wrong("channel", why)
	}
	var planner channel.Planner
	for _, of := range s.Of {
		from, held, ok := s.HolderOf(of)
		table, _ := site.Recorder.Of(s.Snapshot, from.ID)
		switch {
		case !ok || held == nil:
			p.Refuse(of.Place, "no recorder holds it: plan it for "+to.Place)
			continue
		case from.ID == to.ID && x.Channel == 0 || from.ID == to.ID && x.Channel == held.Number:
			p.Idle++
			continue
		}
		if why := table.Stay(held); why != "" {
			p.Refuse(of.Place, why)
			continue
		}
		spot := channel.Spot{Recorder: to.ID}
		var place []finding.Change
		if there := s.SlotOn(of, to.ID); there != nil && from.ID != to.ID {
			spot.Channel = there.Number // both hold it: it only leaves
		} else {
			f, w := factsOn(s.Snapshot, of, to)
			if w.Channel = held.Number; x.Channel != 0 {
				w.Channel = x.Channel
			}
			if from.ID == to.ID { // it is taken out first: what it takes there now is free by then
				f.Recorder = f.Recorder.Without(held.Number)
			}
			var why string
			if place, why = channel.Succeeds(planner.Next(now, f, w), f, w, w.Channel, from.Place, to.Place); why != "" {
				p.Refuse(of.Place, to.Place+" can't take it: "+why)
				continue
			}
		}
		all := table.Moves(from.ID, *held, place, spot, to.Place)
		if from.ID == to.ID {
			all = table.Renumbers(from.ID, *held, place)
		}
		p.Of = append(p.Of, act.Changes{Source: of, All: all, Ordered: true})
	}
	p.Title = fmt.Sprintf("Move %s to %s", act.Count(len(p.Of), "camera"), to.Place)
	return p, nil
}

// Leaving is cameras that are taken off their channels.
type Leaving struct{ act.Selection }

func planLeave(_ time.Time, s *act.Seen, _ Leaving) (p act.Planned, err error) {
	for _, of := range s.Of {
		from, held, ok := s.HolderOf(of)
		if !ok || held == nil {
			p.Idle++
			continue
		}
		table, _ := site.Recorder.Of(s.Snapshot, from.ID)
		if why := table.Stay(held); why != "" {
			p.Refuse(of.Place, why)
			continue
		}
		p.Of = append(p.Of, act.Changes{Source: of, All: []finding.Change{table.Leaves(from.ID, *held)}})
	}
	p.Title = "Take " + act.Count(len(p.Of), "camera") + " out of recorders"
	p.Says = "No recorder holds any of them."
	return p, nil
}

// leaving takes a camera off its channel, where it is to go to another once it is received there.
func (c *Stage) leaving(ctx context.Context, v *engine.Visit, ch store.Change, client recorder.Driver, number int) (engine.Editor, error) {
	e := engine.EditorFuncs{Shut: client.Close, WriteFunc: func(ctx context.Context) error { return client.Remove(ctx, number) }}
	e.ReadFunc = func(ctx context.Context) (string, error) {
		slot, taken, err := recorders.Slot(ctx, client, number)
		if err != nil || !taken {
			return channel.Empty, err
		}
		if err := c.arrived(ctx, v, ch); err != nil {
			return "", err
		}
		return channel.SlotText(slot.Name, slot.Address), nil
	}
	return e, nil
}

// arrived is nil once the recorder that a camera goes to receives it, or where it goes to none.
func (c *Stage) arrived(ctx context.Context, v *engine.Visit, ch store.Change) error {
	if ch.Args["after"] == "" {
		return nil
	}
	id, err := strconv.ParseInt(ch.Args["after"], 10, 64)
	number, err2 := strconv.Atoi(ch.Args["after_channel"])
	if err != nil || err2 != nil {
		return fmt.Errorf("change %d names no channel that it waits for", ch.ID)
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return err
	}
	to, ok := s.Device(id)
	if !ok {
		return trouble.UserError("The recorder that it goes to is none of the site's any more.")
	}
	client, err := c.Accounts.Recorder(ctx, to)
	if err != nil {
		return err
	}
	defer client.Close()
	slot, taken, err := recorders.Slot(ctx, client, number)
	if err != nil {
		return err
	}
	at := &slot
	if !taken {
		at = nil
	}
	now := time.Now()
	since := channel.SinceOf(ch.Reads, now)
	wait, why := channel.Arrived(to.Place, at, now.Sub(since), min(channel.SilentFor, c.Away))
	switch {
	case wait:
		return engine.PendingError{Reads: channel.Since(since), Says: why}
	case why != "":
		return trouble.UserError(why + ".")
	}
	return nil
}

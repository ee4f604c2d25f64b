package channels

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	accounts "duskyharbor/internal/account"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// CascadeSteps says how a recorder that takes other recorders' channels stands to them. ok is false where it
// takes cameras, or wasn't read.
func CascadeSteps(s *site.Snapshot, desk store.Device) (steps []channel.Step, plan *channel.CascadePlanner, ok bool) {
	table, known := site.Recorder.Of(s, desk.ID)
	if desk.Cascade == nil || !known {
		return nil, nil, false
	}
	var offered []channel.Offer
	at := map[string]string{}
	for _, rec := range s.Recorders() {
		r, known := site.Recorder.Of(s, rec.ID)
		if rec.ID == desk.ID || rec.Cascade != nil || rec.Address == nil || !known {
			continue
		}
		at[rec.Address.String()] = rec.Place
		for _, slot := range r.Slots {
			offered = append(offered, channel.Offer{Pick: channel.Pick{Recorder: rec.ID, Channel: slot.Number}, Place: rec.Place,
				Address: rec.Address.String(), Slot: slot, URI: site.ServedAt(rec, slot)})
		}
	}
	return channel.Steps(table, *desk.Cascade, offered, at), &channel.CascadePlanner{Recorder: desk.ID, R: table}, true
}

// cascadeEditor reads and writes a channel that takes another recorder's.
func (c *Stage) cascadeEditor(ctx context.Context, v *engine.Visit, client recorder.Driver, ch store.Change) (engine.Editor, error) {
	number, err := strconv.Atoi(ch.Args["channel"])
	if err != nil {
		client.Close()
		return nil, fmt.Errorf("change %d names no channel", ch.ID)
	}
	e := engine.EditorFuncs{Shut: client.Close}
	e.ReadFunc = func(ctx context.Context) (string, error) {
		slot, taken, err := recorders.Slot(ctx, client, number)
		switch {
		case err != nil || !taken:
			return channel.Empty, err
		case ch.Kind == channel.NameTaken:
			return slot.Name, nil
		}
		return channel.CascadeText(slot), nil
	}
	e.WriteFunc = func(ctx context.Context) error {
		if ch.Kind == channel.NameTaken {
			return client.Rename(ctx, number, ch.Args["name"])
		}
		return c.takeChannel(ctx, v, client, number, ch)
	}
	return e, nil
}

// takeChannel gives a recorder another one's channel, with the account that opens that one: it goes to
// what has shown itself to be a recorder of this site and isn't in doubt, as both are asked to.
func (c *Stage) takeChannel(ctx context.Context, v *engine.Visit, client recorder.Driver, number int, ch store.Change) error {
	id, err := strconv.ParseInt(ch.Args["from"], 10, 64)
	if err != nil {
		return fmt.Errorf("change %d names no recorder to take from", ch.ID)
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return err
	}
	from, ok := s.Device(id)
	if !ok || from.SetID == nil {
		return trouble.UserError("The recorder that the channel is of was taken off the site, or has no account.")
	}
	for _, d := range []store.Device{from, v.Device} {
		if err := accounts.Doubted(d, s); err != nil {
			return err
		}
	}
	username, password, err := c.Accounts.Secret(ctx, *from.SetID)
	if err != nil {
		return err
	}
	return client.Place(ctx, number, recorder.Placement{Name: ch.Args["name"], Address: ch.Args["address"], URI: ch.Args["uri"],
		Username: username, Password: password, Way: channel.RTSP})
}

// keepPicks keeps what was taken over, and what was taken out again.
func (c *Stage) keepPicks(ctx context.Context, changes []store.Change) error {
	for _, ch := range changes {
		from, err := strconv.ParseInt(ch.Args["from"], 10, 64)
		of, err2 := strconv.Atoi(ch.Args["of"])
		on := ch.Kind == channel.TakeChannel
		if err != nil || err2 != nil || !ch.Made() || !on && ch.Kind != channel.TakeOut {
			continue
		}
		if err := c.Store.PickCascade(ctx, ch.DeviceID, channel.Pick{Recorder: from, Channel: of}, on); err != nil {
			return err
		}
	}
	return nil
}

// connecting says whether a recorder, as it was read last, is still connecting to one of its channels.
func connecting(s *site.Snapshot, recorder int64) bool {
	table, _ := site.Recorder.Of(s, recorder)
	return slices.ContainsFunc(table.Slots, func(slot channel.Slot) bool { return !channel.Settled(slot) })
}

// followCascade reads a recorder; more says that it is still connecting to a channel, or that one of
// another recorder that it takes is still to come: a system that was just told hasn't tried again yet.
func (c *Stage) followCascade(ctx context.Context, v *engine.Visit) (more bool, err error) {
	if _, err := c.Recorders.Read(ctx, v.Device); err != nil {
		return false, err
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return false, err
	}
	steps, _, _ := CascadeSteps(s, v.Device)
	for _, x := range steps {
		if x.Held != nil && x.Held.State != channel.Receiving && x.Offer.Slot.State == channel.Receiving {
			return true, nil
		}
	}
	return connecting(s, v.Device.ID), nil
}

package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/store"
)

// Pick is one camera's changes that a person asked for.
type Pick struct {
	Device  store.Device
	Changes []finding.Change
}

// Apply writes the picked changes down as asked for and starts the run that makes
// them, all in one transaction: a change is a row before it is a call.
func (o *Office) Apply(ctx context.Context, site int64, st stage.Stage, title string, person int64, picks []Pick) (int64, error) {
	picks = slices.DeleteFunc(picks, func(p Pick) bool { return len(p.Changes) == 0 })
	if len(picks) == 0 {
		return 0, toldError("There is nothing to change: everything reads as it should.")
	}
	var id int64
	err := o.store.InTx(ctx, func(tx pgx.Tx) error {
		n := store.NewRun{Site: site, Stage: st, Act: store.Apply, Title: title, Person: person}
		byDevice := map[int64]Pick{}
		for _, p := range picks {
			n.Devices = append(n.Devices, p.Device.ID)
			byDevice[p.Device.ID] = p
		}
		run, steps, err := o.store.AddRun(ctx, tx, n)
		if err != nil {
			return err
		}
		id = run
		for _, s := range steps {
			p := byDevice[*s.DeviceID]
			for _, c := range p.Changes {
				if _, err := o.store.AddChange(ctx, tx, site, p.Device.ID, p.Device.SourceID, s.ID, person, st, c); err != nil {
					return err
				}
			}
		}
		return o.enqueue(ctx, tx, n, steps, false)
	})
	if errors.Is(err, store.ErrUnderWay) {
		return 0, toldError("That change is under way already.")
	}
	if err == nil {
		o.touch(site)
	}
	return id, err
}

// hand reads and writes the thing one kind of change is about.
type hand struct {
	read  func(ctx context.Context) (string, error)
	write func(ctx context.Context) error
}

// apply makes a step's changes in order. Each is read first: what reads To is
// verified, what reads From is sent, anything else asks a person. A step that is
// run again after a crash does the same, so no change is made twice.
func (o *Office) apply(ctx context.Context, d store.Device, a stepArgs) (string, error) {
	all, err := o.store.ChangesOfStep(ctx, a.Step)
	if err != nil {
		return "", err
	}
	o.opt.Pause("asked")
	made := 0
	var trouble error
	for _, c := range all {
		if !c.Open() {
			continue
		}
		if trouble != nil || o.store.Stopped(ctx, a.Step) {
			says := "not sent: the one before it didn't hold"
			if trouble == nil {
				says = "stopped before it was sent"
			}
			if err := o.store.SettleChange(ctx, c.ID, "failed", "", says); err != nil {
				return "", err
			}
			continue
		}
		terr := o.applyOne(ctx, d, c)
		if terr != nil && ours(terr) {
			return "", terr
		}
		if terr != nil {
			trouble = terr
			if err := o.store.SettleChange(ctx, c.ID, "failed", "", terr.Error()); err != nil {
				return "", err
			}
			continue
		}
		made++
	}
	if err := o.refresh(ctx, d, a.Stage); err != nil && ours(err) {
		return "", err
	}
	if err := o.judgeAround(ctx, d); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d changes read back", made), trouble
}

func (o *Office) applyOne(ctx context.Context, d store.Device, c store.Change) error {
	h, closer, err := o.hand(ctx, d, c)
	if err != nil {
		return err
	}
	defer closer()
	reads, err := h.read(ctx)
	if err != nil {
		return err
	}
	switch finding.Settle(c.Core(), reads) {
	case finding.Verified:
		return o.settle(ctx, c, reads)
	case finding.Ask:
		if err := o.store.SettleChange(ctx, c.ID, "asks", reads, fmt.Sprintf("It reads %q now, neither what it was nor what was wanted: someone else changed it. Read it again and decide.", reads)); err != nil {
			return err
		}
		return nil
	}
	if err := o.store.SendChange(ctx, c.ID, reads); err != nil {
		return err
	}
	o.touch(d.SiteID)
	o.opt.Pause("sent")
	if err := h.write(ctx); err != nil {
		return err
	}
	o.opt.Pause("written")
	reads, err = h.read(ctx)
	if err != nil {
		return err
	}
	if reads != c.ToText {
		return toldError(fmt.Sprintf("it was sent and reads %q all the same", reads))
	}
	return o.settle(ctx, c, reads)
}

// settle marks a change that reads as wanted: verified, or read back with readings
// to follow.
func (o *Office) settle(ctx context.Context, c store.Change, reads string) error {
	if len(c.Later) == 0 {
		return o.store.SettleChange(ctx, c.ID, "verified", reads, "read back")
	}
	return o.store.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update change set state = 'read back', reads = $2, says = 'read back; it is read again' where id = $1`, c.ID, reads); err != nil {
			return err
		}
		var jobs []river.InsertManyParams
		for i, after := range c.Later {
			jobs = append(jobs, river.InsertManyParams{Args: againArgs{Change: c.ID, Nth: i + 1, Last: i == len(c.Later)-1},
				InsertOpts: &river.InsertOpts{ScheduledAt: time.Now().Add(time.Duration(after))}})
		}
		_, err := o.river.InsertManyTx(ctx, tx, jobs)
		return err
	})
}

// again reads a changed clock once more, and the recorder that holds the camera.
func (o *Office) again(ctx context.Context, a againArgs) error {
	c, err := o.store.Change(ctx, a.Change)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	d, err := o.store.Device(ctx, c.DeviceID)
	if err != nil {
		return err
	}
	_, terr := o.readClock(ctx, d)
	if terr != nil && ours(terr) {
		return terr
	}
	if err := o.untilHeld(ctx, d); err != nil && ours(err) {
		return err
	}
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return err
	}
	f, _ := v.Clock(d)
	after := time.Duration(c.Later[min(a.Nth, len(c.Later))-1])
	switch {
	case terr != nil:
		if a.Last {
			err = o.store.SettleChange(ctx, c.ID, "failed", "", fmt.Sprintf("after %s: %v", spoken(after), terr))
		}
	case inBand(f):
		err = o.store.SettleChange(ctx, c.ID, "verified", c.ToText, fmt.Sprintf("after %s it is %s from %s", spoken(after), f.Offset(), f.Reference.Name))
	case a.Last:
		err = o.store.SettleChange(ctx, c.ID, "failed", c.ToText, fmt.Sprintf("after %s it is still %s from %s", spoken(after), f.Offset(), f.Reference.Name))
	}
	if err != nil {
		return err
	}
	return o.judgeAround(ctx, d)
}

// spoken is a wait in words: "5 s", "a minute".
func spoken(d time.Duration) string {
	if d == time.Minute {
		return "a minute"
	}
	return fmt.Sprintf("%.0f s", d.Seconds())
}

// untilHeld reads the camera's recorder until it receives: a recorder that was
// refused tries again by itself, some seconds after the clock was mended.
func (o *Office) untilHeld(ctx context.Context, d store.Device) error {
	for range 12 {
		_, slot, err := o.heldBy(ctx, d)
		if err != nil || slot == nil || slot.State == "receiving" {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
	return nil
}

// refresh reads what a stage's changes touched.
func (o *Office) refresh(ctx context.Context, d store.Device, st stage.Stage) error {
	switch st {
	case stage.Clock:
		_, err := o.readClock(ctx, d)
		return err
	case stage.Channels:
		// It says "connecting" until it knows whether the camera takes it.
		for range 12 {
			_, slot, err := o.heldBy(ctx, d)
			if err != nil {
				return err
			}
			if slot == nil || slot.State != "connecting" {
				break
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(time.Second):
			}
		}
		return o.readInputs(ctx, d)
	case stage.Routes:
		// The recorder subscribes once an input asks for it; it says so a moment later.
		for range 10 {
			if err := o.readInputs(ctx, d); err != nil {
				return err
			}
			v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
			if err != nil {
				return err
			}
			if f := v.Routes(d); len(f.Pegs) == 0 || f.Events != "not asked" {
				return nil
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(300 * time.Millisecond):
			}
		}
	}
	return nil
}

// dropAsked settles a stopped step's changes that were never sent.
func (o *Office) dropAsked(ctx context.Context, step int64) error {
	all, err := o.store.ChangesOfStep(ctx, step)
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.State == "asked" {
			if err := o.store.SettleChange(ctx, c.ID, "failed", "", "stopped before it was sent"); err != nil {
				return err
			}
		}
	}
	return nil
}

// hand gives the reading and the writing of a change's thing.
func (o *Office) hand(ctx context.Context, d store.Device, c store.Change) (hand, func(), error) {
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return hand{}, nil, err
	}
	if strings.HasPrefix(c.Kind, "clock.") {
		cam, _, err := o.open(ctx, d, v)
		if err != nil {
			return hand{}, nil, err
		}
		f, _ := v.Clock(d)
		return clockHand(cam, f, c), cam.Close, nil
	}
	rec, _, ok := v.HolderOf(d)
	if !ok {
		return hand{}, nil, toldError("No recorder is planned for " + d.Place + ".")
	}
	rc, err := o.recorderClient(ctx, rec)
	if err != nil {
		return hand{}, nil, err
	}
	number, err := strconv.Atoi(c.Args["channel"])
	if err != nil {
		rc.Close()
		return hand{}, nil, fmt.Errorf("work: change %d names no channel", c.ID)
	}
	switch c.Kind {
	case channel.Place:
		return o.placeHand(d, v, rc, number, c), rc.Close, nil
	case route.PegInput:
		return pegHand(rc, number, c), rc.Close, nil
	}
	rc.Close()
	return hand{}, nil, fmt.Errorf("work: nobody knows how to make a change of kind %q", c.Kind)
}

func clockHand(cam *onvif.Client, f clock.Facts, c store.Change) hand {
	// Every signed call after a write carries the time that the device has then. Its
	// own NTP may step it between two calls: then it is read once more.
	now := func(ctx context.Context) (r clock.Reading, err error) {
		for range 2 {
			if r, err = cam.Time(ctx); err != nil {
				return r, err
			}
			cam.Follow(r)
			if c.Kind != clock.SetSource {
				return r, nil
			}
			if r.Servers, r.FromDHCP, err = cam.NTP(ctx); !errors.Is(err, dial.ErrNotAuthorised) {
				return r, err
			}
		}
		return r, err
	}
	read := func(ctx context.Context) (string, error) {
		r, err := now(ctx)
		switch {
		case err != nil:
			return "", err
		case c.Kind == clock.SetZone:
			return r.ZoneText(), nil
		case c.Kind == clock.SetSource:
			return r.Source(), nil
		}
		f.Camera = &r
		if inBand(f) {
			return c.ToText, nil
		}
		return c.FromText, nil
	}
	write := func(ctx context.Context) error {
		r, err := now(ctx)
		if err != nil {
			return err
		}
		switch c.Kind {
		case clock.SetZone:
			utc := time.Time{}
			if !r.NTP { // a time set by hand must be given again: its own, not ours
				utc = time.Now().Add(r.Offset.Mid())
			}
			return cam.SetTime(ctx, r.NTP, c.Args["zone"], c.Args["daylight"] == "on", utc)
		case clock.SetSource:
			if err := cam.SetNTP(ctx, c.Args["server"]); err != nil {
				return err
			}
			if r, err = cam.Time(ctx); err != nil {
				return err
			}
			cam.Follow(r)
			return cam.SetTime(ctx, true, r.Zone, r.Daylight, time.Time{})
		}
		return cam.SetTime(ctx, false, r.Zone, r.Daylight, time.Now().Add(f.Reference.Offset.Mid()+500*time.Millisecond))
	}
	return hand{read, write}
}

func (o *Office) placeHand(d store.Device, v *View, rc *recorder.Client, number int, c store.Change) hand {
	return hand{
		read: func(ctx context.Context) (string, error) {
			status, _, err := rc.Status(ctx)
			if err != nil {
				return "", err
			}
			for _, s := range status.Slots {
				if s.Number == number {
					return channel.SlotText(s.Name, s.Address), nil
				}
			}
			return channel.Empty, nil
		},
		write: func(ctx context.Context) error {
			account, ok := v.Account(d.ID)
			seen, heard := v.Seen(d.ID)
			if !ok || !heard {
				return toldError("No account opens " + d.Place + " yet: sign in first.")
			}
			set, err := o.store.Set(ctx, account.SetID)
			if err != nil {
				return err
			}
			password, err := o.vault.Open(set.Sealed, store.SetPlace(set.ID))
			if err != nil {
				return err
			}
			return rc.Place(ctx, number, recorder.Placement{Name: c.Args["name"], Address: c.Args["address"], Service: seen.Service,
				Username: set.Username, Password: password, Profile: c.Args["stream"]})
		},
	}
}

func pegHand(rc *recorder.Client, number int, c store.Change) hand {
	return hand{
		read: func(ctx context.Context) (string, error) {
			_, pegs, _, err := rc.Inputs(ctx, number)
			return route.Text(pegs, c.Args["input"]), err
		},
		write: func(ctx context.Context) error {
			return rc.SetInput(ctx, number, c.Args["input"], route.Topics(c.Args["topics"]))
		},
	}
}

package work

import (
	"context"
	"errors"
	"slices"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
)

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
	case stage.Find:
		return o.seeAgain(ctx, d)
	case stage.SignIn:
		_, err := o.signIn(ctx, d, try{})
		return err
	case stage.Clock:
		if d.Kind == identity.Recorder {
			_, err := o.readRecorder(ctx, d)
			return err
		}
		_, err := o.readClock(ctx, d, true)
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
		return errors.Join(o.clockAnew(ctx, d), o.readInputs(ctx, d))
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

// clockAnew reads a clock again where it was read against another recorder than the
// one that holds the camera now: placing makes the reading stale.
func (o *Office) clockAnew(ctx context.Context, d store.Device) error {
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return err
	}
	if f, _ := v.Clock(d); clock.Stale(f) == "" {
		return nil
	}
	_, err = o.readClock(ctx, d, true)
	return err
}

// wasReset says whether a step put its device back as it left the box.
func (o *Office) wasReset(ctx context.Context, step int64) (bool, error) {
	all, err := o.store.ChangesOfStep(ctx, step)
	return slices.ContainsFunc(all, func(c store.Change) bool { return c.Kind == access.Reset && c.Made() }), err
}

// seeAgain reads what a change of Find touched: the recorder that tells of the device,
// and its place on the network.
func (o *Office) seeAgain(ctx context.Context, d store.Device) error {
	d, err := o.store.Device(ctx, d.ID)
	if err != nil {
		return err
	}
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return err
	}
	if f, _ := v.Find(d); f.Behind != nil {
		if rec, ok := v.Device(f.Behind.RecorderID); ok {
			if _, err := o.readRecorder(ctx, rec); err != nil {
				return err
			}
		}
	}
	if _, open := v.Account(d.ID); !open {
		return nil
	}
	c, _, err := o.open(ctx, d, v)
	if err != nil {
		return err
	}
	defer c.Close()
	seat, _, err := c.IPConfig(ctx)
	if err != nil {
		return err
	}
	heard, err := c.Discoverable(ctx)
	if err != nil && !errors.Is(err, dial.ErrNotSupported) {
		return err
	}
	now := time.Now().UTC()
	return o.store.KeepFacts(ctx, store.NewFact{Device: d.ID, Name: factSeat, Via: "GetNetworkInterfaces, GetNetworkDefaultGateway", At: now, Value: seat},
		store.NewFact{Device: d.ID, Name: factHidden, Via: "GetDiscoveryMode", At: now, Value: err == nil && !heard})
}

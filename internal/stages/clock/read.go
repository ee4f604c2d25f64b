package clock

import (
	"context"
	"errors"
	"slices"
	"time"

	"duskyharbor/internal/account"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// narrowError is how narrow a clock is measured: half the width that still changes
// nothing in a band.
const narrowError = 60 * time.Millisecond

// Read measures a camera's clock, at the edge of its second where the visit asks for it,
// and reads where it takes its time from. The recorder it is held against is read first
// where it wasn't within a minute. A recorder's own clock comes with its status.
func (k *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	d := v.Device
	if d.Kind == identity.Recorder {
		return k.Recorders.Read(ctx, d)
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	if rec, _, ok := s.HolderOf(v.Source); ok && time.Since(site.Reached.ReadAt(s, rec.ID)) > time.Minute {
		if err := k.Recorders.Fresh(ctx, rec); err != nil && engine.Ours(err) {
			return "", err
		} // a recorder that is silent is its own finding; the camera is held against this server then
		if s, err = v.Snapshot(ctx); err != nil {
			return "", err
		}
	}
	addr, err := account.Address(d)
	if err != nil {
		return "", err
	}
	seen, ok := facts.Seen.Of(s, d.ID)
	if !ok || seen.Service == "" {
		return "", trouble.UserError(d.Place + " speaks no ONVIF that answered: its clock can't be read.")
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	plain, err := onvif.New(k.Dialer.At(addr), seen.Service, onvif.Login{Pin: pin})
	if err != nil {
		return "", err
	}
	defer plain.Close()
	ask := plain.Time
	if v.Narrow {
		ask = func(ctx context.Context) (clock.Reading, error) { return plain.NarrowTime(ctx, narrowError) }
	}
	r, err := ask(ctx)
	if err != nil {
		return "", err
	}
	via := "GetSystemDateAndTime"
	if _, open := facts.Account.Of(s, d.ID); open {
		more, err := k.readSettings(ctx, v, s, &r)
		if err != nil {
			return "", err
		}
		via += more
	}
	if err := k.drift(ctx, d, &r); err != nil {
		return "", err
	}
	ref, _ := facts.ForClock(s, d)
	r.Against = &clock.Against{ID: ref.Reference.ID, Name: ref.Reference.Name, Why: ref.Reference.Why}
	if err := k.Store.KeepFacts(ctx, facts.Clock.New(d.ID, via, r.At, r)); err != nil {
		return "", err
	}
	return "offset " + r.Offset.String() + " from this server", nil
}

// readSettings reads with an account where the camera takes its time from, and how it
// burns date and time in. via names the calls. A camera that can't be signed in to now is
// left at what it says to anyone.
func (k *Stage) readSettings(ctx context.Context, v *engine.Visit, s *site.Snapshot, r *clock.Reading) (via string, err error) {
	c, err := k.Accounts.Open(ctx, v.Device, s, k.ID().String())
	if engine.Ours(err) {
		return "", err
	}
	if err != nil {
		return "", nil
	}
	defer c.Close()
	if r.Servers, r.FromDHCP, err = c.NTP(ctx); err == nil {
		via = ", GetNTP"
	} else if !errors.Is(err, dial.ErrNotSupported) {
		return "", err
	}
	return via, k.burnedIn(ctx, c, s, v, r)
}

// burnedIn reads how the camera burns date and time into its picture; in runs over many
// it isn't read again where it is known.
func (k *Stage) burnedIn(ctx context.Context, c *onvif.Client, s *site.Snapshot, v *engine.Visit, r *clock.Reading) error {
	if was, ok := facts.Clock.Of(s, v.Device.ID); ok && !v.Narrow && was.Dates != "" {
		r.Dates, r.Times = was.Dates, was.Times
		return nil
	}
	services, _ := facts.Services.Of(s, v.Device.ID)
	texts, err := c.Texts(ctx, services)
	switch {
	case errors.Is(err, dial.ErrNotSupported), errors.Is(err, dial.ErrRefused):
		return nil // it burns nothing in, or says nothing of it
	case err != nil:
		return err
	case len(texts) > 0:
		r.Dates, r.Times = texts[0].Dates, texts[0].Times
	}
	return nil
}

// drift fits a clock that runs by itself over its earlier readings and this one.
func (k *Stage) drift(ctx context.Context, d store.Device, r *clock.Reading) error {
	if r.NTP {
		return nil
	}
	return facts.FitDrift(ctx, k.Store, d.ID, r)
}

// History is how a device's clock stood at its last readings, in the order of time.
func (k *Stage) History(ctx context.Context, device int64, limit int) ([]clock.Reading, error) {
	past, err := k.Store.History(ctx, device, fact.Clock, limit)
	if err != nil {
		return nil, err
	}
	out, err := facts.ClockReadings(past)
	slices.Reverse(out)
	return out, err
}

package clock

import (
	"context"
	"errors"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/store"
)

// Editor reads and writes a camera's time, zone, source and burned-in text, or a
// recorder's own clock.
func (k *Stage) Editor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	switch c.Kind {
	case clock.SetRecorder:
		rec, err := k.Accounts.Recorder(ctx, v.Device)
		if err != nil {
			return nil, err
		}
		return recorderEditor(rec, c), nil
	case clock.SetZone, clock.SetSource, clock.SetManual, clock.SetTime, clock.SetText:
	default:
		return nil, engine.ErrKind
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	cam, err := k.Accounts.Open(ctx, v.Device, s, k.ID().String())
	if err != nil {
		return nil, err
	}
	if c.Kind == clock.SetText {
		services, _ := facts.Services.Of(s, v.Device.ID)
		return textEditor(cam, services, c), nil
	}
	f, _ := facts.ForClock(s, v.Device)
	return cameraEditor{cam: cam, facts: f, c: c}, nil
}

// cameraEditor reads and writes a camera's time and where it comes from.
type cameraEditor struct {
	cam   *onvif.Client
	facts clock.Facts
	c     store.Change
}

// now reads the clock. Every signed call after a write carries the time that the device
// has then. Its own NTP may step it between two calls: then it is read once more.
func (e cameraEditor) now(ctx context.Context) (r clock.Reading, err error) {
	for range 2 {
		if r, err = e.cam.Time(ctx); err != nil {
			return r, err
		}
		e.cam.Follow(r)
		if e.c.Kind != clock.SetSource && e.c.Kind != clock.SetManual {
			return r, nil
		}
		if r.Servers, r.FromDHCP, err = e.cam.NTP(ctx); !errors.Is(err, dial.ErrNotAuthorised) {
			return r, err
		}
	}
	return r, err
}

// Read is the canonical text of what the change is about.
func (e cameraEditor) Read(ctx context.Context) (string, error) {
	r, err := e.now(ctx)
	switch {
	case err != nil:
		return "", err
	case e.c.Kind == clock.SetZone:
		return clock.ZoneRead(time.Now(), r, e.c.FromText, e.c.ToText, e.c.Args), nil
	case e.c.Kind == clock.SetSource, e.c.Kind == clock.SetManual:
		return r.Source(), nil
	}
	f := e.facts
	f.Camera = &r
	return clock.ReadsSet(f, e.c.FromText, e.c.ToText, e.c.Args), nil
}

// Write sets it.
func (e cameraEditor) Write(ctx context.Context) error {
	r, err := e.now(ctx)
	if err != nil {
		return err
	}
	switch e.c.Kind {
	case clock.SetZone:
		utc := time.Time{}
		if !r.NTP { // a time set by hand must be given again: its own, not ours
			utc = time.Now().Add(r.Offset.Mid())
		}
		return e.cam.SetTime(ctx, r.NTP, e.c.Args["zone"], e.c.Args["daylight"] == "on", utc)
	case clock.SetSource:
		servers := []string{e.c.Args["server"]}
		if e.c.Args["server"] == clock.DHCP {
			servers = nil
		}
		if err := e.cam.SetNTP(ctx, servers...); err != nil {
			return err
		}
		if r, err = e.cam.Time(ctx); err != nil {
			return err
		}
		e.cam.Follow(r)
		return e.cam.SetTime(ctx, true, r.Zone, r.Daylight, time.Time{})
	case clock.SetManual: // it keeps the time it has
		return e.cam.SetTime(ctx, false, r.Zone, r.Daylight, time.Now().Add(r.Offset.Mid()))
	}
	// Whole seconds are taken: half of one more is nearest in the mean.
	return e.cam.SetTime(ctx, false, r.Zone, r.Daylight, time.Now().Add(e.facts.Reference.Offset.Mid()+500*time.Millisecond))
}

// Close lets the camera's connections go.
func (e cameraEditor) Close() error {
	e.cam.Close()
	return nil
}

func textEditor(cam *onvif.Client, services map[string]string, c store.Change) engine.Editor {
	texts := func(ctx context.Context) ([]onvif.Text, error) {
		all, err := cam.Texts(ctx, services)
		if err == nil && len(all) == 0 {
			err = trouble.UserError("It burns no date into its picture any more.")
		}
		return all, err
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			all, err := texts(ctx)
			if err != nil {
				return "", err
			}
			return clock.TextText(all[0].Dates, all[0].Times), nil
		},
		WriteFunc: func(ctx context.Context) error {
			all, err := texts(ctx)
			for _, t := range all {
				t.Dates, t.Times = c.Args["dates"], c.Args["times"]
				err = errors.Join(err, cam.SetText(ctx, services, t))
			}
			return err
		},
		Shut: cam.Close,
	}
}

func recorderEditor(rec recorder.Driver, c store.Change) engine.Editor {
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			_, r, err := rec.Status(ctx)
			if err == nil && clock.BandOf(r.Offset, 0) == clock.InStep {
				return c.ToText, nil
			}
			return c.FromText, err
		},
		WriteFunc: func(ctx context.Context) error { return rec.SetClock(ctx, time.Now()) },
		Shut:      rec.Close,
	}
}

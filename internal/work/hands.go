package work

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/store"
)

// hand reads and writes the thing one kind of change is about.
type hand struct {
	read  func(ctx context.Context) (string, error)
	write func(ctx context.Context) error
}

// hand gives the reading and the writing of a change's thing.
func (o *Office) hand(ctx context.Context, d store.Device, c store.Change) (hand, func(), error) {
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return hand{}, nil, err
	}
	switch {
	case c.Kind == identity.SetIPConfig:
		return o.seatHand(d, v, c), func() {}, nil
	case c.Kind == identity.RemoveEntry, strings.HasPrefix(c.Kind, "rotate.") && c.Kind != access.Change, c.Kind == clock.SetRecorder, c.Kind == channel.Resume:
		return o.recorderHand(ctx, d, v, c)
	case c.Kind == access.Change, c.Kind == access.SetFirst, c.Kind == access.CreateAccount:
		return o.accountHand(d, v, c), func() {}, nil
	case c.Kind == access.Reset, c.Kind == access.Restart:
		return o.restartHand(d, v, c), func() {}, nil
	}
	if strings.HasPrefix(c.Kind, "clock.") || c.Kind == identity.SetDiscovery {
		cam, _, err := o.open(ctx, d, v)
		if err != nil {
			return hand{}, nil, err
		}
		switch c.Kind {
		case identity.SetDiscovery:
			return discoveryHand(cam, c), cam.Close, nil
		case clock.SetText:
			return textHand(cam, v.Services(d.ID), c), cam.Close, nil
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

// zoneReads is what a zone's change reads: a device may spell a rule in another way than
// it was given.
func zoneReads(r clock.Reading, c store.Change) string {
	text, now := r.ZoneText(), time.Now()
	switch {
	case text == c.FromText || text == c.ToText:
		return text
	case r.Keeps(c.Args["zone"], c.Args["daylight"] == "on", now):
		return c.ToText
	case r.Keeps(c.Args["old_zone"], c.Args["old_daylight"] == "on", now):
		return c.FromText
	}
	return text
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
			if c.Kind != clock.SetSource && c.Kind != clock.SetManual {
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
			return zoneReads(r, c), nil
		case c.Kind == clock.SetSource, c.Kind == clock.SetManual:
			return r.Source(), nil
		}
		f.Camera = &r
		if f.InBand() {
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
			servers := []string{c.Args["server"]}
			if c.Args["server"] == clock.DHCP {
				servers = nil
			}
			if err := cam.SetNTP(ctx, servers...); err != nil {
				return err
			}
			if r, err = cam.Time(ctx); err != nil {
				return err
			}
			cam.Follow(r)
			return cam.SetTime(ctx, true, r.Zone, r.Daylight, time.Time{})
		case clock.SetManual: // it keeps the time it has
			return cam.SetTime(ctx, false, r.Zone, r.Daylight, time.Now().Add(r.Offset.Mid()))
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
			if c.ToText == channel.Empty {
				return rc.Remove(ctx, number)
			}
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
				Username: set.Username, Password: password, Profile: c.Args["stream"], Label: access.Label(set.ID)})
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

package work

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/store"
)

func discoveryHand(cam *onvif.Client, c store.Change) hand {
	return hand{
		read: func(ctx context.Context) (string, error) {
			heard, err := cam.Discoverable(ctx)
			if heard {
				return identity.HeardText, err
			}
			return identity.HiddenText, err
		},
		write: func(ctx context.Context) error { return cam.SetDiscoverable(ctx, c.ToText == identity.HeardText) },
	}
}

func textHand(cam *onvif.Client, services map[string]string, c store.Change) hand {
	texts := func(ctx context.Context) ([]onvif.Text, error) {
		all, err := cam.Texts(ctx, services)
		if err == nil && len(all) == 0 {
			err = toldError("It burns no date into its picture any more.")
		}
		return all, err
	}
	return hand{
		read: func(ctx context.Context) (string, error) {
			all, err := texts(ctx)
			if err != nil {
				return "", err
			}
			return clock.TextText(all[0].Dates, all[0].Times), nil
		},
		write: func(ctx context.Context) error {
			all, err := texts(ctx)
			for _, t := range all {
				t.Dates, t.Times = c.Args["dates"], c.Args["times"]
				err = errors.Join(err, cam.SetText(ctx, services, t))
			}
			return err
		},
	}
}

// moveLimit is how long a device is waited for at its new address.
const moveLimit = 12 * time.Second

// seatHand moves a device: it is read where it was and where it is to be, and found
// again after the write.
func (o *Office) seatHand(d store.Device, v *View, c store.Change) hand {
	to, err := netplan.ParseIPConfig(c.Args["seat"])
	seat := func(ctx context.Context, at netip.Addr) (*onvif.Client, netplan.IPConfig, string, error) {
		there := d
		there.Address = &at
		cam, _, err := o.open(ctx, there, v)
		if err != nil {
			return nil, netplan.IPConfig{}, "", err
		}
		s, token, err := cam.IPConfig(ctx)
		return cam, s, token, err
	}
	at := *d.Address
	return hand{
		read: func(ctx context.Context) (string, error) {
			if err != nil {
				return "", toldError(sentence(err))
			}
			cam, s, _, rerr := seat(ctx, at)
			if rerr == nil {
				cam.Close()
				return s.String(), nil
			}
			if !errors.Is(rerr, dial.ErrUnreachable) || to.Address == at || !to.Address.IsValid() {
				return "", rerr
			}
			cam, s, _, terr := seat(ctx, to.Address) // it moved before this server could write that down
			if terr != nil {
				return "", rerr
			}
			cam.Close()
			at = to.Address
			return s.String(), o.movedTo(ctx, d, v, at)
		},
		write: func(ctx context.Context) error {
			cam, was, token, err := seat(ctx, at)
			if err != nil {
				return err
			}
			defer cam.Close()
			if err := cam.SetIPConfig(ctx, token, to); err != nil {
				return err
			}
			if to.Address == was.Address && !to.Automatic {
				return nil
			}
			found, err := o.findAgain(ctx, d, v, to)
			if err != nil {
				return err
			}
			at = found
			return o.movedTo(ctx, d, v, at)
		},
	}
}

// findAgain waits for a device at its new address, and where it isn't there asks the
// networks for it. One that is lost is said to be, with the way to get it back.
func (o *Office) findAgain(ctx context.Context, d store.Device, v *View, to netplan.IPConfig) (netip.Addr, error) {
	seen, _ := v.Seen(d.ID)
	pin, _ := fact[string](v, d.ID, factTLS)
	for end := time.Now().Add(moveLimit); time.Now().Before(end) && ctx.Err() == nil; {
		if to.Address.IsValid() && !to.Automatic {
			plain, err := onvif.New(o.dialer.At(to.Address), seen.Service, onvif.Login{Pin: pin})
			if err == nil {
				_, err = plain.Time(ctx)
				plain.Close()
			}
			if err == nil {
				return to.Address, nil
			}
		}
		for _, n := range v.nets {
			source, err := discovery.Source(n.Prefix)
			if err != nil || !to.Automatic {
				continue
			}
			all, _ := discovery.Directed(ctx, source, netplan.Hosts(n.Prefix), 600*time.Millisecond)
			for _, s := range all {
				if s.UUID != "" && s.UUID == d.UUID {
					return s.Address, nil
				}
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(300 * time.Millisecond):
		}
	}
	_ = o.store.Note(context.WithoutCancel(ctx), d.SiteID, store.Happening{Device: d.ID, Kind: "lost", Place: d.Place, Says: fmt.Sprintf("It was told to move from %s to %s and answers at neither.", d.Address, to)})
	return netip.Addr{}, toldError(fmt.Sprintf("It was told to move to %s and answers neither there nor at %s. To get it back: look at both networks again; if it stays silent, plug a laptop into its port, give that an address beside %s, and open its page; its reset button is the last resort", to, d.Address, to.Address))
}

// movedTo keeps where a device is reached from now on.
func (o *Office) movedTo(ctx context.Context, d store.Device, v *View, at netip.Addr) error {
	seen, _ := v.Seen(d.ID)
	was := seen.Address
	seen.At = time.Now().UTC()
	for _, field := range []*string{&seen.Service, &seen.Page} {
		if *field != "" {
			*field = replaceHost(*field, was, at)
		}
	}
	seen.Address = at
	return errors.Join(o.store.Moved(ctx, d.ID, at), o.store.KeepFact(ctx, d.ID, factSeen, seen.WaysText(), seen.At, seen),
		o.store.KeepFact(ctx, d.ID, factLooked, "look", seen.At, Looked{At: seen.At, Outcome: identity.Matched}),
		o.store.Note(ctx, d.SiteID, store.Happening{Device: d.ID, Kind: "moved", Place: d.Place, Says: fmt.Sprintf("It was moved from %s to %s.", was, at)}))
}

// recorderHand is the hand of what is written to a recorder for a camera, or to its own
// clock.
func (o *Office) recorderHand(ctx context.Context, d store.Device, v *View, c store.Change) (hand, func(), error) {
	rec := d
	if c.Kind != clock.SetRecorder {
		id, err := strconv.ParseInt(c.Args["recorder"], 10, 64)
		if err != nil {
			return hand{}, nil, fmt.Errorf("work: change %d names no recorder", c.ID)
		}
		var ok bool
		if rec, ok = v.Device(id); !ok {
			return hand{}, nil, toldError("That recorder was taken off the site.")
		}
	}
	rc, err := o.recorderClient(ctx, rec)
	if err != nil {
		return hand{}, nil, err
	}
	number, _ := strconv.Atoi(c.Args["channel"])
	slot := func(ctx context.Context) (channel.Slot, bool, error) {
		status, _, err := rc.Status(ctx)
		for _, s := range status.Slots {
			if s.Number == number {
				return s, true, err
			}
		}
		return channel.Slot{}, false, err
	}
	switch c.Kind {
	case clock.SetRecorder:
		return recorderClockHand(rc, c), rc.Close, nil
	case identity.RemoveEntry:
		return hand{
			read: func(ctx context.Context) (string, error) {
				s, taken, err := slot(ctx)
				if !taken {
					return identity.FreeText, err
				}
				return channel.SlotText(s.Name, s.Address), err
			},
			write: func(ctx context.Context) error { return rc.Remove(ctx, number) },
		}, rc.Close, nil
	}
	write := map[string]func(context.Context) error{
		channel.Resume: func(ctx context.Context) error { return rc.Pause(ctx, number, c.ToText == access.Paused) },
		access.Pause:   func(ctx context.Context) error { return rc.Pause(ctx, number, c.ToText == access.Paused) },
		access.Resume:  func(ctx context.Context) error { return rc.Pause(ctx, number, c.ToText == access.Paused) },
		access.Hold:    func(ctx context.Context) error { return o.hold(ctx, rc, number, c) },
	}[c.Kind]
	return hand{
		read: func(ctx context.Context) (string, error) {
			s, taken, err := slot(ctx)
			switch {
			case err != nil:
				return "", err
			case !taken:
				return channel.Empty, nil
			case c.Kind == access.Hold:
				return access.LabelText(s.Label), nil
			case s.Paused:
				return access.Paused, nil
			case c.ToText == access.Receive && s.State == "receiving", c.FromText == access.Receive:
				return access.Receive, nil
			}
			return access.Signing, nil
		},
		write: write,
	}, rc.Close, nil
}

// hold gives a channel the account of a set.
func (o *Office) hold(ctx context.Context, rc *recorder.Client, number int, c store.Change) error {
	id, err := strconv.ParseInt(c.Args["set"], 10, 64)
	if err != nil {
		return fmt.Errorf("work: change %d names no set", c.ID)
	}
	set, err := o.store.Set(ctx, id)
	if err != nil {
		return err
	}
	password, err := o.vault.Open(set.Sealed, store.SetPlace(set.ID))
	if err != nil {
		return err
	}
	label := c.ToText
	if label == access.LabelText("") {
		label = ""
	}
	return rc.SetAccount(ctx, number, set.Username, password, label)
}

func recorderClockHand(rc *recorder.Client, c store.Change) hand {
	return hand{
		read: func(ctx context.Context) (string, error) {
			_, r, err := rc.Status(ctx)
			if err == nil && clock.BandOf(r.Offset, 0) == clock.InStep {
				return c.ToText, nil
			}
			return c.FromText, err
		},
		write: func(ctx context.Context) error { return rc.SetClock(ctx, time.Now()) },
	}
}

// restartHand starts a device again, or puts it back as it left the box.
func (o *Office) restartHand(d store.Device, v *View, c store.Change) hand {
	back := false
	plain := func() (*onvif.Client, error) { return o.plain(d, v) }
	return hand{
		read: func(ctx context.Context) (string, error) {
			cam, err := plain()
			if err != nil {
				return "", err
			}
			defer cam.Close()
			schemes, err := cam.Schemes(ctx)
			switch {
			case err != nil:
				return "", err
			case c.Kind == access.Reset && len(schemes) == 0:
				return access.AsNew, nil
			case c.Kind == access.Restart && back:
				return access.Restarted, nil
			case c.Kind == access.Restart && c.Writes > 0:
				return "running; whether it started again isn't known", nil
			}
			return access.SetUp, nil
		},
		write: func(ctx context.Context) error {
			cam, _, err := o.open(ctx, d, v)
			if err != nil {
				return err
			}
			defer cam.Close()
			if c.Kind == access.Reset {
				err = cam.Reset(ctx, false)
			} else {
				err = cam.Reboot(ctx)
			}
			if err != nil {
				return err
			}
			return o.awaitRestart(ctx, plain, &back)
		},
	}
}

// plain is a client that signs in nowhere.
func (o *Office) plain(d store.Device, v *View) (*onvif.Client, error) {
	seen, _ := v.Seen(d.ID)
	pin, _ := fact[string](v, d.ID, factTLS)
	return onvif.New(o.dialer.At(*d.Address), seen.Service, onvif.Login{Pin: pin})
}

// awaitRestart waits until a device is gone and there again.
func (o *Office) awaitRestart(ctx context.Context, plain func() (*onvif.Client, error), back *bool) error {
	gone := false
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); {
		cam, err := plain()
		if err != nil {
			return err
		}
		ask, cancel := context.WithTimeout(ctx, time.Second)
		_, err = cam.Time(ask)
		cancel()
		cam.Close()
		switch {
		case err != nil:
			gone = true
		case gone:
			*back = true
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	if !gone {
		return toldError("It took the order and didn't start again within 20 s.")
	}
	return &dial.Error{Tried: "waiting for its restart", On: "the device", Kind: dial.ErrUnreachable, Says: "it is away for more than 20 s"}
}

// ownSet is the newest set made for a device that nothing opens with yet, or a new one:
// its password is generated by the device's rule and sealed before anyone is told it.
func (o *Office) ownSet(ctx context.Context, d store.Device, username string, rule access.Rule) (store.SealedSet, error) {
	sets, err := o.store.SetsFor(ctx, d.SiteID, d.ID)
	if err != nil {
		return store.SealedSet{}, err
	}
	for i := len(sets) - 1; i >= 0; i-- {
		if s := sets[i]; s.Device == d.ID && s.Username == username && (d.OpenedSet == nil || *d.OpenedSet != s.ID) {
			return s, nil
		}
	}
	made, err := o.ownSets(ctx, d.SiteID, []newSet{{d, username, rule}})
	if err != nil {
		return store.SealedSet{}, err
	}
	return o.store.Set(ctx, made[0])
}

// newSet is a set that is to be made for one device.
type newSet struct {
	device   store.Device
	username string
	rule     access.Rule
}

// ownSets makes a set for each device, with a password by its rule.
func (o *Office) ownSets(ctx context.Context, site int64, all []newSet) ([]int64, error) {
	sets := make([]access.Set, len(all))
	for i, n := range all {
		sets[i] = access.Set{Name: n.device.Place + " · own", Username: n.username, Make: n.device.Make, Device: n.device.ID}
	}
	return o.store.AddSets(ctx, site, sets, func(i int, place string) ([]byte, error) {
		for range 20 {
			chance := make([]byte, access.Entropy)
			if _, err := rand.Read(chance); err != nil {
				return nil, err
			}
			password, err := all[i].rule.Generate(all[i].username, chance)
			if err == nil {
				return o.vault.Seal(password, place)
			}
		}
		return nil, toldError(fmt.Sprintf("No password can be made that holds the rule of %s: %s.", all[i].device.Place, all[i].rule))
	})
}

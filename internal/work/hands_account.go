package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
)

// replaceHost puts another address into a URL of a device.
func replaceHost(url string, was, at netip.Addr) string {
	return strings.Replace(url, "//"+was.String(), "//"+at.String(), 1)
}

// accountHand is the hand of what is written about a camera's accounts.
func (o *Office) accountHand(d store.Device, v *View, c store.Change) hand {
	switch c.Kind {
	case access.SetFirst:
		return o.firstHand(d, v, c)
	case access.CreateAccount:
		return o.createHand(d, v, c)
	}
	return o.passwordHand(d, v, c)
}

// firstHand sets a first password. The set is there, sealed, before it is sent: no
// device is left with a password that nobody holds.
func (o *Office) firstHand(d store.Device, v *View, c store.Change) hand {
	name := c.Args["name"]
	rule := access.Rule{}
	if f, _ := v.SignIn(d); f.Rule != nil {
		rule = *f.Rule
	}
	return hand{
		read: func(ctx context.Context) (string, error) {
			cam, err := o.plain(d, v)
			if err != nil {
				return "", err
			}
			defer cam.Close()
			schemes, err := cam.Schemes(ctx)
			if err != nil {
				return "", err
			}
			if len(schemes) == 0 {
				return access.NoPassword, nil
			}
			set, err := o.ownSet(ctx, d, name, rule)
			if err != nil {
				return "", err
			}
			level, err := o.tryLevel(ctx, d, v, set, schemes[0])
			if level == "" {
				return "another password than the one that was sealed here", err
			}
			return access.AccountText(name, level), err
		},
		write: func(ctx context.Context) error {
			set, err := o.ownSet(ctx, d, name, rule)
			if err != nil {
				return err
			}
			password, err := o.vault.Open(set.Sealed, store.SetPlace(set.ID))
			if err != nil {
				return err
			}
			cam, err := o.plain(d, v)
			if err != nil {
				return err
			}
			defer cam.Close()
			if err := cam.CreateUser(ctx, name, password, access.Administrator); err != nil {
				return err
			}
			return o.store.Given(ctx, d.ID, set.ID, set.Name, access.Digest)
		},
	}
}

// tryLevel tries a set over ONVIF within the budget and returns the level that it has;
// empty where it is refused. An account that may not read the users is an operator's.
func (o *Office) tryLevel(ctx context.Context, d store.Device, v *View, set store.SealedSet, scheme access.Scheme) (string, error) {
	a := &attempt{o: o, d: d, v: v}
	a.seen, _ = v.Seen(d.ID)
	id, _, ok, err := a.begin(ctx, set, scheme)
	if err != nil {
		return "", err
	}
	if !ok {
		return "", toldError("No more wrong tries are allowed on " + d.Place + " now.")
	}
	cam, _, err := o.openWith(ctx, d, v, set.ID, scheme)
	if err != nil {
		return "", a.end(ctx, id, err)
	}
	defer cam.Close()
	_, err = cam.Information(ctx)
	if eerr := a.end(ctx, id, err); eerr != nil || err != nil {
		return "", eerr
	}
	level := access.Administrator
	users, err := cam.Users(ctx)
	switch {
	case errors.Is(err, dial.ErrNotAuthorised):
		return access.Operator, nil
	case err != nil:
		return "", err
	}
	for _, u := range users {
		if u.Name == set.Username && u.Level != "" {
			level = u.Level
		}
	}
	return level, nil
}

// createHand makes an ONVIF account with the account that opens the web page. Before it
// is sent, what sign-in read a moment ago counts: asking again would cost a wrong try.
func (o *Office) createHand(d store.Device, v *View, c store.Change) hand {
	return hand{
		read: func(ctx context.Context) (string, error) {
			if c.State == store.Asked && c.Writes == 0 {
				if f, _ := v.SignIn(d); f.Web != nil && f.Account == nil {
					c.Writes = 1 // from here on it is read over the wire
					return access.NoAccount, nil
				}
			}
			set, err := o.namedSet(ctx, c)
			if err != nil {
				return "", err
			}
			level, err := o.tryLevel(ctx, d, v, set, access.Digest)
			if level == "" {
				return access.NoAccount, err
			}
			return access.AccountText(set.Username, level), err
		},
		write: func(ctx context.Context) error {
			set, err := o.namedSet(ctx, c)
			if err != nil {
				return err
			}
			cam, login, err := o.openWith(ctx, d, v, set.ID, access.Digest)
			if err != nil {
				return err
			}
			defer cam.Close()
			if err := cam.CreateUser(ctx, set.Username, login.Password, c.Args["level"]); err != nil {
				return err
			}
			return o.store.Given(ctx, d.ID, set.ID, set.Name, access.Digest)
		},
	}
}

func (o *Office) namedSet(ctx context.Context, c store.Change) (store.SealedSet, error) {
	id, err := strconv.ParseInt(c.Args["set"], 10, 64)
	if err != nil {
		return store.SealedSet{}, fmt.Errorf("work: change %d names no set", c.ID)
	}
	set, err := o.store.Set(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return set, toldError("That credential set is gone.")
	}
	return set, err
}

// passwordHand gives a camera the password of another set. Which one it has is read by
// signing in, the likelier first; each is a try within the budget.
func (o *Office) passwordHand(d store.Device, v *View, c store.Change) hand {
	account, _ := v.Account(d.ID)
	oldID, _ := strconv.ParseInt(c.Args["old_set"], 10, 64)
	newID, _ := strconv.ParseInt(c.Args["set"], 10, 64)
	sent := c.State == store.Sent || c.Writes > 0
	opened := func(ctx context.Context, id int64) error { // what opens it now is known at once
		set, err := o.store.Set(ctx, id)
		if err != nil {
			return err
		}
		account.SetID, account.Set, account.Username, account.At = set.ID, set.Name, set.Username, time.Now().UTC()
		return o.store.Write(ctx, store.Writes{Opened: []store.OpenedBy{{Device: d.ID, Set: id}},
			Facts: []store.NewFact{{Device: d.ID, Name: factAccount, Via: string(account.Scheme), At: account.At, Value: account}}})
	}
	return hand{
		read: func(ctx context.Context) (string, error) {
			first, second, firstText, secondText := oldID, newID, c.FromText, c.ToText
			if sent {
				first, second, firstText, secondText = newID, oldID, c.ToText, c.FromText
			}
			for i, id := range []int64{first, second} {
				set, err := o.store.Set(ctx, id)
				if err != nil {
					return "", err
				}
				level, err := o.tryLevel(ctx, d, v, set, account.Scheme)
				if err != nil {
					return "", err
				}
				if level != "" {
					return []string{firstText, secondText}[i], opened(ctx, id)
				}
			}
			return "neither the old password nor the new one", nil
		},
		write: func(ctx context.Context) error {
			cam, _, err := o.openWith(ctx, d, v, oldID, account.Scheme)
			if err != nil {
				return err
			}
			defer cam.Close()
			set, err := o.store.Set(ctx, newID)
			if err != nil {
				return err
			}
			password, err := o.vault.Open(set.Sealed, store.SetPlace(set.ID))
			if err != nil {
				return err
			}
			level := account.Level
			if level == "" {
				level = access.Administrator
			}
			sent = true
			if err := cam.SetUser(ctx, set.Username, password, level); err != nil {
				return err
			}
			return o.store.Given(ctx, d.ID, set.ID, set.Name, account.Scheme)
		},
	}
}

// Rotate gives each of these cameras a new password of its own: made by its rule and
// sealed here first, then changed on the camera and on every recorder that holds it.
// Cameras that no account opens are left out and counted.
func (o *Office) Rotate(ctx context.Context, q Ask, devices []int64) (run int64, left int, err error) {
	v, err := Look(ctx, o.store, q.Site, devices)
	if err != nil {
		return 0, 0, err
	}
	var fresh []newSet
	var from []access.Set
	for _, d := range v.Cameras() {
		f, _ := v.SignIn(d)
		if f.Account == nil || f.Account.Scheme == access.RTSP {
			left++
			continue
		}
		n := newSet{device: d, username: f.Account.Username}
		if f.Rule != nil {
			n.rule = *f.Rule
		}
		fresh, from = append(fresh, n), append(from, access.Set{ID: f.Account.SetID, Name: f.Account.Set, Username: f.Account.Username})
	}
	if len(fresh) == 0 {
		return 0, left, toldError("No account opens any of them: sign in first.")
	}
	ids, err := o.ownSets(ctx, q.Site, fresh)
	if err != nil {
		return 0, left, err
	}
	picks := make([]Pick, len(fresh))
	for i, n := range fresh {
		to := access.Set{ID: ids[i], Name: n.device.Place + " · own " + fmt.Sprint(ids[i]), Username: n.username, Device: n.device.ID}
		picks[i] = Pick{Device: n.device, Changes: access.Rotate(from[i], to, v.dependants(n.device)), whole: true}
	}
	q.Stage = stage.SignIn
	run, err = o.Apply(ctx, q, picks)
	return run, left, err
}

// dependants lists the recorders' channels that sign in to a camera.
func (v *View) dependants(d store.Device) []access.Dependant {
	var out []access.Dependant
	for _, r := range v.Recorders() {
		status := v.status[r.ID]
		if status == nil || d.Address == nil {
			continue
		}
		for _, s := range status.Slots {
			if s.Address == d.Address.String() {
				out = append(out, access.Dependant{Recorder: r.ID, Name: r.Place, Channel: s.Number, Receiving: s.State == "receiving", Paused: s.Paused, Label: s.Label})
			}
		}
	}
	return out
}

// Once makes one change of a device that a person asked for by itself.
func (o *Office) Once(ctx context.Context, q Ask, d store.Device, c finding.Change) (int64, error) {
	q.Site, q.Title = d.SiteID, d.Place+": "+c.Title
	return o.Apply(ctx, q, []Pick{{Device: d, Changes: []finding.Change{c}}})
}

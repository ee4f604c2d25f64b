package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/store"
)

// signIn finds the account that opens a camera. Its clock is read first, without
// signing in, so that a token carries the device's own time; each try is written
// down before it is sent.
func (o *Office) signIn(ctx context.Context, d store.Device) (string, error) {
	addr, err := addrOf(d)
	if err != nil {
		return "", err
	}
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return "", err
	}
	seen, ok := v.Seen(d.ID)
	if !ok || seen.Service == "" {
		return "", toldError(d.Place + " speaks no ONVIF that answered: look for it first.")
	}
	looked := Looked{At: time.Now().UTC()}
	says, account, terr := o.tryAll(ctx, d, v, o.dialer.At(addr), seen.Service, &looked)
	if terr != nil && ours(terr) {
		return "", terr
	}
	if terr != nil {
		looked.Trouble = terr.Error() + "."
	}
	// A device that doesn't answer keeps the account it was opened with before.
	if account == nil && terr == nil {
		if err := errors.Join(o.store.DropFact(ctx, factAccount, d.ID), o.store.Opened(ctx, d.ID, 0)); err != nil {
			return "", err
		}
	}
	facts := []store.NewFact{{Device: d.ID, Name: factTried, Via: "sign-in", At: looked.At, Value: looked}}
	if account != nil {
		facts = append(facts, store.NewFact{Device: d.ID, Name: factAccount, Via: string(account.Scheme), At: account.At, Value: account})
		if d.OpenedSet == nil || *d.OpenedSet != account.SetID {
			if err := o.store.Opened(ctx, d.ID, account.SetID); err != nil {
				return "", err
			}
		}
	}
	if err := o.store.KeepFacts(ctx, facts...); err != nil {
		return "", err
	}
	return says, terr
}

func (o *Office) tryAll(ctx context.Context, d store.Device, v *View, host dial.Host, service string, looked *Looked) (string, *access.Account, error) {
	plain, err := onvif.New(host, service, onvif.Login{})
	if err != nil {
		return "", nil, err
	}
	defer plain.Close()
	reading, err := plain.Time(ctx)
	if err != nil {
		return "", nil, err
	}
	schemes, err := plain.Schemes(ctx)
	if err != nil {
		return "", nil, err
	}
	if len(schemes) == 0 {
		return "", nil, toldError("It lets anyone in without an account: set its first password on its own page")
	}
	seen, _ := v.Seen(d.ID)
	order, err := o.order(ctx, d, v)
	if err != nil {
		return "", nil, err
	}
	looked.NoSets = len(order) == 0
	for _, set := range order {
		account, err := o.tryOne(ctx, d, host, service, seen.RTSPPort, set, schemes[0], reading)
		if account != nil || err != nil {
			if account != nil {
				return "opened with " + set.Name, account, nil
			}
			return "", nil, err
		}
	}
	return "no credential set opened it", nil, nil
}

func (o *Office) order(ctx context.Context, d store.Device, v *View) ([]store.SealedSet, error) {
	sealed, err := o.store.Sets(ctx, d.SiteID)
	if err != nil {
		return nil, err
	}
	byID := map[int64]store.SealedSet{}
	recorders := map[int64]bool{}
	for _, r := range v.Recorders() {
		if r.SetID != nil {
			recorders[*r.SetID] = true // a recorder's own account is no camera's
		}
	}
	var sets []access.Set
	for _, s := range sealed {
		if !recorders[s.ID] {
			byID[s.ID] = s
			sets = append(sets, s.Set)
		}
	}
	var out []store.SealedSet
	standing, err := o.standing(ctx, d, v)
	if err != nil {
		return nil, err
	}
	for _, s := range access.Order(time.Now(), standing, sets, v.Tries[d.ID], false) {
		out = append(out, byID[s.ID])
	}
	return out, nil
}

// standing tells what opened this device, others of its make, and others near it.
func (o *Office) standing(ctx context.Context, d store.Device, v *View) (access.Device, error) {
	out := access.Device{Make: d.Make}
	if a, ok := v.Account(d.ID); ok {
		out.Opened = a.SetID
		return out, nil // it goes first; what opened others isn't asked for
	}
	networks, err := o.store.Networks(ctx, d.SiteID)
	if err != nil {
		return out, err
	}
	plan := make([]netplan.Network, len(networks))
	for i, n := range networks {
		plan[i] = netplan.Network{ID: n.ID, Prefix: n.Prefix}
	}
	var near netip.Prefix
	if d.Address != nil {
		if n, ok := netplan.Of(plan, *d.Address); ok {
			near = n.Prefix
		}
	}
	out.OpenedByMake, out.OpenedNear, err = o.store.OpenedAlike(ctx, d.SiteID, d.Make, near)
	return out, err
}

// tryOne sends one set. A nil account without error means that the set was wrong
// or that no try is left.
func (o *Office) tryOne(ctx context.Context, d store.Device, host dial.Host, service string, port int, set store.SealedSet, scheme access.Scheme, reading clock.Reading) (*access.Account, error) {
	password, err := o.vault.Open(set.Sealed, store.SetPlace(set.ID))
	if err != nil {
		return nil, err
	}
	id, ok, err := o.store.BeginTry(ctx, d.ID, set.ID, set.Name, scheme, func(tries []access.Try) bool {
		left, _ := access.Left(time.Now(), tries)
		return left > 0
	})
	if err != nil || !ok {
		return nil, err
	}
	login := onvif.Login{Username: set.Username, Password: password, Scheme: scheme, Ahead: reading.Offset.Mid()}
	account := &access.Account{At: time.Now().UTC(), SetID: set.ID, Set: set.Name, Username: set.Username, Scheme: scheme, Offset: login.Ahead, Own: scheme == access.Token}
	c, err := onvif.New(host, service, login)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	info, err := c.Information(ctx)
	switch {
	case errors.Is(err, dial.ErrNotAuthorised):
		return nil, o.store.EndTry(ctx, id, access.Wrong, err.Error())
	case err != nil:
		return nil, errors.Join(o.store.EndTry(ctx, id, access.Hindered, err.Error()), err)
	}
	if err := o.store.EndTry(ctx, id, access.Opened, ""); err != nil {
		return nil, err
	}
	if account.Level, err = c.Level(ctx, set.Username); err != nil {
		account.Level = ""
	}
	if err := o.keepIdentity(ctx, d, c, info); err != nil {
		return nil, err
	}
	account.RTSP = rtspTakes(ctx, port, host, login)
	return account, nil
}

// keepIdentity keeps what a device says of itself once it is open.
func (o *Office) keepIdentity(ctx context.Context, d store.Device, c *onvif.Client, info identitySighting) error {
	if err := o.store.Identify(ctx, d.ID, info); err != nil {
		return err
	}
	services, err := c.Services(ctx)
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	info.At = now
	return o.store.KeepFacts(ctx, store.NewFact{Device: d.ID, Name: factInfo, Via: "GetDeviceInformation", At: now, Value: info},
		store.NewFact{Device: d.ID, Name: factServices, Via: "GetServices", At: now, Value: services})
}

// rtspTakes says whether RTSP takes the account too; DESCRIBE asks for it.
func rtspTakes(ctx context.Context, port int, host dial.Host, login onvif.Login) string {
	if port == 0 {
		return ""
	}
	c, err := rtsp.Open(ctx, host, fmt.Sprintf("rtsp://%s:%d/", host.Addr, port), login.Username, login.Password)
	if err != nil {
		return ""
	}
	defer c.Close()
	_, err = c.Describe()
	if errors.Is(err, dial.ErrNotAuthorised) {
		return err.Error() + "."
	}
	return "same account" // a path that isn't there is told only to who may ask
}

// open makes a signed client for a camera with the account that opened it.
func (o *Office) open(ctx context.Context, d store.Device, v *View) (*onvif.Client, onvif.Login, error) {
	addr, err := addrOf(d)
	if err != nil {
		return nil, onvif.Login{}, err
	}
	account, ok := v.Account(d.ID)
	seen, heard := v.Seen(d.ID)
	if !ok || !heard {
		return nil, onvif.Login{}, toldError("No account opens " + d.Place + " yet: sign in first.")
	}
	set, err := o.store.Set(ctx, account.SetID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, onvif.Login{}, toldError("The credential set that opened " + d.Place + " is gone: sign in again.")
	}
	if err != nil {
		return nil, onvif.Login{}, err
	}
	password, err := o.vault.Open(set.Sealed, store.SetPlace(set.ID))
	if err != nil {
		return nil, onvif.Login{}, err
	}
	login := onvif.Login{Username: set.Username, Password: password, Scheme: account.Scheme}
	host := o.dialer.At(addr)
	if account.Scheme == access.Token {
		plain, err := onvif.New(host, seen.Service, onvif.Login{})
		if err != nil {
			return nil, login, err
		}
		defer plain.Close()
		r, err := plain.Time(ctx)
		if err != nil {
			return nil, login, err
		}
		login.Ahead = r.Offset.Mid()
	}
	c, err := onvif.New(host, seen.Service, login)
	return c, login, err
}

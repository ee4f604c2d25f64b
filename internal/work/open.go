package work

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/store"
)

func (o *Office) order(ctx context.Context, d store.Device, v *View, how try) ([]store.SealedSet, error) {
	sealed, err := o.store.SetsFor(ctx, d.SiteID, d.ID)
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
	for _, s := range access.Order(time.Now(), standing, sets, v.Tries[d.ID], how.factory || how.set != 0) {
		if how.set == 0 || how.set == s.ID {
			out = append(out, byID[s.ID])
		}
	}
	return out, nil
}

// standing tells what opened this device, others of its make, and others near it.
func (o *Office) standing(ctx context.Context, d store.Device, v *View) (access.Device, error) {
	out := access.Device{ID: d.ID, Make: d.Make}
	var near netip.Prefix
	if d.Address != nil {
		if n, ok := netplan.Of(v.nets, *d.Address); ok {
			out.Network, near = n.ID, n.Prefix
		}
	}
	if a, ok := v.Account(d.ID); ok {
		out.Opened = a.SetID
		return out, nil // it goes first; what opened others isn't asked for
	}
	var err error
	out.OpenedByMake, out.OpenedNear, err = o.store.OpenedAlike(ctx, d.SiteID, d.Make, near)
	return out, err
}

// open makes a signed client for a camera with the account that opened it.
func (o *Office) open(ctx context.Context, d store.Device, v *View) (*onvif.Client, onvif.Login, error) {
	account, ok := v.Account(d.ID)
	if !ok {
		return nil, onvif.Login{}, toldError("No account opens " + d.Place + " yet: sign in first.")
	}
	return o.openWith(ctx, d, v, account.SetID, account.Scheme)
}

// openWith is open with another set and scheme. It sends no sign-in by itself.
func (o *Office) openWith(ctx context.Context, d store.Device, v *View, setID int64, scheme access.Scheme) (*onvif.Client, onvif.Login, error) {
	addr, err := addrOf(d)
	if err != nil {
		return nil, onvif.Login{}, err
	}
	seen, heard := v.Seen(d.ID)
	if heard && seen.Service == "" && seen.RTSPPort != 0 {
		return nil, onvif.Login{}, toldError(d.Place + " speaks RTSP alone: what ONVIF would tell of it can't be read.")
	}
	if !heard || seen.Service == "" {
		return nil, onvif.Login{}, toldError(d.Place + " speaks no ONVIF that answered: look for it first.")
	}
	set, err := o.store.Set(ctx, setID)
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
	login := onvif.Login{Username: set.Username, Password: password, Scheme: scheme}
	login.Pin, _ = fact[string](v, d.ID, factTLS)
	host := o.dialer.At(addr)
	if scheme == access.Token {
		plain, err := onvif.New(host, seen.Service, onvif.Login{Pin: login.Pin})
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

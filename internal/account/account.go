// Package account signs in to devices, and nobody else does: which sets may be tried in
// what order, the budget of tries, clients that are signed in, and sets that are made.
// A password leaves it only inside a client.
package account

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

// Clients signs in to devices and gives clients that did: it knows the order of sets, the budget of tries and what is
// sealed. It is safe for several goroutines.
type Clients struct {
	Store  *store.Store
	Vault  *vault.Vault
	Dialer *dial.Dialer
	gates  sync.Map // by recorder: who signs in to it, see inTurn
}

// Asked is what a person asked for of a signing in.
type Asked struct {
	Factory bool  // makers' defaults are tried too
	Set     int64 // this one alone; 0: all in their order
}

// Password opens a set's password.
func (k *Clients) Password(set store.SealedSet) (string, error) {
	return k.Vault.Open(set.Sealed, store.SetPlace(set.ID))
}

// Order lists the sets that may be tried on a device now, the likeliest first.
func (k *Clients) Order(ctx context.Context, d store.Device, s *site.Snapshot, asked Asked) ([]store.SealedSet, error) {
	sealed, err := k.Store.SetsFor(ctx, d.SiteID, d.ID)
	if err != nil {
		return nil, err
	}
	byID := make(map[int64]store.SealedSet, len(sealed))
	sets := make([]access.Set, len(sealed))
	for i, x := range sealed {
		byID[x.ID], sets[i] = x, x.Set
	}
	likely, err := k.likely(ctx, d, s)
	if err != nil {
		return nil, err
	}
	var out []store.SealedSet
	for _, x := range access.Order(time.Now(), likely, access.ForCameras(sets, s.RecorderSets()), s.Tries[d.ID], asked.Factory, asked.Set) {
		out = append(out, byID[x.ID])
	}
	return out, nil
}

// likely tells what opened this device, others of its make, and others near it.
func (k *Clients) likely(ctx context.Context, d store.Device, s *site.Snapshot) (access.Device, error) {
	out := access.Device{ID: d.ID, Make: d.Make, Refused: d.Refused}
	var near netip.Prefix
	if d.Address != nil {
		if n, ok := netplan.Of(s.Networks(), *d.Address); ok {
			out.Network, near = n.ID, n.Prefix
		}
	}
	if a, ok := facts.Account.Of(s, d.ID); ok {
		out.Opened = a.SetID
		return out, nil // it goes first; what opened others isn't asked for
	}
	if d.OpenedSet != nil { // and wasn't refused since, though it isn't known now
		out.Opened = *d.OpenedSet
	}
	var err error
	out.OpenedByMake, out.OpenedNear, err = k.Store.OpenedAlike(ctx, d.SiteID, d.Make, near)
	return out, err
}

// Address is where a device is reached; a sentence for the person where it wasn't found.
func Address(d store.Device) (netip.Addr, error) {
	if d.Address == nil {
		return netip.Addr{}, trouble.UserError(d.Place + " wasn't found yet: look for it first.")
	}
	return *d.Address, nil
}

// Doubted says for a person why no account may be sent to a device; nil where one may.
func Doubted(d store.Device, s *site.Snapshot) error {
	if why := identity.Doubt(facts.ForIdentity(s, d)); why != "" {
		return trouble.UserError("No account is sent to " + d.Place + ": " + why + " Settle on Find who it is.")
	}
	return nil
}

// BudgetOf is a device's budget as a snapshot has it.
func (k *Clients) BudgetOf(d store.Device, s *site.Snapshot) *Budget {
	f, _ := facts.ForAccess(s, time.Now(), d)
	b := &Budget{Clients: k, Device: d, Facts: f}
	if now, ok := s.Device(d.ID); ok {
		b.Counted = &store.Counted{Tries: s.Tries[d.ID], Begun: now.Tries}
	}
	return b
}

// Open makes a client for a camera, signed in with the account that opened it, for a stage
// or what a person asked for, by its name. Its first request is a try within the budget: where
// the account is refused, nothing sends it again by itself.
func (k *Clients) Open(ctx context.Context, d store.Device, s *site.Snapshot, stage string) (*onvif.Client, error) {
	account, ok := facts.Account.Of(s, d.ID)
	if !ok {
		return nil, trouble.UserError("No account opens " + d.Place + " yet: sign in first.")
	}
	set, err := k.set(ctx, d, account.SetID)
	if err != nil {
		return nil, err
	}
	return k.client(ctx, d, s, set, account.Scheme, k.BudgetOf(d, s).Try(set, account.Scheme, stage))
}

// OpenWith is Open with another set and scheme; what comes of it the caller keeps.
func (k *Clients) OpenWith(ctx context.Context, d store.Device, s *site.Snapshot, setID int64, scheme access.Scheme) (*onvif.Client, error) {
	set, err := k.set(ctx, d, setID)
	if err != nil {
		return nil, err
	}
	return k.client(ctx, d, s, set, scheme, k.BudgetOf(d, s).Try(set, scheme, ""))
}

func (k *Clients) set(ctx context.Context, d store.Device, id int64) (store.SealedSet, error) {
	set, err := k.Store.Set(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return set, trouble.UserError("The credential set that opened " + d.Place + " is gone: sign in again.")
	}
	return set, err
}

func (k *Clients) client(ctx context.Context, d store.Device, s *site.Snapshot, set store.SealedSet, scheme access.Scheme, try dial.Try) (*onvif.Client, error) {
	addr, err := Address(d)
	if err != nil {
		return nil, err
	}
	if err := Doubted(d, s); err != nil {
		return nil, err
	}
	seen, heard := facts.Seen.Of(s, d.ID)
	if heard && seen.Service == "" && seen.RTSPPort != 0 {
		return nil, trouble.UserError(d.Place + " speaks RTSP alone: what ONVIF would tell of it can't be read.")
	}
	if !heard || seen.Service == "" {
		return nil, trouble.UserError(d.Place + " speaks no ONVIF that answered: look for it first.")
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	if seen.Cert = pin; scheme == access.Basic && !d.AllowsBasic(seen) {
		return nil, trouble.UserError(d.Place + " takes nothing but Basic, and nobody allows its password in clear any more: see Sign-in.")
	}
	password, err := k.Password(set)
	if err != nil {
		return nil, err
	}
	login := onvif.Login{Username: set.Username, Password: password, Scheme: scheme, Pin: pin, Try: try}
	host := k.Dialer.At(addr)
	if scheme == access.Token { // it carries the device's own time, read at once before
		plain, err := onvif.New(host, seen.Service, onvif.Login{Pin: login.Pin})
		if err != nil {
			return nil, err
		}
		defer plain.Close()
		r, err := plain.Time(ctx)
		if err != nil {
			return nil, err
		}
		login.Ahead = r.Offset.Mid()
	}
	return onvif.New(host, seen.Service, login)
}

// Plain is a client of a device that signs in nowhere.
func (k *Clients) Plain(d store.Device, s *site.Snapshot) (*onvif.Client, error) {
	addr, err := Address(d)
	if err != nil {
		return nil, err
	}
	seen, ok := facts.Seen.Of(s, d.ID)
	if !ok || seen.Service == "" {
		return nil, trouble.UserError(d.Place + " speaks no ONVIF that answered: look for it first.")
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	return onvif.New(k.Dialer.At(addr), seen.Service, onvif.Login{Pin: pin})
}

// LoginOf opens a set that is to be sent to a device over a scheme of its own, for a stage.
func (k *Clients) LoginOf(ctx context.Context, d store.Device, s *site.Snapshot, setID int64, scheme access.Scheme, stage string) (dial.Login, error) {
	if err := Doubted(d, s); err != nil {
		return dial.Login{}, err
	}
	if a, ok := facts.Account.Of(s, d.ID); ok && a.Refusing(scheme) != "" {
		return dial.Login{}, trouble.UserErrorf("%s doesn't take its account there (%s), and it isn't sent again by itself: see Sign-in.", d.Place, a.Refusing(scheme))
	}
	set, err := k.set(ctx, d, setID)
	if err != nil {
		return dial.Login{}, err
	}
	password, err := k.Password(set)
	return dial.Login{Username: set.Username, Password: password, Try: k.BudgetOf(d, s).Try(set, scheme, stage)}, err
}

// Secret is a set's user name and password, for what keeps them: a recorder's channel.
func (k *Clients) Secret(ctx context.Context, setID int64) (username, password string, err error) {
	set, err := k.Store.Set(ctx, setID)
	if errors.Is(err, store.ErrNotFound) {
		return "", "", trouble.UserError("That credential set is gone: sign in again.")
	}
	if err != nil {
		return "", "", err
	}
	password, err = k.Password(set)
	return set.Username, password, err
}

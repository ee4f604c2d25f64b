// Package account signs in to devices, and nobody else does: which sets may be tried in
// what order, the budget of tries, clients that are signed in, and sets that are made.
// A password leaves it only inside a client.
package account

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
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

// Recorder makes a driver for a recorder, signed in with its own account. Sets go only to what has
// shown itself to be a recorder of this site and isn't in doubt; the first request is a try within
// the budget, and what was refused isn't sent again before somebody acts.
func (k *Clients) Recorder(ctx context.Context, d store.Device) (recorder.Driver, error) {
	addr, err := Address(d)
	if err != nil {
		return nil, err
	}
	if d.Bench != nil {
		return k.sheet(ctx, d)
	}
	s, err := site.Load(ctx, k.Store, d.SiteID, []int64{d.ID})
	if err != nil {
		return nil, err
	}
	if now, ok := s.Device(d.ID); ok {
		d = now
	}
	seen, ok := facts.Seen.Of(s, d.ID)
	if !ok || !seen.Heard(identity.SaidHello) && !seen.Heard(identity.RecordsOthers) {
		return nil, trouble.UserError(d.Place + " hasn't shown itself to be a recorder: look for it first.")
	}
	if err := Doubted(d, s); err != nil {
		return nil, err
	}
	if d.SetID == nil {
		return nil, trouble.UserError("No account is kept for " + d.Place + ": give it one on Settings.")
	}
	set, err := k.set(ctx, d, *d.SetID)
	if err != nil {
		return nil, err
	}
	if err := k.refuses(ctx, d.ID, set); err != nil {
		return nil, err
	}
	password, err := k.Password(set)
	if err != nil {
		return nil, err
	}
	stage := ""
	if access.Opens(s.Tries[d.ID], set.ID) {
		stage = "the recorder's interface"
	}
	pin, _ := facts.RecorderPin.Of(s, d.ID)
	login := dial.Login{Username: set.Username, Password: password,
		Try: k.inTurn(d.ID, k.BudgetOf(d, s).Try(set, access.Digest, stage), func(ctx context.Context) error { return k.refuses(ctx, d.ID, set) })}
	if !seen.Heard(identity.SaidHello) {
		return recorder.NewControl(k.Dialer.At(addr), seen.Service, pin, login)
	}
	return recorder.New(k.Dialer.At(addr), recorder.Port, pin, login), nil
}

// sheet makes a driver for a recorder that is set up by hand: of what was ticked, with what the
// cameras showed themselves.
func (k *Clients) sheet(ctx context.Context, d store.Device) (recorder.Driver, error) {
	entries, err := k.Store.BenchEntries(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	var login dial.Login
	if d.Bench.Picture != "" && len(entries) > 0 {
		if login, err = k.PageLogin(ctx, d, "the pictures of "+d.Place); err != nil {
			return nil, err
		}
	}
	ids := make([]int64, len(entries))
	for i, e := range entries {
		ids[i] = e.Device
	}
	s, err := site.Load(ctx, k.Store, d.SiteID, ids)
	if err != nil {
		return nil, err
	}
	typed := make([]recorder.Typed, len(entries))
	for i, e := range entries {
		typed[i].Entry = e
		of, _ := s.Source(e.Source)
		if own, ok := facts.Still.Of(s, of); ok {
			typed[i].Own = &own.Print
		}
	}
	return recorder.NewSheet(k.Dialer.At(*d.Address), d.Place, *d.Bench, typed, login), nil
}

// PageLogin is the account of a recorder that is set up by hand, for what its web page shows; without
// one nothing is sent.
func (k *Clients) PageLogin(ctx context.Context, d store.Device, purpose string) (dial.Login, error) {
	s, err := site.Load(ctx, k.Store, d.SiteID, []int64{d.ID})
	if err != nil || d.SetID == nil {
		return dial.Login{}, err
	}
	if err := Doubted(d, s); err != nil {
		return dial.Login{}, err
	}
	set, err := k.set(ctx, d, *d.SetID)
	if err != nil {
		return dial.Login{}, err
	}
	if err := k.refuses(ctx, d.ID, set); err != nil {
		return dial.Login{}, err
	}
	password, err := k.Password(set)
	try := k.inTurn(d.ID, k.BudgetOf(d, s).Try(set, access.Digest, purpose), func(ctx context.Context) error { return k.refuses(ctx, d.ID, set) })
	return dial.Login{Username: set.Username, Password: password, Try: try}, err
}

// refuses says for a person that a recorder refused its account; nil where it didn't.
func (k *Clients) refuses(ctx context.Context, recorder int64, set store.SealedSet) error {
	d, err := k.Store.Device(ctx, recorder)
	if err != nil {
		return err
	}
	if slices.Contains(d.Refused, set.ID) {
		return trouble.UserErrorf("%s refused its account %s, and it isn't sent again by itself: give it another, or its password, in Settings.", d.Place, set.Name)
	}
	return nil
}

// inTurn has those who sign in to a recorder at the same time do so one after the other, each
// knowing by may what came of the one before: several steps read one recorder, and what it
// refuses must not be sent by each.
func (k *Clients) inTurn(recorder int64, t dial.Try, may func(context.Context) error) dial.Try {
	gate, _ := k.gates.LoadOrStore(recorder, make(chan struct{}, 1))
	return turn{t, gate.(chan struct{}), may}
}

type turn struct {
	dial.Try
	gate chan struct{}
	may  func(context.Context) error
}

func (t turn) Begin(ctx context.Context) error {
	select {
	case t.gate <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	err := t.may(ctx)
	if err == nil {
		err = t.Try.Begin(ctx)
	}
	if err != nil {
		<-t.gate
	}
	return err
}

func (t turn) End(ctx context.Context, sent bool, verdict error) error {
	defer func() { <-t.gate }()
	return t.Try.End(ctx, sent, verdict)
}

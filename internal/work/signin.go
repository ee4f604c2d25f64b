package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/store"
)

// signIn finds the account that opens a camera. Its clock is read first, without
// signing in, so that a token carries the device's own time; each try is written
// down before it is sent.
func (o *Office) signIn(ctx context.Context, d store.Device, how try) (string, error) {
	addr, err := addrOf(d)
	if err != nil {
		return "", err
	}
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return "", err
	}
	seen, ok := v.Seen(d.ID)
	if !ok || seen.Service == "" && seen.RTSPPort == 0 || seen.Heard(identity.OnAPort) {
		return "", toldError(d.Place + " answered to nothing that can be signed in to: look for it first.")
	}
	a := &attempt{o: o, d: d, v: v, seen: seen, host: o.dialer.At(addr), how: how, looked: Looked{At: time.Now().UTC()}}
	if now, ok := v.Device(d.ID); ok {
		a.counted = &store.Counted{Tries: v.Tries[d.ID], Begun: now.Tries}
	}
	a.pin, _ = fact[string](v, d.ID, factTLS)
	a.trusted = a.pin
	says, terr := a.all(ctx)
	if terr != nil && ours(terr) {
		return "", terr
	}
	var de *dial.Error
	if errors.As(terr, &de) && errors.Is(de, dial.ErrLocked) {
		a.looked.Locked = de.Until.UTC()
	}
	if terr != nil {
		a.looked.Trouble = sentence(terr)
	}
	return says, errors.Join(a.keep(ctx, terr), terr)
}

// try is what a person asked for of a signing in.
type try struct {
	factory bool  // makers' defaults are tried too
	set     int64 // this one alone; 0: all in their order
}

// attempt is one signing in to one device.
type attempt struct {
	o       *Office
	d       store.Device
	v       *View
	seen    identity.Sighting
	host    dial.Host
	how     try
	pin     string
	trusted string
	looked  Looked
	account *access.Account
	web     *access.Account
	rule    *access.Rule
	facts   []store.NewFact
	said    []store.Identity
	counted *store.Counted // its tries, as they were when it was looked up; nil once one was begun
}

// keep writes down what came of it. A device that doesn't answer keeps the account it
// was opened with before.
func (a *attempt) keep(ctx context.Context, terr error) error {
	d, w := a.d, store.Writes{Said: a.said}
	if a.account == nil && terr == nil {
		w.Drop = append(w.Drop, store.Dropped{Device: d.ID, Name: factAccount})
		w.Opened = append(w.Opened, store.OpenedBy{Device: d.ID})
	}
	if a.web == nil && terr == nil {
		w.Drop = append(w.Drop, store.Dropped{Device: d.ID, Name: factWeb})
	}
	add := func(name, via string, value any) {
		a.facts = append(a.facts, store.NewFact{Device: d.ID, Name: name, Via: via, At: a.looked.At, Value: value})
	}
	add(factTried, "sign-in", a.looked)
	if a.account != nil {
		add(factAccount, string(a.account.Scheme), a.account)
		if d.OpenedSet == nil || *d.OpenedSet != a.account.SetID {
			w.Opened = append(w.Opened, store.OpenedBy{Device: d.ID, Set: a.account.SetID})
		}
	}
	if a.web != nil {
		add(factWeb, "GET "+a.seen.Page, a.web)
	}
	if a.rule != nil {
		add(factRule, "GetPasswordComplexityConfiguration", a.rule)
	}
	w.Facts = a.facts
	return a.o.store.Write(ctx, w)
}

func (a *attempt) all(ctx context.Context) (string, error) {
	if a.seen.Service == "" {
		return a.rtspAlone(ctx)
	}
	plain, err := onvif.New(a.host, a.seen.Service, onvif.Login{Pin: a.pin})
	if err != nil {
		return "", err
	}
	defer plain.Close()
	reading, err := plain.Time(ctx)
	if errors.Is(err, dial.ErrCertificate) {
		return "", a.otherCertificate(ctx, err)
	}
	if err != nil {
		return "", err
	}
	if plain.Pin() != a.trusted { // the first that it showed is trusted from now on
		a.pin = plain.Pin()
		a.facts = append(a.facts, store.NewFact{Device: a.d.ID, Name: factTLS, Via: "TLS", At: a.looked.At, Value: a.pin})
	}
	if a.pin != "" {
		a.facts = append(a.facts, store.NewFact{Device: a.d.ID, Name: factShown, Via: "TLS", At: a.looked.At, Value: a.pin})
	}
	schemes, err := plain.Schemes(ctx)
	if err != nil {
		return "", err
	}
	switch {
	case len(schemes) == 0:
		if rule, err := plain.Rule(ctx); err == nil {
			a.rule = &rule
		}
		a.looked.NoPassword = true
		return "no first password was set", nil
	case schemes[0] == access.Basic && !strings.HasPrefix(a.seen.Service, "https:"):
		a.looked.Basic = true
		if !a.d.AllowBasic {
			return "it takes nothing but Basic: no password was sent in clear", nil
		}
	}
	return a.sets(ctx, schemes[0], reading)
}

// otherCertificate keeps the certificate that is shown now beside the trusted one:
// nothing is sent to the device before a person trusts it.
func (a *attempt) otherCertificate(ctx context.Context, cause error) error {
	pin := ""
	if _, err := page.Look(ctx, a.host, a.seen.Service, &pin); pin == "" {
		return errors.Join(cause, err)
	}
	a.facts = append(a.facts, store.NewFact{Device: a.d.ID, Name: factShown, Via: "TLS", At: a.looked.At, Value: pin})
	return cause
}

// sets tries the site's sets in their order, and where ONVIF refuses one that the
// device's page may take, the page.
func (a *attempt) sets(ctx context.Context, scheme access.Scheme, reading clock.Reading) (string, error) {
	order, err := a.o.order(ctx, a.d, a.v, a.how)
	if err != nil {
		return "", err
	}
	a.looked.NoSets = len(order) == 0
	for _, set := range order {
		if a.account, err = a.one(ctx, set, scheme, reading); err != nil {
			return "", err
		}
		if a.account != nil {
			return "opened with " + set.Name, nil
		}
		if err := a.tryWeb(ctx, set); err != nil {
			return "", err
		}
		if a.web != nil {
			return set.Name + " opens its web page; it has no ONVIF account", nil
		}
	}
	return "no credential set opened it", nil
}

// tryWeb tries a set that ONVIF refused on the device's own page, where that asks for
// an account.
func (a *attempt) tryWeb(ctx context.Context, set store.SealedSet) error {
	if a.seen.Page == "" {
		return nil
	}
	shown, err := page.Look(ctx, a.host, a.seen.Page, &a.pin)
	if err != nil || !shown.Digest {
		return nil // its page shows nothing of accounts
	}
	id, password, ok, err := a.begin(ctx, set, access.Web)
	if err != nil || !ok {
		return err
	}
	err = page.Opens(ctx, a.host, a.seen.Page, &a.pin, set.Username, password)
	if err == nil {
		a.web = &access.Account{At: time.Now().UTC(), SetID: set.ID, Set: set.Name, Username: set.Username, Scheme: access.Web}
	}
	return a.end(ctx, id, err)
}

// begin writes a try down before it is sent; ok is false where the budget forbids it.
func (a *attempt) begin(ctx context.Context, set store.SealedSet, scheme access.Scheme) (id int64, password string, ok bool, err error) {
	if password, err = a.o.vault.Open(set.Sealed, store.SetPlace(set.ID)); err != nil {
		return 0, "", false, err
	}
	f, _ := a.v.SignIn(a.d)
	counted := a.counted
	a.counted = nil
	id, ok, err = a.o.store.BeginTry(ctx, a.d.ID, set.ID, set.Name, scheme, counted, func(tries []access.Try) bool {
		f.Tries = tries
		left, _ := f.Left(time.Now())
		return left > 0
	})
	return id, password, ok, err
}

// end writes a try's outcome; what is no verdict on the password is returned.
func (a *attempt) end(ctx context.Context, id int64, err error) error {
	// Also where the step was cut short meanwhile: a try without an outcome counts as wrong.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	switch {
	case err == nil:
		return a.o.store.EndTry(ctx, id, access.Opened, "")
	case errors.Is(err, dial.ErrNotAuthorised):
		return a.o.store.EndTry(ctx, id, access.Wrong, err.Error())
	case errors.Is(err, dial.ErrLocked):
		return errors.Join(a.o.store.EndTry(ctx, id, access.Locked, err.Error()), err)
	}
	return errors.Join(a.o.store.EndTry(ctx, id, access.Hindered, err.Error()), err)
}

// one sends one set. A nil account without error means that the set was wrong or that
// no try is left.
func (a *attempt) one(ctx context.Context, set store.SealedSet, scheme access.Scheme, reading clock.Reading) (*access.Account, error) {
	id, password, ok, err := a.begin(ctx, set, scheme)
	if err != nil || !ok {
		return nil, err
	}
	login := onvif.Login{Username: set.Username, Password: password, Scheme: scheme, Ahead: reading.Offset.Mid(), Pin: a.pin}
	account := &access.Account{At: time.Now().UTC(), SetID: set.ID, Set: set.Name, Username: set.Username, Scheme: scheme, Offset: login.Ahead, Own: scheme == access.Token}
	c, err := onvif.New(a.host, a.seen.Service, login)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	info, err := c.Information(ctx)
	if eerr := a.end(ctx, id, err); eerr != nil || err != nil {
		return nil, eerr
	}
	if err := a.about(ctx, c, info, account); err != nil {
		return nil, err
	}
	account.RTSP, account.RTSPSet, err = a.rtspTakes(ctx, set)
	return account, err
}

// about reads what a device says of itself once it is open. What it doesn't offer is
// left out; trouble on the way isn't.
func (a *attempt) about(ctx context.Context, c *onvif.Client, info identity.Sighting, account *access.Account) error {
	d := a.d
	was, known := a.v.Info(d.ID)
	a.said = append(a.said, store.Identity{Device: d.ID, Seen: info})
	services, err := c.Services(ctx)
	if err != nil {
		return err
	}
	info.At = time.Now().UTC()
	add := func(name, via string, value any, err error) {
		if err == nil {
			a.facts = append(a.facts, store.NewFact{Device: d.ID, Name: name, Via: via, At: info.At, Value: value})
		}
	}
	add(factInfo, "GetDeviceInformation", info, nil)
	add(factServices, "GetServices", services, nil)
	if known && was.Firmware != info.Firmware {
		if err := a.o.store.Note(ctx, d.SiteID, store.Happening{Device: d.ID, Kind: "firmware", Place: d.Place, Says: fmt.Sprintf("Its firmware is %s now, before %s.", info.Firmware, was.Firmware)}); err != nil {
			return err
		}
	}
	users, err := c.Users(ctx)
	names := make([]string, len(users))
	for i, u := range users {
		names[i] = access.AccountText(u.Name, u.Level)
		if u.Name == account.Username {
			account.Level = u.Level
		}
	}
	add(factUsers, "GetUsers", names, err)
	if errors.Is(err, dial.ErrNotAuthorised) { // an administrator may always read them
		account.Level = access.Operator
	}
	seat, _, err := c.IPConfig(ctx)
	add(factSeat, "GetNetworkInterfaces, GetNetworkDefaultGateway", seat, err)
	if rule, err := c.Rule(ctx); err == nil {
		a.rule = &rule
	}
	if heard, err := c.Discoverable(ctx); err == nil {
		add(factHidden, "GetDiscoveryMode", !heard, nil)
	}
	if _, read := fact[[]stream.VideoSource](a.v, d.ID, factViews); !read {
		views, err := c.VideoSources(ctx, services)
		add(factViews, "GetProfiles", views, err)
	}
	return ctx.Err()
}

// rtspAlone opens a device that speaks RTSP and nothing else.
func (a *attempt) rtspAlone(ctx context.Context) (string, error) {
	order, err := a.o.order(ctx, a.d, a.v, a.how)
	if err != nil {
		return "", err
	}
	a.looked.NoSets = len(order) == 0
	if !spokeRTSP(ctx, a.host, a.seen.RTSPPort) { // before a try is spent
		return "", &dial.Error{Tried: "OPTIONS", On: a.host.Addr.String(), Kind: dial.ErrUnreachable, Says: "it doesn't speak RTSP now"}
	}
	for _, set := range order {
		id, password, ok, err := a.begin(ctx, set, access.RTSP)
		if err != nil || !ok {
			return "no try is left", err
		}
		err = a.describe(ctx, set.Username, password)
		if eerr := a.end(ctx, id, err); eerr != nil {
			return "", eerr
		}
		if err == nil {
			a.account = &access.Account{At: time.Now().UTC(), SetID: set.ID, Set: set.Name, Username: set.Username, Scheme: access.RTSP, RTSP: access.SameAccount}
			return "RTSP opened with " + set.Name, nil
		}
	}
	return "no credential set opened it", nil
}

// describe asks RTSP for a description, which takes an account: nil where it is taken.
func (a *attempt) describe(ctx context.Context, username, password string) error {
	c, err := rtsp.Open(ctx, a.host, fmt.Sprintf("rtsp://%s/", netip.AddrPortFrom(a.host.Addr, uint16(a.seen.RTSPPort))), username, password)
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err = c.Describe(); err != nil && !errors.Is(err, dial.ErrNotAuthorised) && !errors.Is(err, dial.ErrUnreachable) {
		return nil // a path that isn't there is told only to who may ask
	}
	return err
}

// rtspTakes says whether RTSP takes the account too; where it doesn't, the site's other
// sets are tried within the budget, and the one that it takes is named.
func (a *attempt) rtspTakes(ctx context.Context, set store.SealedSet) (says string, other int64, err error) {
	if a.seen.RTSPPort == 0 {
		return "", 0, nil
	}
	password, err := a.o.vault.Open(set.Sealed, store.SetPlace(set.ID))
	if err != nil {
		return "", 0, err
	}
	refused := a.describe(ctx, set.Username, password)
	switch {
	case refused == nil:
		return access.SameAccount, 0, nil
	case !errors.Is(refused, dial.ErrNotAuthorised):
		return "", 0, nil
	}
	order, err := a.o.order(ctx, a.d, a.v, a.how)
	if err != nil {
		return "", 0, err
	}
	for _, x := range order {
		if x.ID == set.ID || x.Username == set.Username && x.Device == 0 {
			continue
		}
		id, password, ok, err := a.begin(ctx, x, access.RTSP)
		if err != nil {
			return "", 0, err
		}
		if !ok {
			break
		}
		err = a.describe(ctx, x.Username, password)
		if eerr := a.end(ctx, id, err); eerr != nil {
			return "", 0, eerr
		}
		if err == nil {
			return "opens with " + x.Name, x.ID, nil
		}
	}
	return sentence(refused), 0, nil
}

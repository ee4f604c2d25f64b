// Package signin finds which account opens which device, and sets accounts.
package signin

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"duskyharbor/internal/account"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/page"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Sign-in.
type Stage struct{ stages.Services }

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k} }

// ID is stage.SignIn.
func (g *Stage) ID() stage.Stage { return stage.SignIn }

// Manner says that recorders are read with the cameras.
func (g *Stage) Manner() engine.Manner { return engine.Manner{Of: engine.CamerasAndRecorders} }

// AfterChange signs in again where a change of Sign-in touched the accounts.
func (g *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if !engine.AnyOf(changes, stage.SignIn) {
		return nil
	}
	again := *v
	again.Factory, again.Set = false, 0
	_, err := g.Read(ctx, &again)
	return err
}

// Read finds the account that opens a camera. Its clock is read first, without
// signing in, so that a token carries the device's own time; each try is written
// down before it is sent. A recorder is read with its own account.
func (g *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	if v.Device.Kind == identity.Recorder {
		return g.Recorders.Read(ctx, v.Device)
	}
	d := v.Device
	addr, err := account.Address(d)
	if err != nil {
		return "", err
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	seen, ok := facts.Seen.Of(s, d.ID)
	if !ok || seen.Service == "" && seen.RTSPPort == 0 || seen.Heard(identity.OnAPort) {
		return "", trouble.UserError(d.Place + " answered to nothing that can be signed in to: look for it first.")
	}
	if why := identity.Doubt(facts.ForIdentity(s, d)); why != "" {
		return "", trouble.UserError("No account is sent to " + d.Place + ": " + why + " Settle on Find who it is.")
	}
	a := g.attempt(d, s)
	if until := a.Facts.LockedNow(time.Now(), v.Set); !until.IsZero() {
		return "", trouble.UserErrorf("%s takes no sign-in until %s UTC, after too many wrong ones: nothing was sent.", d.Place, until.UTC().Format("15:04"))
	}
	a.seen, a.host, a.how, a.asked = seen, g.Dialer.At(addr), account.Asked{Factory: v.Factory,
		Set: v.Set}, access.Attempt{At: time.Now().UTC()}
	a.pin, _ = facts.Pin.Of(s, d.ID)
	a.trusted = a.pin
	says, err := a.all(ctx)
	if err != nil && engine.Ours(err) {
		return "", err
	}
	var de *dial.Error
	if errors.As(err, &de) && errors.Is(de, dial.ErrLocked) {
		a.asked.Locked = de.Until.UTC()
	}
	if err != nil {
		a.asked.Trouble = trouble.Sentence(err)
	}
	return says, errors.Join(a.keep(ctx, err), err)
}

// attempt is one signing in to one device.
type attempt struct {
	*account.Budget
	g       *Stage
	d       store.Device
	s       *site.Snapshot
	seen    identity.Sighting
	host    dial.Host
	how     account.Asked
	pin     string
	trusted string
	asked   access.Attempt
	account *access.Account
	web     *access.Account
	rule    *access.Rule
	facts   []store.NewFact
	said    []store.Identity
	refused []int64 // sets that it didn't take
	spent   bool    // no try was left for another
	listed  bool    // its video sources are known now: its rows show those that the list names
	takes   []access.Scheme
}

func (g *Stage) attempt(d store.Device, s *site.Snapshot) *attempt {
	return &attempt{Budget: g.Accounts.BudgetOf(d, s), g: g, d: d, s: s}
}

// keep writes down what came of it. A device that doesn't answer keeps the account it
// was opened with before.
func (a *attempt) keep(ctx context.Context, terr error) error {
	d, w := a.d, store.Writes{Said: a.said}
	if a.account == nil && terr == nil {
		w.Drop = append(w.Drop, store.Dropped{Device: d.ID, Name: facts.Account.Name})
		if a.asked.NoPassword || d.OpenedSet != nil && slices.Contains(a.refused, *d.OpenedSet) {
			w.Opened = append(w.Opened, store.OpenedBy{Device: d.ID})
		}
	}
	if a.web == nil && terr == nil {
		w.Drop = append(w.Drop, store.Dropped{Device: d.ID, Name: facts.WebAccount.Name})
	}
	a.facts = append(a.facts, facts.Attempted.New(d.ID, "sign-in", a.asked.At, a.asked))
	if a.account != nil {
		a.account.Takes = a.takes
		a.facts = append(a.facts, facts.Account.New(d.ID, string(a.account.Scheme), a.asked.At, *a.account))
		if d.OpenedSet == nil || *d.OpenedSet != a.account.SetID {
			w.Opened = append(w.Opened, store.OpenedBy{Device: d.ID, Set: a.account.SetID})
		}
	}
	if a.web != nil {
		a.facts = append(a.facts, facts.WebAccount.New(d.ID, "GET "+a.seen.Page, a.asked.At, *a.web))
	}
	if a.rule != nil {
		a.facts = append(a.facts, facts.PasswordRule.New(d.ID, "GetPasswordComplexityConfiguration", a.asked.At, *a.rule))
	}
	w.Facts = a.facts
	if err := a.g.Store.Write(ctx, w); err != nil || !a.listed {
		return err
	}
	return a.g.Store.ShowListed(ctx, []int64{d.ID})
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
		a.facts = append(a.facts, facts.Pin.New(a.d.ID, "TLS", a.asked.At, a.pin))
	}
	if a.pin != "" {
		a.facts = append(a.facts, facts.ShownPin.New(a.d.ID, "TLS", a.asked.At, a.pin))
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
		a.asked.NoPassword = true
		return "no first password was set", nil
	case schemes[0] == access.Basic:
		a.asked.Basic = true
		if a.seen.Cert = a.pin; !a.d.AllowsBasic(a.seen) {
			return "it takes nothing but Basic: no password was sent in clear", nil
		}
	}
	a.takes = schemes
	if was, ok := facts.Account.Of(a.s, a.d.ID); ok && len(was.Takes) > 0 && was.Scheme == schemes[0] {
		a.takes = was.Takes
	} else if declared, err := plain.Declared(ctx); err == nil { // many don't say
		for _, s := range declared {
			if !slices.Contains(a.takes, s) {
				a.takes = append(a.takes, s)
			}
		}
	}
	return a.sets(ctx, schemes[0], reading)
}

// otherCertificate keeps the certificate that is shown now beside the trusted one:
// nothing is sent to the device before a person trusts it.
func (a *attempt) otherCertificate(ctx context.Context, cause error) error {
	pin := ""
	if _, err := page.Fetch(ctx, a.host, a.seen.Service, &pin); pin == "" {
		return errors.Join(cause, err)
	}
	a.facts = append(a.facts, facts.ShownPin.New(a.d.ID, "TLS", a.asked.At, pin))
	return cause
}

// sets tries the site's sets in their order, and where ONVIF refuses one that the
// device's page may take, the page.
func (a *attempt) sets(ctx context.Context, scheme access.Scheme, reading clock.Reading) (string, error) {
	order, err := a.g.Accounts.Order(ctx, a.d, a.s, a.how)
	if err != nil {
		return "", err
	}
	a.asked.NoSets = len(order) == 0
	was, web := facts.WebAccount.Of(a.s, a.d.ID)
	if web && a.how == (account.Asked{}) {
		left := was.NotPassed(numbers(order))
		order = slices.DeleteFunc(order, func(set store.SealedSet) bool { return !slices.Contains(left, set.ID) })
	}
	for i, set := range order {
		if a.account, err = a.trySet(ctx, set, scheme, reading); err != nil {
			return "", err
		}
		if a.account != nil {
			return "opened with " + set.Name, nil
		}
		if err := a.tryWeb(ctx, set); err != nil {
			return "", err
		}
		if a.web != nil {
			a.web.Passed = slices.Concat(was.Passed, numbers(order[i+1:]))
			return set.Name + webAlone, nil
		}
	}
	if web {
		if err := a.webAgain(ctx, was); err != nil {
			return "", err
		}
	}
	if a.web != nil {
		return a.web.Set + webAlone, nil
	}
	return a.unopened(), nil
}

func numbers(sets []store.SealedSet) (out []int64) {
	for _, set := range sets {
		out = append(out, set.ID)
	}
	return out
}

// noVerdict is an answer that says nothing of an account; nil for one that took it, refused
// it, or where no try was left.
func noVerdict(err error) error {
	if errors.Is(err, dial.ErrNotAuthorised) || errors.Is(err, account.ErrNoTry) {
		return nil
	}
	return err
}

// trySet sends one set. A nil account without error means that the set was wrong or that
// no try is left; an account with one, that what it opens broke off.
func (a *attempt) trySet(ctx context.Context, set store.SealedSet, scheme access.Scheme, reading clock.Reading) (*access.Account, error) {
	password, err := a.g.Accounts.Password(set)
	if err != nil {
		return nil, err
	}
	login := onvif.Login{Username: set.Username, Password: password, Scheme: scheme, Ahead: reading.Offset.Mid(), Pin: a.pin, Try: a.Try(set, scheme, "")}
	account := &access.Account{At: time.Now().UTC(), SetID: set.ID, Set: set.Name, Username: set.Username,
		Scheme: scheme, Offset: login.Ahead, Own: scheme == access.Token}
	c, err := onvif.New(a.host, a.seen.Service, login)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	info, err := c.Information(ctx)
	a.hears(set, err)
	if err != nil {
		return nil, noVerdict(err)
	}
	if err := a.about(ctx, c, info, account); err != nil {
		return account, err // it is open, though not all of it was read
	}
	account.RTSP, account.RTSPSet, err = a.rtspTakes(ctx, set)
	return account, err
}

// hears remembers a set that the device refused. What opened it before and couldn't be
// tried, since no try is left, isn't refused: it goes first again once one is.
func (a *attempt) hears(set store.SealedSet, err error) {
	if errors.Is(err, dial.ErrNotAuthorised) {
		a.refused = append(a.refused, set.ID)
	}
	a.spent = a.spent || errors.Is(err, account.ErrNoTry)
}

// unopened is what came of sets none of which opened it: what wasn't sent wasn't refused.
func (a *attempt) unopened() string {
	if a.spent {
		return "no try is left: what else there is wasn't sent"
	}
	return "no credential set opened it"
}

// about reads what a device says of itself once it is open. What it doesn't offer is
// left out; trouble on the way isn't.
func (a *attempt) about(ctx context.Context, c *onvif.Client, info identity.Sighting, account *access.Account) error {
	d := a.d
	was, known := facts.Info.Of(a.s, d.ID)
	a.said = append(a.said, store.Identity{Device: d.ID, Seen: identity.Written(d.Known(), info)})
	services, via, err := c.Services(ctx)
	if err != nil {
		return err
	}
	info.At = time.Now().UTC()
	var broke error // it fell silent on the way
	keep := func(f store.NewFact, err error) {
		switch {
		case err == nil:
			a.facts = append(a.facts, f)
		case errors.Is(err, dial.ErrUnreachable):
			broke = err
		}
	}
	if name, fixed, err := c.Name(ctx); err == nil {
		info.Name, info.NameFixed = name, fixed
	}
	keep(facts.Info.New(d.ID, "GetDeviceInformation", info.At, info), nil)
	keep(facts.Services.New(d.ID, via, info.At, services), nil)
	if known && was.Firmware != info.Firmware {
		if err := a.g.Store.Note(ctx, d.SiteID, store.Notice{Device: d.ID, Kind: "firmware", Place: d.Place,
			Says: fmt.Sprintf("Its firmware is %s now, before %s.", info.Firmware, was.Firmware)}); err != nil {
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
	keep(facts.Users.New(d.ID, "GetUsers", info.At, names), err)
	if errors.Is(err, dial.ErrNotAuthorised) { // an administrator may always read them (ONVIF Core, 5.9.4.3)
		account.Level = access.NoAdministrator
	}
	at, _, err := c.IPConfig(ctx)
	keep(facts.IPConfig.New(d.ID, "GetNetworkInterfaces, GetNetworkDefaultGateway", info.At, at), err)
	if names, err := c.DNS(ctx); err == nil {
		keep(facts.DNS.New(d.ID, "GetDNS", info.At, names), nil)
	}
	if rule, err := c.Rule(ctx); err == nil {
		a.rule = &rule
	}
	if heard, err := c.Discoverable(ctx); err == nil {
		keep(facts.Hidden.New(d.ID, "GetDiscoveryMode", info.At, !heard), nil)
	}
	if _, read := facts.VideoSources.Of(a.s, d.ID); !read {
		views, err := c.VideoSources(ctx, services)
		keep(facts.VideoSources.New(d.ID, "GetProfiles", info.At, views), err)
		if err != nil {
			a.asked.Unread = trouble.Sentence(err)
		}
		a.listed = err == nil && (len(views) > 1 || slices.ContainsFunc(a.s.Views(d.ID), func(x site.Source) bool { return x.Input > 0 }))
	}
	return cmp.Or(broke, ctx.Err())
}

// rtspAlone opens a device that speaks RTSP and nothing else.
func (a *attempt) rtspAlone(ctx context.Context) (string, error) {
	order, err := a.g.Accounts.Order(ctx, a.d, a.s, a.how)
	if err != nil {
		return "", err
	}
	a.asked.NoSets = len(order) == 0
	switch open, err := a.rtspOpen(ctx); { // before a try is spent
	case err != nil:
		return "", err
	case open:
		a.asked.Open = true
		return "RTSP asks for no account", nil
	}
	for _, set := range order {
		err := a.describe(ctx, set)
		a.hears(set, err)
		switch {
		case errors.Is(err, account.ErrNoTry):
			return a.unopened(), nil
		case noVerdict(err) != nil:
			return "", err
		case err == nil:
			a.account = &access.Account{At: time.Now().UTC(), SetID: set.ID, Set: set.Name, Username: set.Username,
				Scheme: access.RTSP, RTSP: access.SameAccount}
			return "RTSP opened with " + set.Name, nil
		}
	}
	return a.unopened(), nil
}

// rtspRoot is the address that RTSP is asked for whether it takes an account.
func (a *attempt) rtspRoot() string {
	return fmt.Sprintf("rtsp://%s/", netip.AddrPortFrom(a.host.Addr, uint16(a.seen.RTSPPort)))
}

// rtspOpen says whether RTSP describes its stream to anyone.
func (a *attempt) rtspOpen(ctx context.Context) (bool, error) {
	c, err := rtsp.Open(ctx, a.host, a.rtspRoot(), rtsp.Login{})
	if err != nil {
		return false, err
	}
	defer c.Close()
	_, err = c.Describe()
	if c.Asked() || err != nil && !errors.Is(err, dial.ErrUnreachable) {
		return false, nil
	}
	return err == nil, err
}

// describe asks RTSP for a description, which takes an account: nil where the set is taken.
func (a *attempt) describe(ctx context.Context, set store.SealedSet) error {
	password, err := a.g.Accounts.Password(set)
	if err != nil {
		return err
	}
	c, err := rtsp.Open(ctx, a.host, a.rtspRoot(), rtsp.Login{Username: set.Username, Password: password, Try: a.Try(set, access.RTSP, "")})
	if err != nil {
		return err
	}
	defer c.Close()
	_, err = c.Describe()
	if c.Took() {
		return nil // what it says then, a path that isn't there too, it says to who may ask
	}
	if err == nil {
		err = &dial.Error{Tried: "RTSP DESCRIBE", On: a.host.Addr.String(), Kind: dial.ErrNotSupported, Says: "it asks for no account"}
	}
	return err
}

// rtspTakes says whether RTSP takes the account too; where it doesn't, the site's other
// sets are tried within the budget, and the one that it takes is named.
func (a *attempt) rtspTakes(ctx context.Context, set store.SealedSet) (says string, other int64, err error) {
	if a.seen.RTSPPort == 0 {
		return "", 0, nil
	}
	refused := a.describe(ctx, set)
	switch {
	case refused == nil:
		return access.SameAccount, 0, nil
	case errors.Is(refused, account.ErrNoTry):
		return "it wasn't asked: no try is left.", 0, nil
	case errors.Is(refused, dial.ErrNotSupported):
		return access.NoAccountAsked, 0, nil
	case !errors.Is(refused, dial.ErrNotAuthorised):
		return "", 0, nil
	}
	order, err := a.g.Accounts.Order(ctx, a.d, a.s, a.how)
	if err != nil {
		return "", 0, err
	}
	for _, x := range order {
		if x.ID == set.ID || x.Username == set.Username && x.Device == 0 {
			continue
		}
		err := a.describe(ctx, x)
		switch {
		case err == nil:
			return "opens with " + x.Name, x.ID, nil
		case errors.Is(err, account.ErrNoTry):
			return trouble.Sentence(refused), 0, nil
		case noVerdict(err) != nil:
			return "", 0, err
		}
	}
	return trouble.Sentence(refused), 0, nil
}

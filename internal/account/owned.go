package account

import (
	"context"
	"slices"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/analyser"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// own is a device that has an account of its own in this site, a recorder or an analyser, and that account for one of its ways in.
type own struct {
	device store.Device
	site   *site.Snapshot
	seen   identity.Sighting
	login  dial.Login
}

// own opens the account of a recorder or an analyser. Sets go only to what has shown itself to be one of this site and isn't in doubt;
// the first request is a try within the budget, and what was refused isn't sent again before somebody acts. what is what it must have
// shown itself to be, in words.
func (k *Clients) own(ctx context.Context, d store.Device, what string, scheme access.Scheme, purpose string) (o own, err error) {
	if _, err := Address(d); err != nil {
		return o, err
	}
	s, err := site.Load(ctx, k.Store, d.SiteID, []int64{d.ID})
	if err != nil {
		return o, err
	}
	if now, ok := s.Device(d.ID); ok {
		d = now
	}
	seen, ok := facts.Seen.Of(s, d.ID)
	if !ok || !shows(d.Kind, seen) {
		return o, trouble.UserError(d.Place + " hasn't shown itself to be " + what + ": look for it first.")
	}
	if err := Doubted(d, s); err != nil {
		return o, err
	}
	if d.SetID == nil {
		return o, trouble.UserError("No account is kept for " + d.Place + ": give it one on Settings.")
	}
	set, err := k.set(ctx, d, *d.SetID)
	if err != nil {
		return o, err
	}
	if err := k.refuses(ctx, d.ID, set); err != nil {
		return o, err
	}
	password, err := k.Password(set)
	if err != nil {
		return o, err
	}
	if !access.Opens(s.Tries[d.ID], set.ID) {
		purpose = ""
	}
	try := k.inTurn(d.ID, k.BudgetOf(d, s).Try(set, scheme, purpose), func(ctx context.Context) error { return k.refuses(ctx, d.ID, set) })
	return own{d, s, seen, dial.Login{Username: set.Username, Password: password, Try: try}}, nil
}

// shows says whether a sighting is of what a device of a kind is.
func shows(kind identity.Kind, seen identity.Sighting) bool {
	if kind == identity.Analyser {
		return seen.Kind == identity.Analyser && seen.Heard(identity.SaidHello)
	}
	return seen.Kind != identity.Analyser && seen.Heard(identity.SaidHello) || seen.Heard(identity.RecordsOthers)
}

// Recorder makes a driver for a recorder, signed in with its own account.
func (k *Clients) Recorder(ctx context.Context, d store.Device) (recorder.Driver, error) {
	if d.Bench != nil {
		if _, err := Address(d); err != nil {
			return nil, err
		}
		return k.sheet(ctx, d)
	}
	o, err := k.own(ctx, d, "a recorder", access.Digest, "the recorder's interface")
	if err != nil {
		return nil, err
	}
	host := k.Dialer.At(*o.device.Address)
	pin, _ := facts.RecorderPin.Of(o.site, d.ID)
	if !o.seen.Heard(identity.SaidHello) {
		return recorder.NewControl(host, o.seen.Service, pin, o.login)
	}
	return recorder.New(host, recorder.Port, pin, o.login), nil
}

// Analyser makes a client for an analyser's own interface, signed in with its own account.
func (k *Clients) Analyser(ctx context.Context, d store.Device) (*analyser.Client, error) {
	o, err := k.own(ctx, d, "an analyser", access.Digest, "the analyser's interface")
	if err != nil {
		return nil, err
	}
	pin, _ := facts.RecorderPin.Of(o.site, d.ID)
	return analyser.New(k.Dialer.At(*o.device.Address), pin, o.login), nil
}

// AnalyserRules makes a client for an analyser's ONVIF services, by which its rules are read and written. Over TLS it shows
// the certificate that the look saw.
func (k *Clients) AnalyserRules(ctx context.Context, d store.Device) (*onvif.Client, error) {
	o, err := k.own(ctx, d, "an analyser", access.Digest, "the analyser's rules")
	if err != nil {
		return nil, err
	}
	if o.seen.Service == "" {
		return nil, trouble.UserError(d.Place + " speaks no ONVIF that answered: look for it again.")
	}
	return onvif.New(k.Dialer.At(*o.device.Address), o.seen.Service, onvif.Login{Username: o.login.Username, Password: o.login.Password, Scheme: access.Digest, Pin: o.seen.Cert, Try: o.login.Try})
}

// AnalyserStream is an analyser's account for the streams of what it sees.
func (k *Clients) AnalyserStream(ctx context.Context, d store.Device, purpose string) (dial.Login, error) {
	o, err := k.own(ctx, d, "an analyser", access.RTSP, purpose)
	return o.login, err
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

package account

import (
	"context"
	"errors"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/store"
)

// ErrNoTry says that the budget forbids another wrong try on a device now: nothing was sent.
var ErrNoTry = errors.New("account: no try is left")

// noTry is ErrNoTry for a person.
type noTry struct{ says error }

func (e noTry) Error() string        { return e.says.Error() }
func (e noTry) Is(target error) bool { return target == ErrNoTry }
func (e noTry) Unwrap() error        { return e.says }

// Budget is what of a device's wrong tries is left to somebody who signs in to it.
type Budget struct {
	Clients *Clients
	Device  store.Device
	Facts   access.Facts   // with the tries as they were when the device was looked up
	Counted *store.Counted // those tries; nil: they are counted again
}

// Try stands before a set that is to be sent to the device: it writes the try down before,
// and its outcome after. stage says for what, where the set is known to open the device: one
// that doesn't any more isn't sent again by itself. Empty: the caller keeps what came of it.
func (b *Budget) Try(set store.SealedSet, scheme access.Scheme, stage string) dial.Try {
	return &try{b: b, set: set, scheme: scheme, stage: stage}
}

type try struct {
	b      *Budget
	set    store.SealedSet
	scheme access.Scheme
	stage  string
	id     int64
}

// Begin writes the try down, unless the budget forbids it: then the error is ErrNoTry.
func (t *try) Begin(ctx context.Context) error {
	f, counted := t.b.Facts, t.b.Counted
	t.b.Counted = nil
	var until time.Time
	id, ok, err := t.b.Clients.Store.BeginTry(ctx, t.b.Device.ID, t.set.ID, t.set.Name, t.scheme, counted, func(tries []access.Try) bool {
		f.Tries = tries
		left, at := f.Left(time.Now())
		may, _ := f.MayTry(time.Now(), t.set.ID)
		until = at
		return left > 0 || t.stage != "" && may
	})
	if err == nil && !ok {
		return noTry{trouble.UserErrorf("No try is left on %s until %s UTC: %d were wrong or had no plain answer. Sign in again then.",
			t.b.Device.Place, until.UTC().Format("15:04"), access.Budget)}
	}
	t.id = id
	return err
}

// End writes the outcome. What was sent and had no answer that says anything of the account stays open, and counts: who
// answers it with nonsense or leads elsewhere may have counted it too.
func (t *try) End(ctx context.Context, sent bool, verdict error) error {
	// Also where the step was cut short meanwhile: a try without an outcome counts as wrong.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	st := t.b.Clients.Store
	switch {
	case errors.Is(verdict, dial.ErrLocked):
		return st.EndTry(ctx, t.id, access.Locked, verdict.Error())
	case !sent && verdict == nil:
		return st.EndTry(ctx, t.id, access.Hindered, "it asked for no account: none was sent")
	case !sent:
		return st.EndTry(ctx, t.id, access.Hindered, "not sent: "+verdict.Error())
	case verdict == nil:
		return st.EndTry(ctx, t.id, access.Opened, "")
	case errors.Is(verdict, dial.ErrNotAuthorised):
		return errors.Join(st.EndTry(ctx, t.id, access.Wrong, verdict.Error()), t.noLonger(ctx))
	case errors.Is(verdict, dial.ErrNotSupported), errors.Is(verdict, dial.ErrClock), errors.Is(verdict, dial.ErrElsewhere) && t.scheme == access.Web:
		return st.EndTry(ctx, t.id, access.Hindered, verdict.Error()) // it wasn't looked at; a page that was opened leads on
	}
	return st.EndTry(ctx, t.id, access.Pending, verdict.Error())
}

// noLonger forgets that the set opens the device: what rests on that isn't known any more.
func (t *try) noLonger(ctx context.Context) error {
	if t.stage == "" {
		return nil
	}
	d, now := t.b.Device, time.Now().UTC()
	if a := t.b.Facts.Account; a != nil && t.scheme != a.Scheme { // ONVIF takes it: it is its streams or stills that don't
		kept, said := *a, "refused at "+now.Format("15:04")+" UTC."
		switch t.scheme {
		case access.RTSP:
			kept.RTSP, kept.RTSPSet = said, 0
		case access.Web:
			kept.Stills = said
		default:
			return nil
		}
		return t.b.Clients.Store.KeepFacts(ctx, facts.Account.New(d.ID, t.stage, now, kept))
	}
	w := store.Writes{Drop: []store.Dropped{{Device: d.ID, Name: facts.Account.Name}}, Facts: []store.NewFact{
		facts.Attempted.New(d.ID, t.stage, now, access.Attempt{At: now, Refused: t.set.Name, RefusedBy: t.stage + ", " + now.Format("15:04") + " UTC"})}}
	if d.OpenedSet != nil && *d.OpenedSet == t.set.ID {
		w.Opened = append(w.Opened, store.OpenedBy{Device: d.ID})
	}
	return t.b.Clients.Store.Write(ctx, w)
}

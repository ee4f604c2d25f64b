package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Pick is one source's changes that a person asked for; where the stage is the device's,
// the device's.
type Pick struct {
	Source  site.Source
	Changes []finding.Change
	Ordered bool    // they are in their order already
	UndoOf  []int64 // which change each takes back, in their order; nil: none
}

// Ask is who asks for changes, for what, on a site.
type Ask struct {
	Site          int64
	Stage         stage.Stage
	Title         string
	Person, Token int64
	AskedOf       string        // the selection, where it was a query
	Then          []stage.Stage // that are read once this one was, each of what of the query can be read then
	after, chain  int64         // the run that it goes on from, and the first of those
}

// ErrUnderWay is a sentence for who asks for a change that is being made already.
const ErrUnderWay = trouble.UserError("That change is under way already.")

// Apply writes the picked changes down as asked for and starts the run that makes
// them, all in one transaction: a change is a row before it is a call. Each device's
// changes go in a safe order, and devices whose changes risk nothing go first.
func (e *Engine) Apply(ctx context.Context, q Ask, picks []Pick) (int64, error) {
	picks = slices.DeleteFunc(picks, func(p Pick) bool { return len(p.Changes) == 0 })
	if len(picks) == 0 {
		return 0, trouble.UserError("There is nothing to change: everything reads as it should.")
	}
	var id int64
	err := e.store.InTx(ctx, func(tx pgx.Tx) error {
		n := store.NewRun{Site: q.Site, Stage: q.Stage, Act: store.Apply, Title: q.Title, Person: q.Person,
			Token: q.Token, AskedOf: q.AskedOf}
		byTarget := make(map[store.Target]Pick, len(picks))
		for _, p := range picks {
			t := TargetOf(p.Source, q.Stage)
			n.Of, byTarget[t] = append(n.Of, t), p
		}
		run, steps, err := e.store.AddRun(ctx, tx, n)
		if err != nil {
			return err
		}
		id = run
		var rows []store.NewChange
		for _, s := range steps {
			t := s.Target()
			p := byTarget[t]
			if p.UndoOf == nil && !p.Ordered {
				p.Changes = finding.Arrange(p.Changes)
			}
			for i, c := range p.Changes {
				row := store.NewChange{Site: q.Site, Device: t.Device, Source: t.Source, Step: s.ID, Person: q.Person,
					Token: q.Token, Stage: q.Stage, Change: c}
				if p.UndoOf != nil {
					row.UndoOf = p.UndoOf[i]
				}
				rows = append(rows, row)
			}
		}
		if err := e.store.AddChanges(ctx, tx, rows); err != nil {
			return err
		}
		return e.enqueue(ctx, tx, n, steps, false, byTarget)
	})
	if errors.Is(err, store.ErrUnderWay) {
		return 0, ErrUnderWay
	}
	if err == nil {
		e.touch(q.Site, store.OnRun)
		e.touch(q.Site, store.OnChange)
	}
	return id, err
}

// Once makes one change of a source that a person asked for by itself.
func (e *Engine) Once(ctx context.Context, q Ask, of site.Source, c finding.Change) (int64, error) {
	q.Site, q.Title = of.Device.SiteID, of.Place+": "+c.Title
	return e.Apply(ctx, q, []Pick{{Source: of, Changes: []finding.Change{c}}})
}

// TakesBack is what takes back a change that was made, and what its run is called; a
// sentence for the person where it can't be.
func (e *Engine) TakesBack(ctx context.Context, c store.Change) (title string, pick Pick, err error) {
	latest, err := e.store.Latest(ctx, c)
	if err != nil {
		return "", Pick{}, err
	}
	back, why := finding.TakeBack(c.Core(), finding.Standing{Made: c.Made(), Latest: latest, Enrolled: c.Enrolled(), Gone: c.Gone})
	if why != "" {
		return "", Pick{}, trouble.UserError(why)
	}
	of, err := e.store.Source(ctx, store.Target{Device: c.DeviceID, Source: deref(c.SourceID)})
	if err != nil {
		return "", Pick{}, err
	}
	return of.Place + ": " + back.Title, Pick{Source: of, Changes: []finding.Change{back}, UndoOf: []int64{c.ID}}, nil
}

// apply makes a step's changes in order. Each is read first: what reads To is
// verified, what reads From is sent, anything else asks a person. A step that is
// run again after a crash does the same, so no change is made twice. The changes of
// one device are a whole: when one fails, those made before it are taken back.
func (e *Engine) apply(ctx context.Context, v *Visit, a attempt) (string, error) {
	made, undone, stopped := 0, 0, false
	var went error
	for {
		c, undoing, err := e.nextOpen(ctx, a.Step)
		if err != nil {
			return "", err
		}
		if c == nil {
			break
		}
		if err := e.hold(ctx, &a); err != nil {
			return "", err
		}
		e.opt.Pause(PointAsked)
		if !undoing {
			stop, err := e.store.Stopped(ctx, a.Step)
			if err != nil {
				return "", err // nothing is sent while it isn't known; the step is tried again
			}
			if stop {
				stopped = true
				if err := e.halt(ctx, v, *c, a.claim.Fence); err != nil {
					return "", err
				}
				continue
			}
		}
		cerr := e.applyOne(ctx, v, *c, a.claim.Fence)
		switch {
		case errors.As(cerr, new(PendingError)):
			return "", cerr // it is read again later
		case cerr == nil && undoing:
			undone++
		case cerr == nil:
			made++
		case Ours(cerr), a.mayTryAgain(cerr), errors.Is(ctx.Err(), context.Canceled):
			return "", cerr // the step is tried again as a whole, and reads first
		default:
			if went == nil {
				went = cerr
			}
			if err := e.fail(ctx, a, *c, cerr, undoing); err != nil {
				return "", err
			}
		}
	}
	if err := e.holdFor(ctx, &a, e.afterLimit(a)); err != nil {
		return "", err
	}
	if err := e.afterChanges(ctx, v, a); err != nil {
		return "", err
	}
	if went == nil && !stopped {
		went = e.failedBefore(ctx, a.Step)
	}
	switch {
	case went != nil && undone > 0:
		return "", trouble.UserErrorf("%v; what was changed before it was taken back", went)
	case went != nil:
		return "", trouble.UserError(went.Error())
	case stopped:
		return "stopped before all of it was sent", nil
	case made == 1:
		return "1 change read back", nil
	}
	return fmt.Sprintf("%d changes read back", made), nil
}

// afterChanges has stages read again what a step's changes touched: the stage whose
// changes they are first, then the others in their order. A device that fell silent, or
// that there was no time for, is returned while the step may be tried again: it finds the
// changes settled then, and reads. At last it is a fact, and only our own trouble is returned.
func (e *Engine) afterChanges(ctx context.Context, v *Visit, a attempt) error {
	ctx, cancel := context.WithTimeout(ctx, e.afterLimit(a))
	defer cancel()
	changes, err := e.store.ChangesOfStep(ctx, a.Step)
	if err != nil {
		return err
	}
	order := slices.Clone(e.stages)
	slices.SortStableFunc(order, func(x, y Stage) int { return first(y.ID() == a.Stage) - first(x.ID() == a.Stage) })
	var again error
	for _, st := range order {
		own := *v
		own.stage = st.ID()
		err := st.AfterChange(ctx, &own, changes)
		late := errors.Is(err, context.DeadlineExceeded)
		switch {
		case err == nil:
		case a.mayTryAgain(err), late && a.retries:
			again = cmp.Or(again, err)
		case Ours(err) && !late:
			return err
		}
	}
	return cmp.Or(again, e.judgeAround(ctx, v.Device))
}

// afterLimit is how long reading again after a step's changes may take: as long as the stage's own
// reading.
func (e *Engine) afterLimit(a attempt) time.Duration {
	return max(stepLimit, e.manner(a.Stage).Limit)
}

func first(is bool) int {
	if is {
		return 1
	}
	return 0
}

// nextOpen is the step's next change that isn't settled, nil when all are, and whether
// it takes back another of the same step. One that is only to be read again later is
// settled as far as the step goes.
func (e *Engine) nextOpen(ctx context.Context, step int64) (open *store.Change, undoing bool, err error) {
	all, err := e.store.ChangesOfStep(ctx, step)
	if err != nil {
		return nil, false, err
	}
	for i, c := range all {
		if c.State == store.Asked || c.State == store.Sent {
			undoing = c.UndoOf != nil && slices.ContainsFunc(all, func(x store.Change) bool { return x.ID == *c.UndoOf })
			return &all[i], undoing, nil
		}
	}
	return nil, false, nil
}

// failedBefore is the trouble of a change that failed before this server took the
// step over.
func (e *Engine) failedBefore(ctx context.Context, step int64) error {
	all, err := e.store.ChangesOfStep(ctx, step)
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.State == store.Failed && c.UndoOf == nil {
			return trouble.UserError(c.Says)
		}
		if c.State == store.Asks {
			return trouble.UserError(c.Title + ": " + c.Says)
		}
		if c.UndoOf == nil && (c.State == store.Undoing || c.State == store.Undone) {
			return trouble.UserError(c.Title + " didn't hold, or one after it: what was made is taken back")
		}
	}
	return nil
}

// editor opens what reads and writes the thing of a change: of the stage that asked for
// it, else of the stage whose kind it is.
func (e *Engine) editor(ctx context.Context, v *Visit, c store.Change) (Editor, error) {
	if st, ok := e.byID[c.Stage]; ok {
		if ed, err := st.Editor(ctx, v, c); !errors.Is(err, ErrKind) {
			return ed, err
		}
	}
	for _, st := range e.stages {
		if ed, err := st.Editor(ctx, v, c); !errors.Is(err, ErrKind) {
			return ed, err
		}
	}
	return nil, fmt.Errorf("engine: nobody knows how to make a change of kind %q", c.Kind)
}

// applyOne reads, writes and reads back one change, within a time limit of its own.
func (e *Engine) applyOne(ctx context.Context, v *Visit, c store.Change, fence int64) error {
	ctx, cancel := context.WithTimeout(store.Watched(ctx), e.opt.ChangeLimit)
	defer cancel()
	return overLimit(ctx, e.make(ctx, v, c, fence))
}

func (e *Engine) make(ctx context.Context, v *Visit, c store.Change, fence int64) error {
	ed, err := e.editor(ctx, v, c)
	if err != nil {
		return err
	}
	defer ed.Close()
	reads, err := ed.Read(ctx)
	if pending := (PendingError{}); errors.As(err, &pending) {
		return e.wait(ctx, v, c, fence, pending)
	}
	if err != nil && c.Writes > 0 && !Ours(err) {
		return unreadError{err}
	}
	if err != nil {
		return err
	}
	e.opt.Pause(PointRead)
	switch finding.Settle(c.Core(), reads) {
	case finding.Verified:
		return e.settle(ctx, c, fence, reads)
	case finding.Ask:
		return asksError(reads)
	}
	if err := e.store.SendChange(ctx, c.ID, fence, reads); err != nil {
		return err
	}
	e.touch(v.Site, store.OnChange, v.Device.ID)
	e.opt.Pause(PointSent)
	if err := ed.Write(ctx); err != nil {
		return err
	}
	e.opt.Pause(PointWritten)
	reads, err = ed.Read(ctx)
	if pending := (PendingError{}); errors.As(err, &pending) {
		return e.wait(ctx, v, c, fence, pending)
	}
	if err != nil {
		return unreadError{err}
	}
	if reads != c.ToText {
		return leftError{reads, reads != c.FromText}
	}
	e.opt.Pause(PointBack)
	err = e.settle(ctx, c, fence, reads)
	e.opt.Pause(PointSettled)
	return err
}

// pendingMost is how long after it was sent a change is waited for at most, whatever its
// Editor says.
const pendingMost = 10 * time.Minute

// wait keeps what a change that was sent is waited for.
func (e *Engine) wait(ctx context.Context, v *Visit, c store.Change, fence int64, pending PendingError) error {
	if c.SentAt != nil && time.Since(*c.SentAt) > pendingMost {
		return unreadError{trouble.UserError(pending.Says)}
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), settleLimit)
	defer cancel()
	if err := e.store.SettleChange(ctx, c.ID, fence, store.Sent, pending.Reads, pending.Says); err != nil {
		return err
	}
	e.touch(v.Site, store.OnChange, v.Device.ID)
	return pending
}

// halt settles a change of a stopped run: what wasn't sent isn't, and what may have
// been is read. A stop takes nothing back, and what is being taken back goes on.
func (e *Engine) halt(ctx context.Context, v *Visit, c store.Change, fence int64) error {
	if c.State == store.Asked {
		return e.store.SettleChange(ctx, c.ID, fence, store.Failed, "", "stopped before it was sent")
	}
	read, cancel := context.WithTimeout(ctx, e.opt.ChangeLimit)
	defer cancel()
	ed, err := e.editor(read, v, c)
	reads := ""
	if err == nil {
		defer ed.Close()
		reads, err = ed.Read(read)
	}
	switch {
	case err != nil && Ours(err):
		return err
	case err != nil:
		return e.store.SettleChange(ctx, c.ID, fence, store.Asks, "",
			"The run was stopped while it was sent, and it can't be read: "+err.Error())
	case reads == c.ToText:
		return e.settle(ctx, c, fence, reads)
	}
	return e.store.SettleChange(ctx, c.ID, fence, store.Failed, reads, "stopped before it was made")
}

// settleLimit is how long the database may take to settle a change, whatever became of
// the context in which it was made.
const settleLimit = 10 * time.Second

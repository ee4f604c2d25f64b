package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
)

// Pick is one camera's changes that a person asked for.
type Pick struct {
	Device  store.Device
	Changes []finding.Change
	undoOf  []int64 // which change each takes back; nil: none
	whole   bool    // they are in their order already
}

// Ask is who asks for changes, for what, on a site.
type Ask struct {
	Site          int64
	Stage         stage.Stage
	Title         string
	Person, Token int64
	AskedOf       string // the selection, where it was a query
}

// Apply writes the picked changes down as asked for and starts the run that makes
// them, all in one transaction: a change is a row before it is a call. Each device's
// changes go in a safe order, and devices whose changes risk nothing go first.
func (o *Office) Apply(ctx context.Context, q Ask, picks []Pick) (int64, error) {
	picks = slices.DeleteFunc(picks, func(p Pick) bool { return len(p.Changes) == 0 })
	if len(picks) == 0 {
		return 0, toldError("There is nothing to change: everything reads as it should.")
	}
	var id int64
	err := o.store.InTx(ctx, func(tx pgx.Tx) error {
		n := store.NewRun{Site: q.Site, Stage: q.Stage, Act: store.Apply, Title: q.Title, Person: q.Person, Token: q.Token, AskedOf: q.AskedOf}
		byDevice, turn := make(map[int64]Pick, len(picks)), make(map[int64]int, len(picks))
		for _, p := range picks {
			n.Devices = append(n.Devices, p.Device.ID)
			byDevice[p.Device.ID], turn[p.Device.ID] = p, priority(p.Changes)
		}
		run, steps, err := o.store.AddRun(ctx, tx, n)
		if err != nil {
			return err
		}
		id = run
		var rows []store.NewChange
		for _, s := range steps {
			p := byDevice[*s.DeviceID]
			if p.undoOf == nil && !p.whole {
				p.Changes = finding.Arrange(p.Changes)
			}
			for i, c := range p.Changes {
				row := store.NewChange{Site: q.Site, Device: p.Device.ID, Source: p.Device.SourceID, Step: s.ID, Person: q.Person, Token: q.Token, Stage: q.Stage, Change: c}
				if p.undoOf != nil {
					row.UndoOf = p.undoOf[i]
				}
				rows = append(rows, row)
			}
		}
		if err := o.store.AddChanges(ctx, tx, rows); err != nil {
			return err
		}
		return o.enqueue(ctx, tx, n, steps, false, turn)
	})
	if errors.Is(err, store.ErrUnderWay) {
		return 0, UnderWay()
	}
	if err == nil {
		o.touch(q.Site)
	}
	return id, err
}

// Undo takes back a change that was made, as its Undo says, by a run of its own.
func (o *Office) Undo(ctx context.Context, q Ask, c store.Change) (int64, error) {
	if !c.Made() {
		return 0, toldError("That change doesn't stand: there is nothing to take back.")
	}
	back, ok := c.Core().Inverse()
	if !ok {
		return 0, toldError("It can't be taken back: " + c.Undo.Note)
	}
	latest, err := o.store.Latest(ctx, c)
	if err != nil {
		return 0, err
	}
	if !latest {
		return 0, toldError("The same thing was changed again since: take that one back first.")
	}
	d, err := o.store.Device(ctx, c.DeviceID)
	if err != nil {
		return 0, err
	}
	q.Site, q.Stage, q.Title = c.SiteID, c.Stage, d.Place+": "+back.Title
	return o.Apply(ctx, q, []Pick{{Device: d, Changes: []finding.Change{back}, undoOf: []int64{c.ID}}})
}

// apply makes a step's changes in order. Each is read first: what reads To is
// verified, what reads From is sent, anything else asks a person. A step that is
// run again after a crash does the same, so no change is made twice. The changes of
// one device are a whole: when one fails, those made before it are taken back.
func (o *Office) apply(ctx context.Context, d store.Device, a stepArgs) (string, error) {
	made, undone, stopped := 0, 0, false
	var trouble error
	for {
		c, undoing, err := o.nextOpen(ctx, a.Step)
		if err != nil {
			return "", err
		}
		if c == nil {
			break
		}
		o.opt.Pause(StepAsked)
		if !undoing {
			stop, err := o.store.Stopped(ctx, a.Step)
			if err != nil {
				return "", err // nothing is sent while it isn't known; the step is tried again
			}
			if stop {
				stopped = true
				if err := o.halt(ctx, d, *c, a.fence); err != nil {
					return "", err
				}
				continue
			}
		}
		cerr := o.applyOne(ctx, d, *c, a.fence)
		switch {
		case cerr == nil && undoing:
			undone++
		case cerr == nil:
			made++
		case ours(cerr), a.patient && errors.Is(cerr, dial.ErrUnreachable):
			return "", cerr // the step is tried again as a whole, and reads first
		default:
			if trouble == nil {
				trouble = cerr
			}
			if err := o.fail(ctx, a, *c, cerr, undoing); err != nil {
				return "", err
			}
		}
	}
	if err := o.refresh(ctx, d, a.Stage); err != nil && ours(err) {
		return "", err
	}
	if reset, err := o.wasReset(ctx, a.Step); err != nil {
		return "", err
	} else if reset { // its clock went too
		if _, err := o.readClock(ctx, d, true); err != nil && ours(err) {
			return "", err
		}
	}
	if err := o.judgeAround(ctx, d); err != nil {
		return "", err
	}
	if trouble == nil && !stopped {
		trouble = o.failedBefore(ctx, a.Step)
	}
	switch {
	case trouble != nil && undone > 0:
		return "", toldError(fmt.Sprintf("%v; what was changed before it was taken back", trouble))
	case trouble != nil:
		return "", toldError(trouble.Error())
	case stopped:
		return "stopped before all of it was sent", nil
	case made == 1:
		return "1 change read back", nil
	}
	return fmt.Sprintf("%d changes read back", made), nil
}

// nextOpen is the step's next change that isn't settled, nil when all are, and whether
// it takes back another of the same step. One that is only to be read again later is
// settled as far as the step goes.
func (o *Office) nextOpen(ctx context.Context, step int64) (open *store.Change, undoing bool, err error) {
	all, err := o.store.ChangesOfStep(ctx, step)
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
func (o *Office) failedBefore(ctx context.Context, step int64) error {
	all, err := o.store.ChangesOfStep(ctx, step)
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.State == store.Failed && c.UndoOf == nil {
			return toldError(c.Says)
		}
		if c.State == store.Asks {
			return toldError(c.Title + ": " + c.Says)
		}
		if c.UndoOf == nil && (c.State == store.Undoing || c.State == store.Undone) {
			return toldError(c.Title + " didn't hold, or one after it: what was made is taken back")
		}
	}
	return nil
}

// fail settles a change that failed, in one transaction with what follows from it:
// those after it aren't sent, and what takes back those before it is written down. An
// undoing that fails leaves its change as it was made, and says so.
func (o *Office) fail(ctx context.Context, a stepArgs, c store.Change, cause error, undoing bool) error {
	all, err := o.store.ChangesOfStep(ctx, a.Step)
	if err != nil {
		return err
	}
	defer o.opt.Pause(StepUndoing)
	return o.store.InTx(ctx, func(tx pgx.Tx) error {
		state, says, reads := store.Failed, cause.Error(), ""
		var asks asksError
		switch {
		case errors.As(cause, &asks):
			state, reads = store.Asks, string(asks)
		case errors.Is(cause, dial.ErrUnreachable) && slices.ContainsFunc(all, func(x store.Change) bool { return x.ID == c.ID && x.Writes > 0 }):
			state, says = store.Asks, "It was sent and the device is silent since ("+says+"): whether it was made isn't known. Read it again and decide."
		case errors.As(cause, new(unreadError)):
			state, says = store.Asks, "It was sent and can't be read back ("+says+"): whether it was made isn't known. Read it again and decide."
		}
		if err := o.store.SettleChangeTx(ctx, tx, c.ID, a.fence, state, reads, says); err != nil {
			return err
		}
		at := slices.IndexFunc(all, func(x store.Change) bool { return x.ID == c.ID })
		stand := standings(all)
		var left leftError
		stand[at].Left = errors.As(cause, &left) && left.changed
		fates := finding.Fallout(stand, at, state != store.Asks)
		if undoing {
			return o.leave(ctx, tx, a, c, all, fates, state, says)
		}
		var back []store.NewChange
		for i := len(all) - 1; i >= 0; i-- {
			b := all[i]
			because := "the one after it failed"
			if i == at {
				because = says
			}
			switch fates[i] {
			case finding.NotSent:
				err = o.store.SettleChangeTx(ctx, tx, b.ID, a.fence, store.Failed, "", "not sent: the one before it didn't hold")
			case finding.Stays:
				err = o.store.SettleChangeTx(ctx, tx, b.ID, a.fence, store.Verified, "", "it stays until it is known how the one after it ended")
			case finding.Stands:
				err = o.store.SettleChangeTx(ctx, tx, b.ID, a.fence, store.Verified, "", "it stands, though the one after it failed: "+b.Undo.Note)
			case finding.TakenBack:
				inverse, _ := b.Core().Inverse()
				err = o.store.SettleChangeTx(ctx, tx, b.ID, a.fence, store.Undoing, "", "is taken back: "+because)
				back = append(back, store.NewChange{Site: b.SiteID, Device: b.DeviceID, Source: value(b.SourceID), Step: a.Step, Stage: b.Stage, UndoOf: b.ID, Change: inverse})
			}
			if err != nil {
				return err
			}
		}
		return o.store.AddChanges(ctx, tx, back)
	})
}

// leave settles a change whose taking back failed, and what was to be taken back after
// it and mustn't be.
func (o *Office) leave(ctx context.Context, tx pgx.Tx, a stepArgs, c store.Change, all []store.Change, fates []finding.Fate, state store.State, says string) error {
	stands := store.Verified
	if i := slices.IndexFunc(all, func(x store.Change) bool { return x.ID == *c.UndoOf }); state == store.Asks || i >= 0 && all[i].Reads != all[i].ToText {
		stands = store.Asks
	}
	err := o.store.SettleChangeTx(ctx, tx, *c.UndoOf, a.fence, stands, "", "taking it back failed: "+says)
	for i, b := range all {
		if b.UndoOf == nil || fates[i] != finding.NotSent || err != nil {
			continue
		}
		err = errors.Join(o.store.SettleChangeTx(ctx, tx, b.ID, a.fence, store.Failed, "", "not sent: the one before it wasn't taken back"),
			o.store.SettleChangeTx(ctx, tx, *b.UndoOf, a.fence, store.Verified, "", "it stays: what it guards wasn't taken back"))
	}
	return err
}

// standings are a step's changes as the core speaks of them.
func standings(all []store.Change) []finding.Standing {
	out := make([]finding.Standing, len(all))
	for i, c := range all {
		out[i] = finding.Standing{Change: c.Core(), Asked: c.State == store.Asked, Made: c.Made(), Wrote: c.Writes > 0, TakesBack: c.UndoOf != nil}
	}
	return out
}

// asksError is what a thing reads that is neither what it was nor what was wanted.
type asksError string

func (e asksError) Error() string {
	return fmt.Sprintf("It reads %q now, neither what it was nor what was wanted: someone else changed it. Read it again and decide.", string(e))
}

// unreadError is why a thing couldn't be read after a change of it was sent.
type unreadError struct{ error }

func (e unreadError) Unwrap() error { return e.error }

// leftError is what a thing reads after a change was sent that it didn't take.
type leftError struct {
	reads   string
	changed bool // it reads something else than before
}

func (e leftError) Error() string {
	return fmt.Sprintf("it was sent and reads %q all the same", e.reads)
}

func value(p *int64) int64 {
	if p == nil {
		return 0
	}
	return *p
}

func (o *Office) applyOne(ctx context.Context, d store.Device, c store.Change, fence int64) error {
	h, closer, err := o.hand(ctx, d, c)
	if err != nil {
		return err
	}
	defer closer()
	reads, err := h.read(ctx)
	if err != nil && c.Writes > 0 {
		return unreadError{err}
	}
	if err != nil {
		return err
	}
	o.opt.Pause(StepRead)
	switch finding.Settle(c.Core(), reads) {
	case finding.Verified:
		return o.settle(ctx, c, fence, reads)
	case finding.Ask:
		return asksError(reads)
	}
	if err := o.store.SendChange(ctx, c.ID, fence, reads); err != nil {
		return err
	}
	o.touch(d.SiteID)
	o.opt.Pause(StepSent)
	if err := h.write(ctx); err != nil {
		return err
	}
	o.opt.Pause(StepWritten)
	reads, err = h.read(ctx)
	if err != nil {
		return unreadError{err}
	}
	if reads != c.ToText {
		return leftError{reads, reads != c.FromText}
	}
	o.opt.Pause(StepBack)
	err = o.settle(ctx, c, fence, reads)
	o.opt.Pause(StepSettled)
	return err
}

// settle marks a change that reads as wanted: verified, or read back with readings to
// follow. What it takes back is undone with it.
func (o *Office) settle(ctx context.Context, c store.Change, fence int64, reads string) error {
	return o.store.InTx(ctx, func(tx pgx.Tx) error {
		if c.UndoOf != nil {
			if err := o.store.SettleChangeTx(ctx, tx, *c.UndoOf, fence, store.Undone, reads, "taken back"); err != nil {
				return err
			}
		}
		if len(c.Later) == 0 {
			return o.store.SettleChangeTx(ctx, tx, c.ID, fence, store.Verified, reads, "read back")
		}
		if err := o.store.SettleChangeTx(ctx, tx, c.ID, fence, store.ReadBack, reads, "read back; it is read again"); err != nil {
			return err
		}
		var jobs []river.InsertManyParams
		for i, after := range c.Later {
			jobs = append(jobs, river.InsertManyParams{Args: againArgs{Change: c.ID, Nth: i + 1, Last: i == len(c.Later)-1},
				InsertOpts: &river.InsertOpts{ScheduledAt: time.Now().Add(time.Duration(after))}})
		}
		_, err := o.river.InsertManyTx(ctx, tx, jobs)
		return err
	})
}

// again reads a changed clock once more, and the recorder that holds the camera.
func (o *Office) again(ctx context.Context, a againArgs, c store.Change, fence int64) error {
	if !c.Made() {
		return nil // it was taken back, or failed, meanwhile
	}
	d, err := o.store.Device(ctx, c.DeviceID)
	if err != nil {
		return err
	}
	_, terr := o.readClock(ctx, d, true)
	if terr != nil && ours(terr) {
		return terr
	}
	if err := o.untilHeld(ctx, d); err != nil && ours(err) {
		return err
	}
	v, err := Look(ctx, o.store, d.SiteID, []int64{d.ID})
	if err != nil {
		return err
	}
	f, _ := v.Clock(d)
	after := time.Duration(c.Later[min(a.Nth, len(c.Later))-1])
	switch {
	case terr != nil:
		if a.Last {
			err = o.store.SettleChange(ctx, c.ID, fence, store.Failed, "", fmt.Sprintf("after %s: %v", spoken(after), terr))
		}
	case f.InBand():
		err = o.store.SettleChange(ctx, c.ID, fence, store.Verified, c.ToText, fmt.Sprintf("after %s it is %s from %s", spoken(after), f.Offset(), f.Reference.Name))
	case a.Last:
		err = o.store.SettleChange(ctx, c.ID, fence, store.Failed, c.ToText, fmt.Sprintf("after %s it is still %s from %s", spoken(after), f.Offset(), f.Reference.Name))
	}
	if err != nil {
		return err
	}
	return o.judgeAround(ctx, d)
}

// spoken is a wait in words: "5 s", "a minute".
func spoken(d time.Duration) string {
	if d == time.Minute {
		return "a minute"
	}
	return fmt.Sprintf("%.0f s", d.Seconds())
}

// halt settles a change of a stopped run: what wasn't sent isn't, and what may have
// been is read. A stop takes nothing back, and what is being taken back goes on.
func (o *Office) halt(ctx context.Context, d store.Device, c store.Change, fence int64) error {
	if c.State == store.Asked {
		return o.store.SettleChange(ctx, c.ID, fence, store.Failed, "", "stopped before it was sent")
	}
	h, closer, err := o.hand(ctx, d, c)
	reads := ""
	if err == nil {
		defer closer()
		reads, err = h.read(ctx)
	}
	switch {
	case err != nil && ours(err):
		return err
	case err != nil:
		return o.store.SettleChange(ctx, c.ID, fence, store.Asks, "", "The run was stopped while it was sent, and it can't be read: "+err.Error())
	case reads == c.ToText:
		return o.settle(ctx, c, fence, reads)
	}
	return o.store.SettleChange(ctx, c.ID, fence, store.Failed, reads, "stopped before it was made")
}

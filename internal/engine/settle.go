package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
)

// asksError is what a thing reads that is neither what it was nor what was wanted.
type asksError string

// Error is a sentence for the person.
func (e asksError) Error() string {
	return fmt.Sprintf("It reads %q now, neither what it was nor what was wanted: someone else changed it. Read it again and decide.", string(e))
}

// unreadError is why a thing couldn't be read after a change of it was sent.
type unreadError struct{ error }

// Unwrap lets errors.Is see what hindered the reading.
func (e unreadError) Unwrap() error { return e.error }

// leftError is what a thing reads after a change was sent that it didn't take.
type leftError struct {
	reads   string
	changed bool // it reads something else than before
}

// Error is a sentence for the person.
func (e leftError) Error() string {
	return fmt.Sprintf("it was sent and reads %q all the same", e.reads)
}

// UnknownError says that a change may have been made, and why that isn't known: a person
// decides. An Editor returns it where it can't be told who answers.
type UnknownError struct{ Err error }

// Error is why it isn't known.
func (e UnknownError) Error() string { return e.Err.Error() }

// Unwrap lets errors.Is see the cause.
func (e UnknownError) Unwrap() error { return e.Err }

// mayTryAgain says whether trouble may pass by itself: the device answered nothing, or
// broke off in the middle.
func (a attempt) mayTryAgain(err error) bool {
	return a.retries && errors.Is(err, dial.ErrUnreachable) && !errors.As(err, new(UnknownError))
}

func deref(p *int64) int64 {
	if p == nil {
		return 0
	}
	return *p
}

// fail settles a change that failed, in one transaction with what follows from it:
// those after it aren't sent, and what takes back those before it is written down. An
// undoing that fails leaves its change as it was made, and says so. It doesn't hang on
// the context in which the change was made, which may have ended.
func (e *Engine) fail(ctx context.Context, a attempt, c store.Change, cause error, undoing bool) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), settleLimit)
	defer cancel()
	all, err := e.store.ChangesOfStep(ctx, a.Step)
	if err != nil {
		return err
	}
	defer e.opt.Pause(PointUndoing)
	defer e.touch(c.SiteID, store.OnChange, c.DeviceID)
	return e.store.InTx(ctx, func(tx pgx.Tx) error {
		state, says, reads := failing(c, all, cause)
		if err := e.store.SettleChangeTx(ctx, tx, c.ID, a.claim.Fence, state, reads, says); err != nil {
			return err
		}
		at := slices.IndexFunc(all, func(x store.Change) bool { return x.ID == c.ID })
		whole := entries(all)
		var left leftError
		whole[at].Left = errors.As(cause, &left) && left.changed
		whole[at].Kept = undoing && state == store.Failed && !whole[at].Left
		fates := finding.Fallout(whole, at, state != store.Asks)
		if undoing {
			return e.leave(ctx, tx, a, c, all, fates, state, says)
		}
		for i, b := range all {
			switch fates[i] {
			case finding.NotSent:
				err = e.store.SettleChangeTx(ctx, tx, b.ID, a.claim.Fence, store.Failed, "", "not sent: the one before it didn't hold")
			case finding.Stays:
				err = e.store.SettleChangeTx(ctx, tx, b.ID, a.claim.Fence, store.Verified, "",
					"it stays until it is known how the one after it ended")
			case finding.Stands:
				err = e.store.SettleChangeTx(ctx, tx, b.ID, a.claim.Fence, store.Verified, "",
					"it stands, though the one after it failed: "+b.Undo.Note)
			}
			if err != nil {
				return err
			}
		}
		var back []store.NewChange
		for _, i := range finding.BackOrder(whole, fates) {
			b, because := all[i], "the one after it failed"
			if i == at {
				because = says
			}
			inverse, _ := b.Core().Inverse()
			if err := e.store.SettleChangeTx(ctx, tx, b.ID, a.claim.Fence, store.Undoing, "", "is taken back: "+because); err != nil {
				return err
			}
			back = append(back, store.NewChange{Site: b.SiteID, Device: b.DeviceID, Source: deref(b.SourceID),
				Step: a.Step, Stage: b.Stage, UndoOf: b.ID, Change: inverse})
		}
		return e.store.AddChanges(ctx, tx, back)
	})
}

// failing is the state of a change that failed for a cause, with what is said of it and
// what its thing reads.
func failing(c store.Change, all []store.Change, cause error) (state store.State, says, reads string) {
	var asks asksError
	var left leftError
	switch {
	case errors.As(cause, &left):
		return store.Failed, cause.Error(), left.reads
	case errors.As(cause, &asks):
		return store.Asks, cause.Error(), string(asks)
	case errors.Is(cause, dial.ErrUnreachable) && slices.ContainsFunc(all, func(x store.Change) bool { return x.ID == c.ID && x.Writes > 0 }):
		return store.Asks, "It was sent and the device is silent since (" + cause.Error() + "): whether it was made isn't known. Read it again and decide.", ""
	case errors.As(cause, new(UnknownError)):
		return store.Asks, trouble.Sentence(cause) + " Read it again and decide.", ""
	case errors.As(cause, new(unreadError)):
		return store.Asks, "It was sent and can't be read back (" + cause.Error() + "): whether it was made isn't known. Read it again and decide.", ""
	}
	return store.Failed, cause.Error(), ""
}

// leave settles a change whose taking back failed, and what was to be taken back after
// it and mustn't be.
func (e *Engine) leave(ctx context.Context, tx pgx.Tx, a attempt, c store.Change, all []store.Change,
	fates []finding.Fate, state store.State, says string) error {
	stands := store.Verified
	if i := slices.IndexFunc(all, func(x store.Change) bool { return x.ID == *c.UndoOf }); state == store.Asks || i >= 0 && all[i].Reads != all[i].ToText {
		stands = store.Asks
	}
	err := e.store.SettleChangeTx(ctx, tx, *c.UndoOf, a.claim.Fence, stands, "", "taking it back failed: "+says)
	for i, b := range all {
		if b.UndoOf == nil || fates[i] != finding.NotSent || err != nil {
			continue
		}
		err = errors.Join(e.store.SettleChangeTx(ctx, tx, b.ID, a.claim.Fence, store.Failed, "",
			"not sent: the one before it wasn't taken back"),
			e.store.SettleChangeTx(ctx, tx, *b.UndoOf, a.claim.Fence, store.Verified, "", "it stays: what it guards wasn't taken back"))
	}
	return err
}

// entries are a step's changes as the core speaks of them.
func entries(all []store.Change) []finding.Entry {
	out := make([]finding.Entry, len(all))
	for i, c := range all {
		out[i] = finding.Entry{Change: c.Core(), Asked: c.State == store.Asked, Made: c.Made(), Wrote: c.Writes > 0,
			TakesBack: c.UndoOf != nil}
	}
	return out
}

// settle marks a change that reads as wanted: verified, or read back with readings to
// follow. What it takes back is undone with it. It doesn't hang on the context in which
// the change was made.
func (e *Engine) settle(ctx context.Context, c store.Change, fence int64, reads string) error {
	defer e.touch(c.SiteID, store.OnChange, c.DeviceID)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), settleLimit)
	defer cancel()
	return e.store.InTx(ctx, func(tx pgx.Tx) error {
		if c.UndoOf != nil {
			if err := e.store.SettleChangeTx(ctx, tx, *c.UndoOf, fence, store.Undone, reads, "taken back"); err != nil {
				return err
			}
		}
		if len(c.Later) == 0 {
			return e.store.SettleChangeTx(ctx, tx, c.ID, fence, store.Verified, reads, "read back")
		}
		if err := e.store.SettleChangeTx(ctx, tx, c.ID, fence, store.ReadBack, reads, "read back; it is read again"); err != nil {
			return err
		}
		var jobs []river.InsertManyParams
		for i, after := range c.Later {
			jobs = append(jobs, river.InsertManyParams{Args: againArgs{Change: c.ID, Nth: i + 1, Last: i == len(c.Later)-1},
				InsertOpts: &river.InsertOpts{ScheduledAt: time.Now().Add(time.Duration(after))}})
		}
		_, err := e.river.InsertManyTx(ctx, tx, jobs)
		return err
	})
}

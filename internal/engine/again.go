package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/riverqueue/river"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// againArgs reads a device again some time after a change.
type againArgs struct {
	Change int64 `json:"change"`
	Nth    int   `json:"nth"`
	Last   bool  `json:"last"`
}

// Kind names the job for River.
func (againArgs) Kind() string { return "again" }

type againWorker struct {
	river.WorkerDefaults[againArgs]
	e *Engine
}

// Work reads back a change that must hold for a while, holding the device's lease.
func (w *againWorker) Work(ctx context.Context, job *river.Job[againArgs]) error {
	e := w.e
	c, err := e.store.Change(ctx, job.Args.Change)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return e.leased(ctx, c.DeviceID, fmt.Sprintf("%s/%d/%d", e.holder, job.ID, job.Attempt), func(fence int64) error {
		return e.again(ctx, job.Args, c, fence)
	})
}

// leased does something while it holds a device; where another holds it, it is done later.
func (e *Engine) leased(ctx context.Context, device int64, holder string, do func(fence int64) error) error {
	fence, ok, err := e.store.Lease(ctx, device, holder, stepLimit+5*time.Second)
	if err != nil {
		return err
	}
	if !ok {
		return river.JobSnooze(500 * time.Millisecond)
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		if err := e.store.Release(ctx, device, holder); err != nil { // it ends by itself
			e.opt.Log.Warn("a lease wasn't given back", "device", device, "err", err)
		}
	}()
	if err := do(fence); !errors.Is(err, store.ErrFenced) {
		return err
	}
	return nil // another took the device over; it settles what is open
}

// again reads once more whether a change still holds, and settles it with the last
// reading at the latest.
func (e *Engine) again(ctx context.Context, a againArgs, c store.Change, fence int64) error {
	if !c.Made() {
		return nil // it was taken back, or failed, meanwhile
	}
	of, err := e.store.Source(ctx, store.Target{Device: c.DeviceID, Source: deref(c.SourceID)})
	if err != nil {
		return err
	}
	v := Visit{Site: c.SiteID, Narrow: true, engine: e, stage: c.Stage}.at(of)
	if c.StepID != nil {
		v.Step = *c.StepID
	}
	holds, says, err := e.stillHolds(ctx, v, c)
	if err != nil && Ours(err) {
		return err
	}
	after := finding.Spoken(time.Duration(c.Later[min(a.Nth, len(c.Later))-1]))
	switch {
	case err != nil:
		err = nil
		if a.Last {
			err = e.store.SettleChange(ctx, c.ID, fence, store.Failed, "", fmt.Sprintf("after %s: %v", after, says))
		}
	case holds:
		err = e.store.SettleChange(ctx, c.ID, fence, store.Verified, c.ToText, fmt.Sprintf("after %s %s", after, says))
	case a.Last:
		err = e.store.SettleChange(ctx, c.ID, fence, store.Failed, c.ToText, fmt.Sprintf("after %s %s", after, says))
	}
	if err != nil {
		return err
	}
	return e.judgeAround(ctx, of.Device)
}

// stillHolds asks the change's own stage, else reads the thing by its Editor. Where the
// device can't be read, says is why.
func (e *Engine) stillHolds(ctx context.Context, v *Visit, c store.Change) (holds bool, says string, err error) {
	if st, ok := e.byID[c.Stage].(Verifier); ok {
		if holds, says, err = st.StillHolds(ctx, v, c); !errors.Is(err, ErrKind) {
			if err != nil {
				says = err.Error()
			}
			return holds, says, err
		}
	}
	ed, err := e.editor(ctx, v, c)
	if err != nil {
		return false, err.Error(), err
	}
	defer ed.Close()
	reads, err := ed.Read(ctx)
	if err != nil {
		return false, err.Error(), err
	}
	return reads == c.ToText, "it reads " + reads, nil
}

// followArgs has a stage read a device later, what took time to come about.
type followArgs struct {
	Site   int64       `json:"site"`
	Stage  stage.Stage `json:"stage"`
	Device int64       `json:"device"`
	Source int64       `json:"source"` // the view; 0: the device's first
	Nth    int         `json:"nth"`

	Every time.Duration `json:"every,omitempty"` // 0: followEvery
	Most  int           `json:"most,omitempty"`  // 0: followMost
}

// Kind names the job for River.
func (followArgs) Kind() string { return "follow" }

type followWorker struct {
	river.WorkerDefaults[followArgs]
	e *Engine
}

// followEvery is how long after each other a stage's later readings come, and followMost
// how many there are.
const (
	followEvery = time.Second
	followMost  = 15
)

// Work reads a device for a stage once more.
func (w *followWorker) Work(ctx context.Context, job *river.Job[followArgs]) error {
	e, a := w.e, job.Args
	st, ok := e.byID[a.Stage].(Follower)
	of, err := e.store.Source(ctx, store.Target{Device: a.Device, Source: a.Source})
	if errors.Is(err, store.ErrNotFound) || !ok {
		return nil
	}
	if err != nil {
		return err
	}
	return e.leased(ctx, a.Device, fmt.Sprintf("%s/%d/%d", e.holder, job.ID, job.Attempt), func(int64) error {
		more, err := st.Follow(ctx, Visit{Site: a.Site, Narrow: true, engine: e, stage: a.Stage}.at(of), a.Nth)
		if err != nil && Ours(err) {
			return err
		}
		if more && a.Nth < cmp.Or(a.Most, followMost) {
			a.Nth++
			if err := e.follow(ctx, a); err != nil {
				return err
			}
		}
		return e.judgeAround(ctx, of.Device)
	})
}

func (e *Engine) follow(ctx context.Context, a followArgs) error {
	_, err := e.river.Insert(ctx, a, &river.InsertOpts{ScheduledAt: time.Now().Add(cmp.Or(a.Every, followEvery))})
	return err
}

// Follow has a stage, which must be a Follower, read the visit's view later: what its
// changes bring about takes a while.
func (v *Visit) Follow(ctx context.Context, st stage.Stage) error {
	return v.engine.follow(ctx, followArgs{Site: v.Site, Stage: st, Device: v.Device.ID, Source: v.Source.ID, Nth: 1})
}

// Watch has a stage, which must be a Follower, read a source most times, every so often, from
// now on: each reading is a job of its own.
func (e *Engine) Watch(ctx context.Context, of store.Source, st stage.Stage, every time.Duration, most int) error {
	return e.follow(ctx, followArgs{Site: of.Device.SiteID, Stage: st, Device: of.Device.ID, Source: of.ID, Nth: 1, Every: every, Most: most})
}

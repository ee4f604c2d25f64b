package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"golang.org/x/sync/semaphore"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
)

const (
	stepLimit    = 30 * time.Second // how long one reading may take, and what is read after changes
	changeLimit  = 30 * time.Second // how long one change may take: its reading, its writing, its reading back
	longestLimit = 8 * time.Minute  // the longest that a stage may ask for
	applyLimit   = 10 * time.Minute // how long all changes of one device may take
	gateLimit    = 10 * time.Second // how long a step may wait for its network's turn
	// silentAtFirst is how long a device may be silent at first before it is left to the
	// slow lane, where it holds nobody up.
	silentAtFirst = 750 * time.Millisecond
	slowLane      = "slow"
)

// stepArgs is one device's or network's part of a run, as River keeps it.
type stepArgs struct {
	Step     int64        `json:"step"`
	Site     int64        `json:"site"`
	Stage    stage.Stage  `json:"stage"`
	Act      store.Act    `json:"act"`
	Device   int64        `json:"device"`
	Source   int64        `json:"source"` // the view; 0: the device itself, or its first view
	Network  int64        `json:"network"`
	Walk     bool         `json:"walk"`
	Net      int64        `json:"net"`      // the device's network, whose limit it counts for
	Slow     bool         `json:"slow"`     // in the slow lane: it was silent at first
	Recorder bool         `json:"recorder"` // one of its changes is written to a recorder
	Coarse   bool         `json:"coarse"`   // one of many: it isn't measured as finely as it could be
	Factory  bool         `json:"factory"`  // a person allowed makers' default accounts
	Set      int64        `json:"set"`      // that a person wants tried, and no other; 0: all in their order
	AtOnce   store.Limits `json:"at_once"`
}

// Kind names the job for River.
func (stepArgs) Kind() string { return "step" }

// attempt is a step that is being done: what of it isn't stored.
type attempt struct {
	stepArgs
	claim   store.Claim // what it holds
	renewed time.Time   // when that was taken, or kept
	retries bool        // it is tried again where the device is silent
}

type stepWorker struct {
	river.WorkerDefaults[stepArgs]
	e *Engine
}

// Timeout limits one step.
func (w *stepWorker) Timeout(job *river.Job[stepArgs]) time.Duration {
	return w.e.limitOf(job.Args) + gateLimit
}

func (e *Engine) limitOf(a stepArgs) time.Duration {
	if a.Act == store.Apply {
		return applyLimit
	}
	return e.manner(a.Stage).Limit
}

// leaseFor is how long a device is held for what takes at most limit.
func leaseFor(limit time.Duration) time.Duration { return limit + 5*time.Second }

// hold keeps what an attempt holds for what comes next, which takes at most changeLimit.
func (e *Engine) hold(ctx context.Context, a *attempt) error {
	if time.Since(a.renewed) < time.Second {
		return nil
	}
	return e.holdFor(ctx, a, changeLimit)
}

// holdFor keeps it for what takes so long at most.
func (e *Engine) holdFor(ctx context.Context, a *attempt, limit time.Duration) error {
	a.renewed = time.Now()
	return e.store.Renew(ctx, a.claim, leaseFor(limit))
}

// retryBackoff are the waits before a step is tried again whose device broke off or fell
// silent.
var retryBackoff = []time.Duration{time.Second, 4 * time.Second}

// pendingEvery is how long after each other a step reads what comes about by itself.
const pendingEvery = 500 * time.Millisecond

// oursMost is how often a step is tried that fails for trouble of this product's own.
const oursMost = 5

// NextRetry spaces them; the last wait serves our own trouble after that.
func (w *stepWorker) NextRetry(job *river.Job[stepArgs]) time.Time {
	return time.Now().Add(retryBackoff[min(max(job.Attempt-1, 0), len(retryBackoff)-1)])
}

// errAgain tells River that the step is tried again.
var errAgain = errors.New("no answer; it is tried again")

// Work does one step. Trouble with a device settles the step as failed, after it was
// tried again where it fell silent; trouble of our own is returned, so that the job
// is tried again.
func (w *stepWorker) Work(ctx context.Context, job *river.Job[stepArgs]) error {
	e, a := w.e, attempt{stepArgs: job.Args, retries: job.Attempt <= len(retryBackoff)}
	// A job of before there were limits of a site has none.
	a.AtOnce.Network, a.AtOnce.Recorder = cmp.Or(a.AtOnce.Network, 64), cmp.Or(a.AtOnce.Recorder, 4)
	m := e.manner(a.Stage)
	claim := store.Claim{Step: a.Step, Device: a.Device, Holder: fmt.Sprintf("%s/%d/%d", e.holder, job.ID, job.Attempt)}
	giveWay := func() {}
	if a.Device != 0 && !a.Slow && !m.Once {
		claim.Net = a.Net
		leave, ok := e.enter(ctx, a.Net, a.AtOnce.Network)
		if !ok {
			return river.JobSnooze(time.Second + rand.N(time.Second))
		}
		leave = sync.OnceFunc(leave)
		defer leave()
		late, holder := context.WithoutCancel(ctx), claim.Holder // what follows may go on while it gives way
		giveWay = func() { leave(); _ = e.store.GiveWay(late, holder) }
	}
	verdict, fence, err := e.store.BeginStep(ctx, claim, leaseFor(e.manner(a.Stage).Limit), a.AtOnce, m.Recorder || a.Recorder)
	if err != nil {
		return err
	}
	claim.Fence = fence
	a.claim, a.renewed = claim, time.Now()
	switch verdict {
	case store.Held, store.Full:
		// Spread, so that those that wait don't all come back at once.
		return river.JobSnooze(200*time.Millisecond + rand.N(400*time.Millisecond))
	case store.Settled:
		return nil
	}
	e.touch(a.Site, store.OnRun)
	var says string
	var went error
	silent := false
	if verdict == store.Go || a.Act == store.Apply { // a stopped one settles what it had begun
		says, went, silent = e.watched(ctx, a, m, giveWay)
	}
	return e.settleStep(ctx, job.Attempt, a, claim, verdict, outcome{says, went, silent})
}

// outcome is how a step went.
type outcome struct {
	says   string
	err    error
	silent bool // the device said nothing at first
}

// settleStep writes down how a step went, or has it tried again.
func (e *Engine) settleStep(ctx context.Context, nth int, a attempt, claim store.Claim, verdict store.Verdict, out outcome) error {
	cut := errors.Is(ctx.Err(), context.Canceled) // this server stops: another goes on
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if errors.Is(out.err, store.ErrFenced) {
		e.opt.Log.Warn("a step was overtaken and let go", "step", a.Step, "device", a.Device)
		return nil
	}
	if pending := (PendingError{}); errors.As(out.err, &pending) && !cut {
		if err := e.store.EndStep(ctx, claim, "waiting", pending.Says); err != nil && !errors.Is(err, store.ErrFenced) {
			return err
		}
		e.touch(a.Site, store.OnRun)
		return river.JobSnooze(pendingEvery)
	}
	once := e.manner(a.Stage).Once
	state, says := "done", out.says
	switch {
	case out.err == nil:
	case verdict == store.Halted: // a stopped step isn't tried again
		state, says = "failed", out.err.Error()
	case out.silent:
		return e.slower(ctx, claim, a)
	case cut, a.retries && errors.Is(out.err, dial.ErrUnreachable) && !once, Ours(out.err) && nth < oursMost:
		told := out.err.Error()
		if Ours(out.err) {
			told = "something in this server held it up; it is tried again"
		}
		if err := e.store.EndStep(ctx, claim, "waiting", told); err != nil {
			return err
		}
		e.touch(a.Site, store.OnRun)
		if Ours(out.err) && !cut {
			return out.err
		}
		return errAgain
	default:
		state, says = "failed", out.err.Error()
		if Ours(out.err) {
			e.opt.Log.Error("a step failed for good", "step", a.Step, "err", out.err)
			says = "Something in this server went wrong; its log says what."
		}
	}
	err := e.store.EndStep(ctx, claim, state, says)
	e.touch(a.Site, store.OnRun)
	if errors.Is(err, store.ErrFenced) {
		return nil
	}
	return err
}

// enter waits for one of most places among the devices of a network that this process
// works on. Waiting here costs the database nothing.
func (e *Engine) enter(ctx context.Context, network int64, most int) (leave func(), ok bool) {
	e.mu.Lock()
	gate := e.gates[network]
	if gate == nil {
		gate = semaphore.NewWeighted(store.MostNetwork)
		e.gates[network] = gate
	}
	e.mu.Unlock()
	// The fewer there may be, the more of the gate each takes.
	share := int64((store.MostNetwork + most - 1) / max(most, 1))
	ctx, cancel := context.WithTimeout(ctx, gateLimit)
	defer cancel()
	if gate.Acquire(ctx, share) != nil {
		return nil, false
	}
	return func() { gate.Release(share) }, true
}

// watched does a step while it watches whether the device says anything. One that
// says nothing at all at first is cut short: then silent is true, and nothing was asked
// of it but whether it is there. One that falls silent later is waited for, and its
// place among the devices of its network goes to another meanwhile.
func (e *Engine) watched(ctx context.Context, a attempt, m Manner, giveWay func()) (says string, err error, silent bool) {
	ctx, cancel := context.WithTimeout(store.Watched(ctx), e.limitOf(a.stepArgs))
	defer cancel()
	if a.Device == 0 || a.Slow || m.Once {
		says, err = e.step(ctx, a)
		return says, overLimit(ctx, err), false
	}
	var heard dial.Activity
	begun, cut, over := time.Now(), atomic.Bool{}, make(chan struct{})
	go func() {
		tick := time.NewTicker(silentAtFirst / 3)
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case <-tick.C:
			}
			if time.Since(heard.Last(begun)) < silentAtFirst {
				continue
			}
			if !heard.Heard() {
				cut.Store(true)
				cancel()
			}
			giveWay()
			return
		}
	}()
	says, err = e.step(dial.WithActivity(ctx, &heard), a)
	close(over)
	return says, overLimit(ctx, err), err != nil && cut.Load()
}

// slower leaves a step to the slow lane. Its new job is there before this one ends: a
// crash between the two leaves both, and the second finds the step settled.
func (e *Engine) slower(ctx context.Context, claim store.Claim, a attempt) error {
	a.Slow = true
	if _, err := e.river.Insert(ctx, a.stepArgs, &river.InsertOpts{Queue: slowLane}); err != nil {
		return err
	}
	err := e.store.EndStep(ctx, claim, "waiting", "slow to answer; it is given more time")
	if errors.Is(err, store.ErrFenced) {
		return nil
	}
	return err
}

// visit makes what a stage is given.
func (e *Engine) visit(a attempt) *Visit {
	return &Visit{Site: a.Site, Narrow: !a.Coarse, Factory: a.Factory, Set: a.Set, Walk: a.Walk,
		AtOnce: a.AtOnce.Network, Step: a.Step, engine: e, stage: a.Stage}
}

// step does what a step is about.
func (e *Engine) step(ctx context.Context, a attempt) (string, error) {
	st, ok := e.byID[a.Stage]
	if !ok {
		return "", errLater(a.Stage)
	}
	v := e.visit(a)
	if a.Network != 0 {
		return e.readNetwork(ctx, st, v, a.Network)
	}
	of, err := e.store.Source(ctx, store.Target{Device: a.Device, Source: a.Source})
	if err != nil {
		return "", err
	}
	v = v.at(of)
	if a.Act == store.Apply {
		return e.apply(ctx, v, a)
	}
	says, err := st.Read(ctx, v)
	if jerr := e.judgeAround(ctx, v.Device); jerr != nil {
		return "", jerr
	}
	return says, err
}

func (e *Engine) readNetwork(ctx context.Context, st Stage, v *Visit, id int64) (string, error) {
	networks, err := e.store.Networks(ctx, v.Site)
	if err != nil {
		return "", err
	}
	for i := range networks {
		if networks[i].ID == id {
			v.Network = &networks[i]
			return st.Read(ctx, v)
		}
	}
	return "", trouble.UserError("That network was taken off the site.")
}

package work

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"golang.org/x/sync/semaphore"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
)

const (
	stepLimit  = 30 * time.Second // how long one step may take
	proveLimit = 2 * time.Minute  // and a walk test
	gateLimit  = 10 * time.Second // and how long a step may wait for its network's turn
	// hush is how long a device may be silent at first before it is left to the slow
	// lane, where it holds nobody up.
	hush     = 750 * time.Millisecond
	slowLane = "slow"
)

// stepArgs is one device's or network's part of a run.
type stepArgs struct {
	Step    int64        `json:"step"`
	Site    int64        `json:"site"`
	Stage   stage.Stage  `json:"stage"`
	Act     store.Act    `json:"act"`
	Device  int64        `json:"device"`
	Network int64        `json:"network"`
	Walk    bool         `json:"walk"`
	Net     int64        `json:"net"`     // the device's network, whose limit it counts for
	Slow    bool         `json:"slow"`    // in the slow lane: it was silent at first
	Coarse  bool         `json:"coarse"`  // one of many: its clock is read once, to ± 0.5 s
	Factory bool         `json:"factory"` // a person allowed makers' default accounts
	Set     int64        `json:"set"`     // that a person wants tried, and no other; 0: all in their order
	AtOnce  store.Limits `json:"at_once"`
	fence   int64        // of the device's lease, once it is held
	patient bool         // it is tried again where the device is silent
}

// Kind names the job for River.
func (stepArgs) Kind() string { return "step" }

type stepWorker struct {
	river.WorkerDefaults[stepArgs]
	o *Office
}

// Timeout limits one step.
func (w *stepWorker) Timeout(job *river.Job[stepArgs]) time.Duration {
	return limitOf(job.Args) + gateLimit
}

func limitOf(a stepArgs) time.Duration {
	if a.Act == store.Prove {
		return proveLimit
	}
	return stepLimit
}

// Retries of a step whose device broke off or fell silent: the waits before them.
var patience = []time.Duration{time.Second, 4 * time.Second}

// NextRetry spaces them; River's own spacing serves our own trouble after that.
func (w *stepWorker) NextRetry(job *river.Job[stepArgs]) time.Time {
	return time.Now().Add(patience[min(max(job.Attempt-1, 0), len(patience)-1)])
}

// errAgain tells River that the step is tried again.
var errAgain = errors.New("no answer; it is tried again")

// Work does one step. Trouble with a device settles the step as failed, after it was
// tried again where it fell silent; trouble of our own is returned, so that the job
// is tried again.
func (w *stepWorker) Work(ctx context.Context, job *river.Job[stepArgs]) error {
	a, o := job.Args, w.o
	// A job of before there were limits of a site has none.
	a.AtOnce.Network, a.AtOnce.Recorder = or(a.AtOnce.Network, 64), or(a.AtOnce.Recorder, 4)
	h := store.Hold{Step: a.Step, Device: a.Device, Holder: fmt.Sprintf("%s/%d/%d", o.holder, job.ID, job.Attempt)}
	recorder := a.Act != store.Prove && (a.Stage == stage.Channels || a.Stage == stage.Routes) // its recorder is asked too
	giveWay := func() {}
	if a.Device != 0 && !a.Slow && a.Act != store.Prove {
		h.Net = a.Net
		leave, ok := o.enter(ctx, a.Net, a.AtOnce.Network)
		if !ok {
			return river.JobSnooze(time.Second + rand.N(time.Second))
		}
		leave = sync.OnceFunc(leave)
		defer leave()
		late, holder := context.WithoutCancel(ctx), h.Holder // what follows may go on while it gives way
		giveWay = func() { leave(); _ = o.store.GiveWay(late, holder) }
	}
	verdict, fence, err := o.store.BeginStep(ctx, h, limitOf(a)+5*time.Second, a.AtOnce, recorder)
	if err != nil {
		return err
	}
	h.Fence, a.fence, a.patient = fence, fence, job.Attempt <= len(patience)
	switch verdict {
	case store.Held, store.Full:
		// Spread, so that those that wait don't all come back at once.
		return river.JobSnooze(200*time.Millisecond + rand.N(400*time.Millisecond))
	case store.Settled:
		return nil
	}
	o.touch(a.Site)
	var says string
	var trouble error
	silent := false
	if verdict == store.Go || a.Act == store.Apply { // a stopped one settles what it had begun
		says, trouble, silent = o.listening(ctx, a, giveWay)
	}
	cut := errors.Is(ctx.Err(), context.Canceled) // this server stops: another goes on
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if errors.Is(trouble, store.ErrFenced) {
		o.opt.Log.Warn("a step was overtaken and let go", "step", a.Step, "device", a.Device)
		return nil
	}
	state := "done"
	switch {
	case trouble == nil:
	case verdict == store.Halted: // a stopped step isn't tried again
		state, says = "failed", trouble.Error()
	case silent:
		return o.slower(ctx, h, a)
	case cut, again(trouble, job.Attempt) && a.Act != store.Prove, ours(trouble) && job.Attempt < 4:
		if err := o.store.EndStep(ctx, h, "waiting", trouble.Error()); err != nil {
			return err
		}
		o.touch(a.Site)
		if ours(trouble) && !cut {
			return trouble
		}
		return errAgain
	default:
		state, says = "failed", trouble.Error()
		if ours(trouble) {
			o.opt.Log.Error("a step failed for good", "step", a.Step, "err", trouble)
			says = "Something in this server went wrong; its log says what."
		}
	}
	err = o.store.EndStep(ctx, h, state, says)
	o.touch(a.Site)
	if errors.Is(err, store.ErrFenced) {
		return nil
	}
	return err
}

// enter waits for one of most places among the devices of a network that this process
// works on. Waiting here costs the database nothing.
func (o *Office) enter(ctx context.Context, network int64, most int) (leave func(), ok bool) {
	o.mu.Lock()
	gate := o.gates[network]
	if gate == nil {
		gate = semaphore.NewWeighted(store.MostNetwork)
		o.gates[network] = gate
	}
	o.mu.Unlock()
	// The fewer there may be, the more of the gate each takes.
	share := int64((store.MostNetwork + most - 1) / max(most, 1))
	ctx, cancel := context.WithTimeout(ctx, gateLimit)
	defer cancel()
	if gate.Acquire(ctx, share) != nil {
		return nil, false
	}
	return func() { gate.Release(share) }, true
}

// listening does a step while it listens whether the device says anything. One that
// says nothing at all at first is cut short: then silent is true, and nothing was asked
// of it but whether it is there. One that falls silent later is waited for, and its
// place among the devices of its network goes to another meanwhile.
func (o *Office) listening(ctx context.Context, a stepArgs, giveWay func()) (says string, trouble error, silent bool) {
	ctx, cancel := context.WithTimeout(ctx, limitOf(a))
	defer cancel()
	if a.Device == 0 || a.Slow || a.Act == store.Prove {
		says, trouble = o.step(ctx, a)
		return says, trouble, false
	}
	var ear dial.Activity
	begun, cut, over := time.Now(), atomic.Bool{}, make(chan struct{})
	go func() {
		tick := time.NewTicker(hush / 3)
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case <-tick.C:
			}
			if time.Since(ear.Last(begun)) < hush {
				continue
			}
			if !ear.Heard() {
				cut.Store(true)
				cancel()
			}
			giveWay()
			return
		}
	}()
	says, trouble = o.step(dial.WithActivity(ctx, &ear), a)
	close(over)
	return says, trouble, trouble != nil && cut.Load()
}

// slower leaves a step to the slow lane. Its new job is there before this one ends: a
// crash between the two leaves both, and the second finds the step settled.
func (o *Office) slower(ctx context.Context, h store.Hold, a stepArgs) error {
	a.Slow = true
	if _, err := o.river.Insert(ctx, a, &river.InsertOpts{Queue: slowLane}); err != nil {
		return err
	}
	err := o.store.EndStep(ctx, h, "waiting", "slow to answer; it is given more time")
	if errors.Is(err, store.ErrFenced) {
		return nil
	}
	return err
}

// again says whether trouble may pass by itself: the device answered nothing, or
// broke off in the middle.
func again(trouble error, attempt int) bool {
	return attempt <= len(patience) && errors.Is(trouble, dial.ErrUnreachable)
}

// ours says whether an error is this product's own, not a device's.
func ours(err error) bool {
	var de *dial.Error
	var told toldError
	var left leftError
	var asks asksError
	return err != nil && !errors.As(err, &de) && !errors.As(err, &told) && !errors.As(err, &left) && !errors.As(err, &asks) && !errors.Is(err, context.DeadlineExceeded)
}

// sentence ends an error with a full stop, where it has none.
func sentence(err error) string { return strings.TrimSuffix(err.Error(), ".") + "." }

// toldError is a sentence for the person that is no fault of ours.
type toldError string

func (e toldError) Error() string { return string(e) }

func (o *Office) step(ctx context.Context, a stepArgs) (string, error) {
	if a.Network != 0 {
		return o.look(ctx, a)
	}
	d, err := o.store.Device(ctx, a.Device)
	if err != nil {
		return "", err
	}
	switch {
	case a.Act == store.Apply:
		return o.apply(ctx, d, a)
	case a.Act == store.Prove:
		return o.prove(ctx, d, a)
	}
	return o.read(ctx, d, a.Stage, !a.Coarse, try{a.Factory, a.Set})
}

// read reads one device for a stage and has it judged.
func (o *Office) read(ctx context.Context, d store.Device, st stage.Stage, narrow bool, how try) (string, error) {
	var says string
	var err error
	switch {
	case d.Kind == identity.Recorder:
		says, err = o.readRecorder(ctx, d)
	case st == stage.SignIn:
		says, err = o.signIn(ctx, d, how)
	case st == stage.Clock:
		says, err = o.readClock(ctx, d, narrow)
	case st == stage.Streams:
		says, err = o.readStreams(ctx, d)
	case st == stage.Channels:
		says, err = o.readChannel(ctx, d)
	case st == stage.Routes:
		says, err = o.readRoutes(ctx, d)
	}
	if jerr := o.judgeAround(ctx, d); jerr != nil {
		return "", jerr
	}
	return says, err
}

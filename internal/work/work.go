// Package work runs a stage over many devices: it reads facts, has the core judge
// them, applies changes and settles them. Jobs are River's, one short job a device
// and step; they carry references, never secrets.
package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"golang.org/x/sync/semaphore"
	"golang.org/x/sync/singleflight"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

// Options of an Office. Zero values take the defaults in brackets.
type Options struct {
	Measure time.Duration // how long a stream is played [3 s]
	Listen  time.Duration // how long answers to probes are gathered [1.2 s]
	WalkFor time.Duration // how long a walk test waits for a person [60 s]
	Workers int           // jobs at once [96]
	Slow    int           // further jobs, of devices that are slow to answer [512]
	// Most limits how many devices are worked on at once over all servers, where it isn't
	// left to the site: of a network, of a recorder.
	Most store.Limits
	Keep store.Keep // how long what is past is kept [store.Usual]
	Log  *slog.Logger
	// Pause is called before and after each step of a change, see the Step constants;
	// tests stop the program there.
	Pause func(step string)
}

// Steps of a change, in order; a change that is taken back goes through them again.
const (
	StepAsked   = "asked"     // its row is there, nothing was read
	StepRead    = "read"      // the device was read
	StepSent    = "sent"      // the row says so, nothing was sent
	StepWritten = "written"   // the device took it
	StepBack    = "read back" // and reads so
	StepSettled = "settled"   // and the row says so
	StepUndoing = "undoing"   // it failed, and what takes the others back is written down
)

// Steps lists them.
func Steps() []string {
	return []string{StepAsked, StepRead, StepSent, StepWritten, StepBack, StepSettled, StepUndoing}
}

// Office does the work of one process.
type Office struct {
	store  *store.Store
	vault  *vault.Vault
	dialer *dial.Dialer
	opt    Options
	river  *river.Client[pgx.Tx]
	holder string

	verdicts verdicts

	fresh singleflight.Group // one reading of a recorder serves all who ask at once
	mu    sync.Mutex
	dirty map[int64]bool
	gates map[int64]*semaphore.Weighted // by network: how many this process works on at once
	stop  chan struct{}
	done  sync.WaitGroup
}

// New makes an office; Start lets it work.
func New(st *store.Store, v *vault.Vault, d *dial.Dialer, opt Options) (*Office, error) {
	opt.Measure = or(opt.Measure, 3*time.Second)
	opt.Listen = or(opt.Listen, 1200*time.Millisecond)
	opt.WalkFor = or(opt.WalkFor, time.Minute)
	opt.Workers = or(opt.Workers, 96)
	opt.Slow = or(opt.Slow, 512)
	opt.Keep = or(opt.Keep, store.Usual)
	if opt.Log == nil {
		opt.Log = slog.Default()
	}
	if opt.Pause == nil {
		opt.Pause = func(string) {}
	}
	host, _ := os.Hostname()
	o := &Office{store: st, vault: v, dialer: d, opt: opt, dirty: map[int64]bool{}, gates: map[int64]*semaphore.Weighted{}, stop: make(chan struct{}),
		holder: fmt.Sprintf("%s/%d/%d", host, os.Getpid(), time.Now().UnixNano())}
	o.verdicts.Do = o.judgeAsked
	workers := river.NewWorkers()
	if err := river.AddWorkerSafely(workers, &stepWorker{o: o}); err != nil {
		return nil, err
	}
	if err := river.AddWorkerSafely(workers, &againWorker{o: o}); err != nil {
		return nil, err
	}
	// River keeps this name with every job that runs, see Recover.
	c, err := river.NewClient(riverpgxv5.New(st.Pool), &river.Config{
		ID:            o.holder,
		Queues:        map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: opt.Workers}, slowLane: {MaxWorkers: opt.Slow}},
		Workers:       workers,
		FetchCooldown: 50 * time.Millisecond,
		JobTimeout:    stepLimit + gateLimit,
		// A killed server's job is taken up again after this and River's own round of
		// up to 30 s.
		RescueStuckJobsAfter: proveLimit + gateLimit + 5*time.Second,
		MaxAttempts:          8, // one that died with its server isn't counted, see store.TakeOver
		Logger:               slog.New(quiet{opt.Log.Handler()}),
	})
	if err != nil {
		return nil, fmt.Errorf("work: %w", err)
	}
	o.river = c
	return o, nil
}

func or[T comparable](v, otherwise T) T {
	var zero T
	if v == zero {
		return otherwise
	}
	return v
}

// quiet lets only warnings and worse of the job queue through.
type quiet struct{ slog.Handler }

func (q quiet) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }

// Start begins to take jobs.
func (o *Office) Start(ctx context.Context) error {
	o.done.Add(1)
	go o.tell()
	if err := o.recover(ctx); err != nil {
		return err
	}
	o.done.Add(1)
	go o.watch()
	return o.river.Start(ctx)
}

// Stop lets running jobs end, at most until ctx does.
func (o *Office) Stop(ctx context.Context) error {
	close(o.stop)
	o.done.Wait()
	err := o.river.StopAndCancel(ctx)
	return errors.Join(err, o.store.Leave(ctx, o.holder))
}

// touch marks a site as changed; tell joins touches over 250 ms.
func (o *Office) touch(site int64) {
	o.mu.Lock()
	o.dirty[site] = true
	o.mu.Unlock()
}

func (o *Office) tell() {
	defer o.done.Done()
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for over := false; !over; {
		select {
		case <-tick.C:
		case <-o.stop:
			over = true
		}
		o.mu.Lock()
		sites := o.dirty
		o.dirty = map[int64]bool{}
		o.mu.Unlock()
		for s := range sites {
			ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			if err := o.store.Notify(ctx, s); err != nil {
				o.opt.Log.Warn("progress wasn't told", "err", err)
			}
			cancel()
		}
	}
}

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
	var ear dial.Ear
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
	says, trouble = o.step(dial.WithEar(ctx, &ear), a)
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

// Begin starts a run over devices or networks and returns its number.
func (o *Office) Begin(ctx context.Context, n store.NewRun, walk bool) (int64, error) {
	var id int64
	err := o.store.InTx(ctx, func(tx pgx.Tx) error {
		run, steps, err := o.store.AddRun(ctx, tx, n)
		if err != nil {
			return err
		}
		id = run
		return o.enqueue(ctx, tx, n, steps, walk, nil)
	})
	if err == nil {
		o.touch(n.Site)
	}
	return id, err
}

// priority of a job, 1 to 4: what risks nothing goes first, see finding.Turn.
func priority(changes []finding.Change) int { return 1 + min(finding.Turn(changes), 3) }

// narrowMost is for how many devices at once a clock is measured at its second's
// edge, which takes some seconds each.
const narrowMost = 16

func (o *Office) enqueue(ctx context.Context, tx pgx.Tx, n store.NewRun, steps []store.Step, walk bool, turn map[int64]int) error {
	atOnce, err := o.store.AtOnce(ctx, tx, n.Site)
	if err != nil {
		return err
	}
	atOnce.Network, atOnce.Recorder = or(o.opt.Most.Network, atOnce.Network), or(o.opt.Most.Recorder, atOnce.Recorder)
	var jobs []river.InsertManyParams
	for _, s := range steps {
		a := stepArgs{AtOnce: atOnce, Step: s.ID, Site: n.Site, Stage: n.Stage, Act: n.Act, Walk: walk, Coarse: len(steps) > narrowMost, Factory: n.Factory, Set: n.Set}
		if s.DeviceID != nil {
			a.Device = *s.DeviceID
		}
		if s.NetworkID != nil {
			a.Network = *s.NetworkID
		}
		a.Net = s.Net
		first := 1
		if !s.Known { // what never opened may be anything: it goes after what did
			first = 2
		}
		jobs = append(jobs, river.InsertManyParams{Args: a, InsertOpts: &river.InsertOpts{Priority: max(first, turn[a.Device])}})
	}
	if len(jobs) == 0 {
		return toldError("There is nothing to do: no device is in a state for it.")
	}
	_, err = o.river.InsertManyTx(ctx, tx, jobs)
	return err
}

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
	o *Office
}

// Work reads back a change that must hold for a while, holding the device's lease.
func (w *againWorker) Work(ctx context.Context, job *river.Job[againArgs]) error {
	o := w.o
	c, err := o.store.Change(ctx, job.Args.Change)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	holder := fmt.Sprintf("%s/%d/%d", o.holder, job.ID, job.Attempt)
	fence, ok, err := o.store.Lease(ctx, c.DeviceID, holder, stepLimit+5*time.Second)
	if err != nil {
		return err
	}
	if !ok {
		return river.JobSnooze(500 * time.Millisecond)
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		_ = o.store.Release(ctx, c.DeviceID, holder)
	}()
	if err := o.again(ctx, job.Args, c, fence); !errors.Is(err, store.ErrFenced) {
		return err
	}
	return nil // another took the device over; it settles the change
}

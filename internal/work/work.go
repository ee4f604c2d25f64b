// Package work runs a stage over many devices: it reads facts, has the core judge
// them, applies changes and settles them. Jobs are River's, one short job a device
// and step; they carry references, never secrets.
package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

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
	Workers int           // jobs at once [16]
	Log     *slog.Logger
	// Pause is called between the steps of a change ("asked", "sent", "written");
	// tests stop the program there.
	Pause func(step string)
}

// Office does the work of one process.
type Office struct {
	store  *store.Store
	vault  *vault.Vault
	dialer *dial.Dialer
	opt    Options
	river  *river.Client[pgx.Tx]
	holder string

	mu    sync.Mutex
	dirty map[int64]bool
	stop  chan struct{}
	done  sync.WaitGroup
}

// New makes an office; Start lets it work.
func New(st *store.Store, v *vault.Vault, d *dial.Dialer, opt Options) (*Office, error) {
	opt.Measure = or(opt.Measure, 3*time.Second)
	opt.Listen = or(opt.Listen, 1200*time.Millisecond)
	opt.WalkFor = or(opt.WalkFor, time.Minute)
	opt.Workers = or(opt.Workers, 16)
	if opt.Log == nil {
		opt.Log = slog.Default()
	}
	if opt.Pause == nil {
		opt.Pause = func(string) {}
	}
	host, _ := os.Hostname()
	o := &Office{store: st, vault: v, dialer: d, opt: opt, dirty: map[int64]bool{}, stop: make(chan struct{}),
		holder: fmt.Sprintf("%s/%d/%d", host, os.Getpid(), time.Now().UnixNano())}
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
		Queues:        map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: opt.Workers}},
		Workers:       workers,
		FetchCooldown: 50 * time.Millisecond,
		JobTimeout:    stepLimit,
		// A killed server's job is taken up again after this and River's own round of
		// up to 30 s.
		RescueStuckJobsAfter: stepLimit + 5*time.Second,
		MaxAttempts:          4,
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
	return o.river.Start(ctx)
}

// Stop lets running jobs end, at most until ctx does.
func (o *Office) Stop(ctx context.Context) error {
	close(o.stop)
	o.done.Wait()
	return o.river.StopAndCancel(ctx)
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

// stepLimit is how long one step may take; proveLimit for a walk test.
const (
	stepLimit  = 30 * time.Second
	proveLimit = 2 * time.Minute
)

// stepArgs is one device's or network's part of a run.
type stepArgs struct {
	Step    int64       `json:"step"`
	Site    int64       `json:"site"`
	Stage   stage.Stage `json:"stage"`
	Act     store.Act   `json:"act"`
	Device  int64       `json:"device"`
	Network int64       `json:"network"`
	Walk    bool        `json:"walk"`
}

// Kind names the job for River.
func (stepArgs) Kind() string { return "step" }

type stepWorker struct {
	river.WorkerDefaults[stepArgs]
	o *Office
}

// Timeout limits one step.
func (w *stepWorker) Timeout(job *river.Job[stepArgs]) time.Duration {
	if job.Args.Act == store.Prove {
		return proveLimit
	}
	return stepLimit
}

// Work does one step. Trouble with a device settles the step as failed; only
// trouble of our own is returned, so that the job is tried again.
func (w *stepWorker) Work(ctx context.Context, job *river.Job[stepArgs]) error {
	a, o := job.Args, w.o
	if a.Device != 0 {
		holder := fmt.Sprintf("%s/%d", o.holder, job.ID)
		_, ok, err := o.store.Lease(ctx, a.Device, holder, w.Timeout(job)+5*time.Second)
		if err != nil {
			return err
		}
		if !ok {
			return river.JobSnooze(500 * time.Millisecond)
		}
		defer func() {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			defer cancel()
			_ = o.store.Release(ctx, a.Device, holder)
		}()
	}
	goOn, err := o.store.BeginStep(ctx, a.Step)
	if err != nil {
		return err
	}
	o.touch(a.Site)
	var says string
	var trouble error
	if goOn {
		says, trouble = o.step(ctx, a)
	} else if a.Act == store.Apply {
		says, trouble = "stopped before it was sent", o.dropAsked(ctx, a.Step)
	}
	if ours(trouble) {
		if job.Attempt < job.MaxAttempts {
			return trouble
		}
		o.opt.Log.Error("a step failed for good", "step", a.Step, "err", trouble)
	}
	if trouble != nil {
		says = trouble.Error()
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	err = o.store.EndStep(ctx, a.Step, trouble != nil, says)
	o.touch(a.Site)
	return err
}

// ours says whether an error is this product's own, not a device's.
func ours(err error) bool {
	var de *dial.Error
	var told toldError
	return err != nil && !errors.As(err, &de) && !errors.As(err, &told) && !errors.Is(err, context.DeadlineExceeded)
}

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
	return o.read(ctx, d, a.Stage)
}

// read reads one device for a stage and has it judged.
func (o *Office) read(ctx context.Context, d store.Device, st stage.Stage) (string, error) {
	var says string
	var err error
	switch {
	case d.Kind == identity.Recorder:
		says, err = o.readRecorder(ctx, d)
	case st == stage.SignIn:
		says, err = o.signIn(ctx, d)
	case st == stage.Clock:
		says, err = o.readClock(ctx, d)
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
		return o.enqueue(ctx, tx, n, steps, walk)
	})
	if err == nil {
		o.touch(n.Site)
	}
	return id, err
}

func (o *Office) enqueue(ctx context.Context, tx pgx.Tx, n store.NewRun, steps []store.Step, walk bool) error {
	var jobs []river.InsertManyParams
	for _, s := range steps {
		a := stepArgs{Step: s.ID, Site: n.Site, Stage: n.Stage, Act: n.Act, Walk: walk}
		if s.DeviceID != nil {
			a.Device = *s.DeviceID
		}
		if s.NetworkID != nil {
			a.Network = *s.NetworkID
		}
		jobs = append(jobs, river.InsertManyParams{Args: a})
	}
	if len(jobs) == 0 {
		return toldError("There is nothing to do: no device is in a state for it.")
	}
	_, err := o.river.InsertManyTx(ctx, tx, jobs)
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

// Work reads back a change that must hold for a while.
func (w *againWorker) Work(ctx context.Context, job *river.Job[againArgs]) error {
	return w.o.again(ctx, job.Args)
}

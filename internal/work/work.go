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
	"golang.org/x/sync/semaphore"
	"golang.org/x/sync/singleflight"

	"duskyharbor/internal/core/finding"
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

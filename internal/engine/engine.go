// Package engine runs stages over many devices: it has their facts read, has them
// judged, applies changes and settles them. Jobs are River's, one short job a device and
// step; they carry references, never secrets. It knows stages as an interface and none
// by name.
package engine

import (
	"cmp"
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

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// Options of an Engine. Zero values take the defaults in brackets.
type Options struct {
	Workers int // jobs at once [96]
	Slow    int // further jobs, of devices that are slow to answer [512]
	// Most limits how many devices are worked on at once over all servers, where it isn't
	// left to the site: of a network, of a recorder.
	Most        store.Limits
	Keep        store.Keep    // how long what is past is kept [store.Usual]
	ChangeLimit time.Duration // how long one change may take [30 s]
	Log         *slog.Logger
	// Pause is called before and after each point of a change, see the Point constants;
	// tests stop the program there.
	Pause func(point string)
}

// Points of a change, in order; a change that is taken back goes through them again.
const (
	PointAsked   = "asked"     // its row is there, nothing was read
	PointRead    = "read"      // the device was read
	PointSent    = "sent"      // the row says so, nothing was sent
	PointWritten = "written"   // the device took it
	PointBack    = "read back" // and reads so
	PointSettled = "settled"   // and the row says so
	PointUndoing = "undoing"   // it failed, and what takes the others back is written down
)

// Points lists them.
func Points() []string {
	return []string{PointAsked, PointRead, PointSent, PointWritten, PointBack, PointSettled, PointUndoing}
}

// Engine does the work of one process. It is safe for several goroutines.
type Engine struct {
	store  *store.Store
	opt    Options
	river  *river.Client[pgx.Tx]
	holder string
	stages []Stage
	byID   map[stage.Stage]Stage

	verdicts verdicts

	mu    sync.Mutex
	dirty map[store.Event]bool
	gates map[int64]*semaphore.Weighted // by network: how many this process works on at once
	stop  chan struct{}
	done  sync.WaitGroup
}

// New makes an engine; Register gives it stages, Start lets it work.
func New(st *store.Store, opt Options) (*Engine, error) {
	opt.Workers = cmp.Or(opt.Workers, 96)
	opt.Slow = cmp.Or(opt.Slow, 512)
	opt.Keep = cmp.Or(opt.Keep, store.Usual)
	opt.ChangeLimit = cmp.Or(opt.ChangeLimit, changeLimit)
	opt.Log = cmp.Or(opt.Log, slog.Default())
	if opt.Pause == nil {
		opt.Pause = func(string) {}
	}
	host, _ := os.Hostname()
	e := &Engine{store: st, opt: opt, byID: map[stage.Stage]Stage{}, dirty: map[store.Event]bool{},
		gates: map[int64]*semaphore.Weighted{}, stop: make(chan struct{}),
		holder: fmt.Sprintf("%s/%d/%d", host, os.Getpid(), time.Now().UnixNano())}
	e.verdicts.Do = e.judgeAsked
	workers := river.NewWorkers()
	if err := errors.Join(river.AddWorkerSafely(workers, &stepWorker{e: e}),
		river.AddWorkerSafely(workers, &againWorker{e: e}), river.AddWorkerSafely(workers, &followWorker{e: e}),
		river.AddWorkerSafely(workers, &judgeWorker{e: e})); err != nil {
		return nil, err
	}
	// River keeps this name with every job that runs, see recover.
	c, err := river.NewClient(riverpgxv5.New(st.Pool), &river.Config{
		ID:            e.holder,
		Queues:        map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: opt.Workers}, slowLane: {MaxWorkers: opt.Slow}},
		Workers:       workers,
		FetchCooldown: 50 * time.Millisecond,
		JobTimeout:    stepLimit + gateLimit,
		// A killed server's job is taken up again after this and River's own round of
		// up to 30 s.
		RescueStuckJobsAfter: applyLimit + gateLimit + 5*time.Second,
		MaxAttempts:          8, // one that died with its server isn't counted, see store.TakeOver
		Logger:               slog.New(warnings{opt.Log.Handler()}),
	})
	if err != nil {
		return nil, fmt.Errorf("engine: %w", err)
	}
	e.river = c
	return e, nil
}

// Stages are those that were registered, in the order of the work.
func (e *Engine) Stages() []Stage { return e.stages }

// Register adds stages, in the order of the work. It must be called before Start. A stage that is there already, or is
// none of the ten, is an error.
func (e *Engine) Register(all ...Stage) error {
	for _, s := range all {
		if _, twice := e.byID[s.ID()]; twice || !s.ID().Valid() {
			return fmt.Errorf("engine: the stage %s (%d) is registered twice, or is none", s.ID(), s.ID())
		}
		e.stages = append(e.stages, s)
		e.byID[s.ID()] = s
	}
	return nil
}

// Does says whether a stage is registered.
func (e *Engine) Does(st stage.Stage) bool { return e.byID[st] != nil }

func (e *Engine) manner(st stage.Stage) Manner {
	m := Manner{}
	if s, ok := e.byID[st].(Mannered); ok {
		m = s.Manner()
	}
	m.Limit = min(cmp.Or(m.Limit, stepLimit), longestLimit)
	return m
}

// warnings lets only warnings and worse of the job queue through.
type warnings struct{ slog.Handler }

// Enabled says whether a level is let through.
func (w warnings) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }

// Start begins to take jobs.
func (e *Engine) Start(ctx context.Context) error {
	e.done.Add(1)
	go e.tell()
	if err := e.recover(ctx); err != nil {
		return err
	}
	e.done.Add(1)
	go e.watch()
	return e.river.Start(ctx)
}

// Stop lets running jobs end, at most until ctx does.
func (e *Engine) Stop(ctx context.Context) error {
	close(e.stop)
	e.done.Wait()
	err := e.river.StopAndCancel(ctx)
	return errors.Join(err, e.store.Leave(ctx, e.holder))
}

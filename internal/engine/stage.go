package engine

import (
	"context"
	"errors"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Stage is one stage of the job as the engine runs it. It holds no state: everything it
// needs comes with the call or from the database. A stage that reads a lens and sets it:
//
//	func (Lens) ID() stage.Stage { return stage.Analytics }
//
//	func (l Lens) Read(ctx context.Context, v *engine.Visit) (string, error) {
//		c, err := l.accounts.Open(ctx, v.Device, s) // one device: facts
//		…
//		return "lens read", l.store.KeepFacts(ctx, lens.New(v.Source, "GetLens", now, reading))
//	}
//
//	func (Lens) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
//		r, ok := lens.Of(s, of)
//		return stage.Verdict{Read: ok, Findings: core.Judge(r), Done: "It is sharp."}
//	}
//
// A method may be cut off anywhere, by a stop, a time limit or the death of its server,
// and is then called again, perhaps by another server: Read and AfterChange must bear it.
// An Editor is asked to read before it is asked to write, so that no change is made twice.
type Stage interface {
	ID() stage.Stage
	// Read reads the facts of the visit's view, or device, and keeps them. The summary is what the
	// run's page tells. Trouble with the device is returned, after it was kept as a fact.
	Read(ctx context.Context, v *Visit) (summary string, err error)
	// Judge says how a source stands in the stage; where the stage is the device's, it is
	// asked of the device's first view, for all. It does no I/O.
	Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict
	// Propose lists what would put a source right, as Judge. It does no I/O.
	Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change
	// Editor opens what reads and writes the thing that a change is about. A kind that
	// isn't this stage's is ErrKind.
	Editor(ctx context.Context, v *Visit, c store.Change) (Editor, error)
	// AfterChange reads again what the changes of one step touched, of whichever stage
	// they are: a stage looks which of its facts they make stale. The stage whose changes
	// they are is called first. It may leave readings for later, see Visit.Follow.
	AfterChange(ctx context.Context, v *Visit, changes []store.Change) error
}

// Editor reads and writes one thing of a device, in the canonical text of a change's
// From and To.
type Editor interface {
	Read(ctx context.Context) (string, error)
	Write(ctx context.Context) error
	Close() error
}

// PendingError says that what was written comes about by itself and can't be read yet: the
// device starts again, or moves. An Editor returns it from Read: the change stays sent, the
// device is let go, and a moment later its step reads it again. When it has waited long
// enough is the Editor's to say, by another answer; see Change.SentAt.
type PendingError struct {
	Reads string // kept as what it reads meanwhile, for the Editor's next reading
	Says  string // what is waited for: "it starts again"
}

// Error is what is waited for.
func (e PendingError) Error() string { return e.Says }

// ErrKind is returned by a Stage for a change whose kind isn't its own.
var ErrKind = errors.New("not this stage's kind of change")

// Manner is how a stage's readings are run. The zero Manner is the usual one.
type Manner struct {
	Limit    time.Duration // of one reading [30 s]
	Recorder bool          // a recorder is asked too: its limit counts
	Of       Subject       // what its readings are of [Cameras]
	// Once is set for what can't be repeated: it waits for nothing, isn't left to the
	// slow lane, and isn't tried again where the device falls silent.
	Once bool
}

// Mannered is a Stage whose readings are run in another manner than the usual.
type Mannered interface{ Manner() Manner }

// Planner is a Stage whose proposals for several sources depend on each other. Plan
// returns what is asked source by source, in the order of the list.
type Planner interface {
	Plan(now time.Time) func(s *site.Snapshot, of site.Source) []finding.Change
}

// Verifier is a Stage that says itself whether a change of its own still holds some time
// after it was read back. Where a stage doesn't, its Editor reads again.
type Verifier interface {
	StillHolds(ctx context.Context, v *Visit, c store.Change) (holds bool, says string, err error)
}

// Follower is a Stage that leaves readings for later: nth counts from 1, and the
// readings go on while more is true.
type Follower interface {
	Follow(ctx context.Context, v *Visit, nth int) (more bool, err error)
}

// EditorFuncs is an Editor made of functions; a nil Shut closes nothing.
type EditorFuncs struct {
	ReadFunc  func(ctx context.Context) (string, error)
	WriteFunc func(ctx context.Context) error
	Shut      func()
}

// Read calls ReadFunc.
func (e EditorFuncs) Read(ctx context.Context) (string, error) { return e.ReadFunc(ctx) }

// Write calls WriteFunc.
func (e EditorFuncs) Write(ctx context.Context) error { return e.WriteFunc(ctx) }

// Close calls Shut.
func (e EditorFuncs) Close() error {
	if e.Shut != nil {
		e.Shut()
	}
	return nil
}

// Visit is what a stage is asked to do on one view of a device, on a device, or on a
// network.
type Visit struct {
	Source  site.Source    // the view; of a stage that is the device's, its first; a recorder as a whole
	Device  store.Device   // of Source
	Network *store.Network // of a stage that reads networks; else nil
	Site    int64
	Narrow  bool  // one of few: measured as finely as it can be
	Factory bool  // a person allowed makers' default accounts
	Set     int64 // the set that a person wants tried, and no other; 0: all in their order
	Walk    bool  // the stand-in is told to walk
	AtOnce  int   // how many devices of a network may be asked at once
	Step    int64
	engine  *Engine
	stage   stage.Stage
}

// Snapshot reads the visit's device anew, with the recorders.
func (v *Visit) Snapshot(ctx context.Context) (*site.Snapshot, error) {
	return site.Load(ctx, v.engine.store, v.Site, []int64{v.Device.ID})
}

// Tell has pages hear that something about the visit's device changed.
func (v *Visit) Tell(topic store.Topic) { v.engine.touch(v.Site, topic, v.Device.ID) }

// Judge derives the marks of these devices again.
func (v *Visit) Judge(ctx context.Context, devices ...int64) error {
	return v.engine.judge(ctx, v.Site, devices)
}

// JudgeAround judges the visit's device again, and with a recorder the cameras that hang
// on it.
func (v *Visit) JudgeAround(ctx context.Context) error { return v.engine.judgeAround(ctx, v.Device) }

// Stopped says whether a person stopped the run.
func (v *Visit) Stopped(ctx context.Context) (bool, error) {
	return v.engine.store.Stopped(ctx, v.Step)
}

// As is the visit of another device of the site.
func (v *Visit) As(d store.Device) *Visit {
	w := *v
	w.Source, w.Device = d.Whole(), d
	return &w
}

// at is a visit that is made of a source.
func (v Visit) at(of site.Source) *Visit {
	v.Source, v.Device = of, of.Device
	return &v
}

// AnyOf says whether one of the changes is a stage's.
func AnyOf(changes []store.Change, st stage.Stage) bool {
	for _, c := range changes {
		if c.Stage == st {
			return true
		}
	}
	return false
}

// Made says whether a change of one of these kinds was made.
func Made(changes []store.Change, kinds ...string) bool {
	for _, c := range changes {
		for _, k := range kinds {
			if c.Kind == k && c.Made() {
				return true
			}
		}
	}
	return false
}

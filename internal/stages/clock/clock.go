// Package clock reads devices' clocks and sets them.
package clock

import (
	"context"
	"slices"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Clock.
type Stage struct{ stages.Services }

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k} }

// ID is stage.Clock.
func (k *Stage) ID() stage.Stage { return stage.Clock }

// Manner says that recorders are read with the cameras.
func (k *Stage) Manner() engine.Manner { return engine.Manner{Of: engine.CamerasAndRecorders} }

// Judge says whose time is wrong, and why. A recorder is judged against this server.
func (k *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	d := of.Device
	if d.Kind == identity.Recorder {
		r, ok := facts.Clock.Of(s, d.ID)
		if !ok {
			return stage.Verdict{}
		}
		return stage.Verdict{Read: true, Findings: clock.JudgeRecorder(now, r, d.Place, s.Site.ZonePosix), Done: "In step with this server."}
	}
	f, w := facts.ForClock(s, d)
	found, _ := facts.ForIdentity(s, d)
	notHere := found.OnlyBehind()
	if notHere == "" {
		notHere = found.OnlyRTSP()
	}
	return stage.Verdict{Read: f.Read(), Findings: clock.Judge(now, f, w), Stale: clock.Stale(f),
		Done: "Its time agrees with " + f.Reference.Name + "'s.", NotHere: notHere}
}

// Propose lists what sets a clock right, where an account lets it be written.
func (k *Stage) Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	d := of.Device
	if d.Kind == identity.Recorder {
		r, ok := facts.Clock.Of(s, d.ID)
		if table, known := site.Recorder.Of(s, d.ID); !ok || !known || !table.SetsTime {
			return nil
		}
		return clock.ProposeRecorder(r)
	}
	if a, open := facts.Account.Of(s, d.ID); !open || a.Scheme == access.RTSP {
		return nil
	}
	return slices.Clone(facts.ClockChanges(s, now, d))
}

// Grounds are where it takes the time from.
func (k *Stage) Grounds(s *site.Snapshot, of site.Source) []ground.Ground {
	from := ""
	if r, ok := facts.Clock.Of(s, of.Device.ID); ok {
		from = r.Source()
	}
	return []ground.Ground{{Of: "time source", Is: from, Under: ground.Proof}}
}

// AfterChange reads a clock again that was set, that went with a reset or a restart, or
// whose reading is stale since its camera was placed.
func (k *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	switch {
	case engine.AnyOf(changes, stage.Clock), engine.Made(changes, access.Reset, access.Restart):
	case engine.AnyOf(changes, stage.Channels):
		s, err := v.Snapshot(ctx)
		if err != nil {
			return err
		}
		if f, _ := facts.ForClock(s, v.Device); clock.Stale(f) == "" {
			return nil
		}
	default:
		return nil
	}
	narrow := *v
	narrow.Narrow = true
	_, err := k.Read(ctx, &narrow)
	return err
}

// StillHolds reads a changed clock once more. The recorder that holds the camera is
// followed: one that was refused for the clock tries again by itself some seconds later.
func (k *Stage) StillHolds(ctx context.Context, v *engine.Visit, c store.Change) (holds bool, says string, err error) {
	switch c.Kind {
	case clock.SetTime, clock.SetSource, clock.SetZone, clock.SetManual, access.Restart:
	default:
		return false, "", engine.ErrKind
	}
	if _, err := k.Read(ctx, v); err != nil {
		return false, "", err
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return false, "", err
	}
	if _, slot, ok := s.HolderOf(v.Source); ok && slot != nil {
		if err := v.Follow(ctx, stage.Channels); err != nil {
			return false, "", err
		}
	}
	f, _ := facts.ForClock(s, v.Device)
	holds, says = clock.Holding(f)
	return holds, says, nil
}

// Watching is how a clock is watched: a reading every watchEvery, watchMost of them.
const (
	watchEvery = 5 * time.Second
	watchMost  = 12
)

// Watch reads a camera's clock again and again for a minute, as finely as it can be: its drift
// shows. Where it is being watched already nothing more begins; until is when that ends.
func (k *Stage) Watch(ctx context.Context, of store.Source, every time.Duration, most int) (until time.Time, err error) {
	had, err := k.Store.FactsOf(ctx, []int64{of.Device.ID})
	if err != nil {
		return until, err
	}
	now := time.Now().UTC()
	if was, ok, err := facts.Watched.From(had[of.Device.ID]); err != nil || ok && now.Before(was.Until) {
		return was.Until, err
	}
	until = now.Add(every * time.Duration(most))
	if err := k.Store.KeepFacts(ctx, facts.Watched.New(of.Device.ID, "a person asked", now, facts.Watch{Until: until})); err != nil {
		return until, err
	}
	return until, k.Engine.Watch(ctx, of, k.ID(), every, most)
}

// Follow reads a clock that is watched once more.
func (k *Stage) Follow(ctx context.Context, v *engine.Visit, _ int) (more bool, err error) {
	_, err = k.Read(ctx, v)
	return true, err
}

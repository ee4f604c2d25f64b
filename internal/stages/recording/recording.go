// Package recording reads what recorders keep of each channel, and writes the plans that were
// chosen.
package recording

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/recorders"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Recording.
type Stage struct{ stages.Services }

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k} }

// ID is stage.Recording.
func (r *Stage) ID() stage.Stage { return stage.Recording }

// Manner says that recorders are asked.
func (r *Stage) Manner() engine.Manner { return engine.Manner{Recorder: true, Of: engine.Recorders} }

// Judge says how a view's recording stands.
func (r *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	f, w := facts.ForRecording(s, of)
	return stage.Verdict{Read: f.Read(), Findings: recording.Judge(now, f, w), Done: recording.Done(f, w)}
}

// Propose writes the plan that was chosen.
func (r *Stage) Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	f, w := facts.ForRecording(s, of)
	return recording.Propose(now, f, w)
}

// Read reads a recorder, of a camera the one that holds it or is planned for it.
func (r *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	return r.Recorders.ReadOf(ctx, v)
}

// AfterChange reads the recorder whose recording was changed.
func (r *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if !engine.AnyOf(changes, stage.Recording) {
		return nil
	}
	if v.Device.Kind == identity.Recorder {
		_, err := r.Recorders.Read(ctx, v.Device)
		return err
	}
	_, _, err := r.Recorders.Holding(ctx, v)
	return err
}

// Editor writes a channel's plan, or how old a recorder's recordings get.
func (r *Stage) Editor(ctx context.Context, v *engine.Visit, ch store.Change) (engine.Editor, error) {
	switch ch.Kind {
	case recording.SetPlan:
		return r.planEditor(ctx, v, ch)
	case recording.SetAge:
	default:
		return nil, engine.ErrKind
	}
	days, err := strconv.Atoi(ch.Args["days"])
	if err != nil {
		return nil, fmt.Errorf("change %d names no days", ch.ID)
	}
	client, err := r.Accounts.Recorder(ctx, v.Device)
	if err != nil {
		return nil, err
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			table, _, err := client.Status(ctx)
			return table.Storage.AgeText(), err
		},
		WriteFunc: func(ctx context.Context) error { return client.SetAge(ctx, days) },
		Shut:      client.Close,
	}, nil
}

func (r *Stage) planEditor(ctx context.Context, v *engine.Visit, ch store.Change) (engine.Editor, error) {
	plan, err := recording.Decode(ch.Args["plan"])
	if err != nil {
		return nil, fmt.Errorf("change %d holds no plan: %w", ch.ID, err)
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	client, number, err := r.ChannelOf(ctx, s, v.Source, ch)
	if err != nil {
		return nil, err
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			slot, taken, err := recorders.Slot(ctx, client, number)
			switch {
			case err != nil:
				return "", err
			case !taken:
				return "", trouble.UserError(fmt.Sprintf("Channel %d is free: nothing is recorded there.", number))
			case slot.Recording.Plan == nil:
				return recording.NotTold, nil
			}
			return slot.Recording.Plan.String(), nil
		},
		WriteFunc: func(ctx context.Context) error { return client.SetPlan(ctx, number, plan) },
		Shut:      client.Close,
	}, nil
}

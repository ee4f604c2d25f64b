package engine

import (
	"cmp"
	"context"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

// Begin starts a run over devices or networks and returns its number. What is asked for twice while
// it goes is one run: who presses again is shown the first.
func (e *Engine) Begin(ctx context.Context, n store.NewRun, walk bool) (int64, error) {
	var id int64
	err := e.store.InTx(ctx, func(tx pgx.Tx) error {
		if same, err := e.store.SameRun(ctx, tx, n); err != nil || same != 0 {
			id = same
			if err == nil {
				err = e.store.GoesOn(ctx, tx, same, n)
			}
			return err
		}
		run, steps, err := e.store.AddRun(ctx, tx, n)
		if err != nil {
			return err
		}
		id = run
		return e.enqueue(ctx, tx, n, steps, walk, nil)
	})
	if err == nil {
		e.touch(n.Site, store.OnRun)
	}
	return id, err
}

// priority of a job, 1 to 4: what risks nothing goes first, see finding.Turn.
func priority(changes []finding.Change) int { return 1 + min(finding.Turn(changes), 3) }

// writesRecorder says whether one of the changes is written to a recorder for its device:
// then the recorder's limit counts for it.
func writesRecorder(changes []finding.Change) bool {
	return slices.ContainsFunc(changes, func(c finding.Change) bool { return c.Args["recorder"] != "" })
}

// narrowMost is for how many devices at once a stage measures as finely as it can,
// which takes some seconds each.
const narrowMost = 16

func (e *Engine) enqueue(ctx context.Context, tx pgx.Tx, n store.NewRun, steps []store.Step, walk bool, picks map[store.Target]Pick) error {
	atOnce, err := e.store.AtOnce(ctx, tx, n.Site)
	if err != nil {
		return err
	}
	own, err := e.store.NetworkLimits(ctx, tx, n.Site)
	if err != nil {
		return err
	}
	atOnce.Network, atOnce.Recorder = cmp.Or(e.opt.Most.Network, atOnce.Network), cmp.Or(e.opt.Most.Recorder, atOnce.Recorder)
	jobs := make([]river.InsertManyParams, 0, len(steps))
	for _, s := range steps {
		a := stepArgs{AtOnce: atOnce, Step: s.ID, Site: n.Site, Stage: n.Stage, Act: n.Act, Walk: walk,
			Coarse: len(steps) > narrowMost, Factory: n.Factory, Set: n.Set, Net: s.Net}
		of := s.Target()
		a.Device, a.Source = of.Device, of.Source
		if s.NetworkID != nil {
			a.Network = *s.NetworkID
		}
		a.AtOnce.Network = cmp.Or(e.opt.Most.Network, own[cmp.Or(a.Network, s.Net)], atOnce.Network)
		first := 1
		if !s.Known { // what never opened may be anything: it goes after what did
			first = 2
		}
		p := picks[of]
		a.Recorder = writesRecorder(p.Changes)
		jobs = append(jobs, river.InsertManyParams{Args: a, InsertOpts: &river.InsertOpts{Priority: max(first, priority(p.Changes))}})
	}
	if len(jobs) == 0 {
		return trouble.UserError("There is nothing to do: no device is in a state for it.")
	}
	_, err = e.river.InsertManyTx(ctx, tx, jobs)
	return err
}

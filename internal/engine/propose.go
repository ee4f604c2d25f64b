package engine

import (
	"context"
	"slices"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Propose lists what a stage's rules would change on these views, or devices, now, a
// portion of them read at a time. What is being made already is left out and counted.
func (e *Engine) Propose(ctx context.Context, siteID int64, st stage.Stage, targets []store.Target) (picks []Pick,
	underWay int, err error) {
	now := time.Now()
	propose := func(s *site.Snapshot, of site.Source) []finding.Change { return e.Proposals(now, s, of, st) }
	if p, ok := e.byID[st].(Planner); ok {
		propose = p.Plan(now)
	}
	return e.Gather(ctx, siteID, st, targets, propose)
}

// Gather is Propose by a rule of the caller's: what a person asked for.
func (e *Engine) Gather(ctx context.Context, siteID int64, st stage.Stage, targets []store.Target,
	propose func(*site.Snapshot, site.Source) []finding.Change) (picks []Pick, underWay int, err error) {
	for part := range slices.Chunk(targets, portion) {
		devices := make([]int64, len(part))
		wanted := make(map[store.Target]bool, len(part))
		for i, t := range part {
			devices[i], wanted[t] = t.Device, true
		}
		slices.Sort(devices)
		devices = slices.Compact(devices)
		s, err := site.Load(ctx, e.store, siteID, devices)
		if err != nil {
			return nil, 0, err
		}
		open, err := e.store.OpenChanges(ctx, devices)
		if err != nil {
			return nil, 0, err
		}
		for _, of := range s.Sources {
			if !wanted[TargetOf(of, st)] || st.OfDevice() && !of.First() {
				continue
			}
			p := Pick{Source: of, Changes: propose(s, of)}
			all := len(p.Changes)
			p.Changes = slices.DeleteFunc(p.Changes, func(c finding.Change) bool {
				return slices.ContainsFunc(open, func(x store.Change) bool { return x.About(of) && x.Key == c.Key })
			})
			underWay += all - len(p.Changes)
			if len(p.Changes) > 0 {
				picks = append(picks, p)
			}
		}
	}
	return picks, underWay, nil
}

// TargetOf is what a step of a stage is of for a source: the view, or the device where the
// stage is the device's.
func TargetOf(of site.Source, st stage.Stage) store.Target {
	t := store.Target{Device: of.Device.ID}
	if !st.OfDevice() {
		t.Source = of.ID
	}
	return t
}

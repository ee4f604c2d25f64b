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

// Propose lists what a stage's rules would change on these cameras now, a portion
// of them read at a time. What is being made already is left out and counted.
func (e *Engine) Propose(ctx context.Context, siteID int64, st stage.Stage, devices []int64) (picks []Pick, underWay int, err error) {
	now := time.Now()
	propose := func(s *site.Snapshot, d store.Device) []finding.Change { return e.Proposals(now, s, d, st) }
	if p, ok := e.byID[st].(Planner); ok {
		propose = p.Plan(now)
	}
	for part := range slices.Chunk(devices, portion) {
		s, err := site.Load(ctx, e.store, siteID, part)
		if err != nil {
			return nil, 0, err
		}
		open, err := e.store.OpenChanges(ctx, part)
		if err != nil {
			return nil, 0, err
		}
		for _, d := range s.Cameras() {
			p := Pick{Device: d, Changes: propose(s, d)}
			all := len(p.Changes)
			p.Changes = slices.DeleteFunc(p.Changes, func(c finding.Change) bool {
				return slices.ContainsFunc(open, func(x store.Change) bool { return x.DeviceID == d.ID && x.Key == c.Key })
			})
			underWay += all - len(p.Changes)
			if len(p.Changes) > 0 {
				picks = append(picks, p)
			}
		}
	}
	return picks, underWay, nil
}

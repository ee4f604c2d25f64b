// Package prove times walk tests.
package prove

import (
	"context"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Prove.
type Stage struct{ stages.Services }

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k} }

// ID is stage.Prove.
func (p *Stage) ID() stage.Stage { return stage.Prove }

// walkLimit is how long a walk may take, with what is read before and after it.
const walkLimit = 2 * time.Minute

// narrowError is how narrow the camera's clock is measured before a walk.
const narrowError = 60 * time.Millisecond

// Manner says that a walk waits for a person and can't be repeated.
func (p *Stage) Manner() engine.Manner {
	return engine.Manner{Limit: walkLimit, Once: true, Of: engine.Nothing}
}

// Judge says what the last walk proves.
func (p *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	var on []ground.Ground
	if _, walked := s.Proofs[of.ID]; walked {
		on = p.Engine.Grounds(ground.Proof, s, of)
	}
	f := known(s, of, on)
	found, stale := proof.JudgeSource(now, f, of.Place)
	return stage.Verdict{Read: f.Read(), Findings: found, Stale: stale, Done: "Walked, and every leg was on time."}
}

// known is what is known of a view's proofs, and of what they rest on now.
func known(s *site.Snapshot, of site.Source, on []ground.Ground) proof.Facts {
	f := proof.Facts{Grounds: on}
	if last, ok := s.Proofs[of.ID]; ok {
		f.Last = &last.Test
	}
	for _, w := range s.Walks[of.ID] {
		f.Walks = append(f.Walks, w.Test)
	}
	for _, g := range route.Walks(facts.ForRoutes(s, of)) {
		f.Routes = append(f.Routes, proof.Route{Topic: g.Topic, Input: g.Input})
	}
	return f
}

// Next is the route that the next walk takes, by what proofs rest on now; ok is false where none can be walked.
func Next(now time.Time, s *site.Snapshot, of site.Source, on []ground.Ground) (route.Peg, bool) {
	f := known(s, of, on)
	return route.Walked(facts.ForRoutes(s, of), func(g route.Peg) bool { return f.Proven(now, proof.Route{Topic: g.Topic, Input: g.Input}, of.Place) })
}

// Propose lists nothing: nothing is written in Prove.
func (p *Stage) Propose(time.Time, *site.Snapshot, site.Source) []finding.Change { return nil }

// Editor knows no kind of change.
func (p *Stage) Editor(context.Context, *engine.Visit, store.Change) (engine.Editor, error) {
	return nil, engine.ErrKind
}

// AfterChange reads nothing: a proof goes stale by what it rests on.
func (p *Stage) AfterChange(context.Context, *engine.Visit, []store.Change) error { return nil }

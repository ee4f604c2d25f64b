// Package routes reads which events a camera offers and what its channel hears, and pegs
// them.
package routes

import (
	"context"
	"errors"
	"fmt"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Routes.
type Stage struct{ stages.Services }

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k} }

// ID is stage.Routes.
func (r *Stage) ID() stage.Stage { return stage.Routes }

// Manner says that recorders are asked.
func (r *Stage) Manner() engine.Manner { return engine.Manner{Recorder: true} }

// Judge says which happenings have no way into the recorder.
func (r *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	f := facts.ForRoutes(s, of)
	found, _ := facts.ForIdentity(s, of.Device)
	return stage.Verdict{Read: f.Read(), Findings: route.Judge(now, f, route.Wishes{}),
		Done: "Its events reach the recorder's inputs.", NotHere: found.OnlyRTSP()}
}

// Grounds are what its channel hears, and what its camera is to tell of.
func (r *Stage) Grounds(s *site.Snapshot, of site.Source) []ground.Ground {
	pegs, rules := ground.Ground{Of: "pegs", Under: ground.Proof}, ground.Ground{Of: "rules", Under: ground.Proof}
	if in, ok := facts.Inputs.Of(s, of); ok {
		pegs.Is, pegs.Exact = in.Ground()
	}
	if all, ok := facts.Rules.Of(s, of); ok {
		rules.Is, rules.Exact = rule.Ground(all)
	}
	return []ground.Ground{pegs, rules}
}

// Propose pegs what is suggested.
func (r *Stage) Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	return route.Propose(now, facts.ForRoutes(s, of), route.Wishes{})
}

// Read reads a camera's topics and rules and the inputs of its channel. A recorder is read
// with its status.
func (r *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	if v.Device.Kind == identity.Recorder {
		return r.Recorders.Read(ctx, v.Device)
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	began := time.Now().UTC()
	says, err := r.readTopics(ctx, v.Source, s)
	if err == nil {
		err = r.Recorders.KeepInputs(ctx, v)
	}
	if kept := r.NoteAsked(ctx, facts.RoutesRead, v.Source, "routes", began, err); kept != nil {
		return "", kept
	}
	return says, err
}

func (r *Stage) readTopics(ctx context.Context, of site.Source, s *site.Snapshot) (string, error) {
	d := of.Device
	c, err := r.Accounts.Open(ctx, d, s, r.ID().String())
	if err != nil {
		return "", err
	}
	defer c.Close()
	services, _ := facts.Services.Of(s, d.ID)
	topics, err := c.Topics(ctx, services)
	if err != nil {
		return "", err
	}
	now := time.Now().UTC()
	if err := r.Store.KeepFacts(ctx, facts.Topics.New(d.ID, "GetEventProperties", now, topics)); err != nil {
		return "", err
	}
	profiles, _ := site.Profiles.Of(s, d.ID)
	configuration, err := stages.AnalyticsOf(ctx, c, profiles, of.Video, services)
	if err != nil {
		return "", err
	}
	if configuration == "" {
		return fmt.Sprintf("%d topics offered, no analytics", len(topics)), nil
	}
	rules, err := c.Rules(ctx, services, configuration)
	if err != nil && !errors.Is(err, dial.ErrNotSupported) && !errors.Is(err, dial.ErrRefused) {
		return "", err
	}
	if err == nil {
		if err := r.Store.KeepFacts(ctx, facts.Rules.New(of, "GetRules", now, rules)); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("%d topics offered", len(topics)), nil
}

// AfterChange reads what the camera's channel hears, where a change of Routes touched it
// or the camera was placed. The recorder subscribes once an input asks for it, and says so
// a moment later.
func (r *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if !engine.AnyOf(changes, stage.Routes) && !engine.AnyOf(changes, stage.Channels) {
		return nil
	}
	more, err := r.Follow(ctx, v, 0)
	if err != nil || !more {
		return err
	}
	return v.Follow(ctx, stage.Routes)
}

// Follow reads the inputs once more; it goes on while the recorder hasn't subscribed.
func (r *Stage) Follow(ctx context.Context, v *engine.Visit, nth int) (more bool, err error) {
	if err := r.Recorders.KeepInputs(ctx, v); err != nil {
		return false, err
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return false, err
	}
	return route.Subscribing(facts.ForRoutes(s, v.Source)), nil
}

// Editor pegs topics to an input of the camera's channel.
func (r *Stage) Editor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	if c.Kind != route.PegInput {
		return nil, engine.ErrKind
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	client, number, err := r.ChannelOf(ctx, s, v.Source, c)
	if err != nil {
		return nil, err
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			in, err := client.Inputs(ctx, number)
			return route.Text(in.Pegs, c.Args["input"]), err
		},
		WriteFunc: func(ctx context.Context) error {
			return client.SetInput(ctx, number, c.Args["input"], route.Topics(c.Args["topics"]))
		},
		Shut: client.Close,
	}, nil
}

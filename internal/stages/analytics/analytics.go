// Package analytics reads which rules a camera's analytics know and have, and writes those that were drawn for it.
package analytics

import (
	"cmp"
	"context"
	"fmt"
	"reflect"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/known"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Stage is Analytics.
type Stage struct{ stages.Services }

// New makes the stage.
func New(k stages.Services) *Stage { return &Stage{k} }

// ID is stage.Analytics.
func (a *Stage) ID() stage.Stage { return stage.Analytics }

// Judge says what stands between the rules as they are drawn and those of the camera.
func (a *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	f, drawn := facts.ForRules(s, of)
	found, _ := facts.ForIdentity(s, of.Device)
	read := !f.LookedAt.IsZero() && f.Trouble == ""
	v := stage.Verdict{Read: read, Findings: rule.Judge(f, drawn), NotHere: cmp.Or(found.OnlyBehind(), found.OnlyRTSP())}
	looked := pairingOf(s, of)
	v.Findings = append(v.Findings, pairing.Judge(now, looked)...)
	if looked.Analyser != nil {
		v.ValidUntil = looked.Analyser.At.Add(pairing.KnownFor + time.Second)
	}
	if of.Paired == nil && v.NotHere == "" && read && f.Token == "" && len(drawn) == 0 {
		v.NotHere = "It has no analytics of its own: an analyser may look for it."
	}
	switch {
	case f.Trouble != "":
		v.Findings = append(v.Findings, finding.Finding{Code: "analytics.unread", Severity: finding.Blocks, Words: "not read",
			Sentence: "Its rules weren't read: " + f.Trouble, WayOut: "Read Analytics again."})
	case f.Token == "" && len(drawn) > 0 && !f.LookedAt.IsZero():
		v.Findings = append(v.Findings, finding.Finding{Code: "analytics.none", Severity: finding.Needs, Words: "no analytics",
			Sentence: fmt.Sprintf("%s drawn for it, and it has no analytics of its own.", act.Count(len(drawn), "rule")), WayOut: "Pair it with an analyser, or take them off the list."})
	case len(drawn) > 0:
		v.Done = "Its camera has the " + act.Count(len(drawn), "rule") + " drawn for it."
	default:
		v.Done = "Nothing was drawn for it; its camera has " + act.Count(len(f.Configs), "rule") + "."
	}
	return v
}

// Propose writes what was drawn and can be, where an account lets it be written.
func (a *Stage) Propose(_ time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	if again := a.proposePairing(s, of); len(again) > 0 {
		return again
	}
	if !writable(s, of) {
		return nil
	}
	f, drawn := facts.ForRules(s, of)
	_, f.Checks = s.Accepted(of, a.ID())[rule.Twice]
	return rule.Propose(f, drawn)
}

// Read reads what the view's rule engine knows and has.
func (a *Stage) Read(ctx context.Context, v *engine.Visit) (string, error) {
	if v.Device.Kind == identity.Analyser {
		return a.readAnalyser(ctx, v)
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	began := time.Now().UTC()
	says, err := a.read(ctx, v.Source, s)
	if kept := a.NoteAsked(ctx, facts.RulesRead, v.Source, "rules", began, err); kept != nil {
		return "", kept
	}
	return says, err
}

func (a *Stage) read(ctx context.Context, of site.Source, s *site.Snapshot) (string, error) {
	c, err := a.seatOf(ctx, s, of)
	if err != nil {
		return "", err
	}
	defer c.Close()
	services, token := c.services, c.token
	e := facts.Engine{Token: token}
	if token == "" || !onvif.HasRules(services) {
		return "no analytics", a.keep(ctx, of, facts.Engine{})
	}
	if e.Supported, err = c.SupportedRules(ctx, services, token); err != nil {
		return "", err
	}
	if e.Modules, err = c.Modules(ctx, services, token); err != nil {
		return "", err
	}
	e.Supported.Grid = rule.GridOf(e.Modules)
	if e.Configs, err = c.RuleSet(ctx, services, token); err != nil {
		return "", err
	}
	for i := range e.Configs {
		e.Configs[i] = e.Configs[i].Over(e.Supported.Grid)
	}
	own, _ := s.ProfilesOf(of)
	var wide, high int
	for _, p := range own {
		wide, high = max(wide, p.Width), max(high, p.Height)
	}
	was, _ := facts.RuleSet.Of(s, of)
	e.Frame = was.Frame // of a camera without rules nothing tells it anew
	if frame, told := rule.FrameOf(e.Configs, wide, high); told {
		e.Frame = frame
	}
	for i, c := range e.Configs {
		e.Configs[i] = c.From(e.Frame)
	}
	e.Since = since(was, e.Configs, time.Now().UTC())
	if err := a.keep(ctx, of, e); err != nil {
		return "", err
	}
	names := make([]string, len(e.Configs))
	for i, c := range e.Configs {
		names[i] = c.Name
	}
	if err := a.Store.RuleNames(ctx, of.ID, names); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s, of %d types that it knows", act.Count(len(e.Configs), "rule"), len(e.Supported.Types)), a.hold(ctx, of)
}

// since is when each rule was first read as it is.
func since(was facts.Engine, now []rule.Config, at time.Time) map[string]time.Time {
	out := map[string]time.Time{}
	for _, c := range now {
		out[c.Name] = at
		for _, b := range was.Configs {
			if from, known := was.Since[c.Name]; known && reflect.DeepEqual(b, c) {
				out[c.Name] = from
			}
		}
	}
	return out
}

// keep keeps what was read, and those of the rules that there is a sentence for: proofs rest on them.
func (a *Stage) keep(ctx context.Context, of site.Source, e facts.Engine) error {
	now := time.Now().UTC()
	var told []rule.Rule
	for _, c := range e.Configs {
		if r, ok := c.Says(); ok {
			told = append(told, r)
		}
	}
	all := []store.NewFact{facts.RuleSet.New(of, "GetSupportedRules, GetAnalyticsModules, GetRules", now, e)}
	if e.Token != "" {
		all = append(all, facts.Rules.New(of, "GetRules", now, told))
	}
	return a.Store.KeepFacts(ctx, all...)
}

// Editor reads and writes a rule of the camera.
func (a *Stage) Editor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	switch c.Kind {
	case rule.SetModule:
		return a.moduleEditor(ctx, v, c)
	case pairing.Pair, pairing.Unpair:
		return a.pairEditor(ctx, v, c)
	case known.PutSet, known.PutEntry:
		return a.knownEditor(ctx, v, c)
	}
	if c.Kind != rule.WriteRule && c.Kind != rule.RemoveRule {
		return nil, engine.ErrKind
	}
	want, err := rule.ConfigOf(c.Args["rule"])
	if err != nil {
		return nil, err
	}
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	cam, err := a.seatOf(ctx, s, v.Source)
	if err != nil {
		return nil, err
	}
	services, token, name := cam.services, c.Args["token"], c.Args["name"]
	of, _ := facts.RuleSet.Of(s, v.Source)
	now := func(ctx context.Context) (*rule.Config, error) {
		all, err := cam.RuleSet(ctx, services, token)
		for i := range all {
			if all[i].Name == name {
				is := all[i].From(of.Frame).Over(of.Supported.Grid).FromTurned(v.Source.Turned)
				return &is, err
			}
		}
		return nil, err
	}
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			is, err := now(ctx)
			if err != nil {
				return "", err
			}
			return rule.ReadsAs(is, c.Args, c.FromText, c.ToText)
		},
		WriteFunc: func(ctx context.Context) error {
			is, err := now(ctx)
			switch {
			case err != nil:
				return err
			case want == nil:
				return cam.DeleteRule(ctx, services, token, name)
			}
			there := want.Turned(v.Source.Turned).In(of.Frame)
			if is == nil {
				return cam.CreateRule(ctx, services, token, there)
			}
			return cam.ModifyRule(ctx, services, token, there)
		},
		Shut: cam.Close,
	}, nil
}

// AfterChange reads the rules again that were written.
func (a *Stage) AfterChange(ctx context.Context, v *engine.Visit, changes []store.Change) error {
	if !engine.AnyOf(changes, stage.Analytics) {
		return nil
	}
	if err := a.pairingsMade(ctx, v, changes); err != nil {
		return err
	}
	_, err := a.Read(ctx, v)
	return err
}

package analytics

import (
	"context"
	"fmt"
	"slices"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// heldOver is the time over which what a camera fired is held against what its rules mean.
const heldOver = 24 * time.Hour

// Hold holds what a view's rules fired against what they mean, and has that be judged.
func (a *Stage) Hold(ctx context.Context, source int64) error {
	of, err := a.Store.SourceByID(ctx, source)
	if err == nil {
		err = a.hold(ctx, of)
	}
	if err != nil {
		return err
	}
	return a.Engine.Judge(ctx, of.Device.SiteID, []int64{of.Device.ID})
}

// hold holds what a view's rules fired against what they would have by their meaning, over what was gathered since the camera
// has had each as it is, and keeps it where it isn't as it was.
func (a *Stage) hold(ctx context.Context, of site.Source) error {
	s, err := site.Load(ctx, a.Store, of.Device.SiteID, []int64{of.Device.ID})
	if err != nil {
		return err
	}
	e, ok := facts.RuleSet.Of(s, of)
	if !ok {
		return nil
	}
	to := time.Now().UTC()
	all, err := a.held(ctx, of, e, to.Add(-heldOver), to)
	if err != nil {
		return err
	}
	was, _ := facts.Held.Of(s, of)
	if slices.EqualFunc(was, all, func(a, b rule.Held) bool {
		return a.Rule == b.Rule && a.Compared == b.Compared && a.Explains == b.Explains
	}) {
		return nil
	}
	return a.Store.KeepFacts(ctx, facts.Held.New(of, "what its rules fired, beside what they mean", to, all))
}

// KeepSits keeps how a view's boxes lie on what moves in its picture, and has that be judged.
func (a *Stage) KeepSits(ctx context.Context, source int64, sits scene.Sits) error {
	of, err := a.Store.SourceByID(ctx, source)
	if err != nil {
		return err
	}
	if err := a.Store.KeepFacts(ctx, facts.Sits.New(of, "boxes beside stills", time.Now().UTC(), sits)); err != nil {
		return err
	}
	return a.Engine.Judge(ctx, of.Device.SiteID, []int64{of.Device.ID})
}

// sitsFor is how long it is known how boxes sit.
const sitsFor = 6 * time.Hour

// SitsDue says whether it isn't known, or not any more, how a view's boxes sit.
func (a *Stage) SitsDue(ctx context.Context, source int64) (bool, error) {
	of, err := a.Store.SourceByID(ctx, source)
	if err != nil {
		return false, err
	}
	s, err := site.Load(ctx, a.Store, of.Device.SiteID, []int64{of.Device.ID})
	return err == nil && time.Since(facts.Sits.ReadAt(s, of)) > sitsFor, err
}

func forgetSits(ctx context.Context, c *act.Call, x act.Selection) (act.Kept, error) {
	_, selected, err := c.Selected(ctx, x, stage.Analytics)
	if err != nil {
		return act.Kept{}, err
	}
	devices, views := make([]int64, len(selected)), make([]int64, len(selected))
	for i, of := range selected {
		devices[i], views[i] = of.Device.ID, of.ID
	}
	many := act.Count(len(selected), "camera")
	return act.Kept{Says: "How the boxes of " + many + " sit is looked for anew when something moves there, while they are listened to.",
		Did: "forgot how boxes sit", Detail: many, Judge: devices}, c.Store.DropFactOf(ctx, fact.Sits, views...)
}

// Turn is how a camera's analytics lie on its picture: what looks before the picture is turned or mirrored counts places in the one of
// before.
type Turn struct {
	act.Camera
	Quarters int  `form:"quarters" json:"quarter_turns"`      // clockwise
	Mirrored bool `form:"mirrored" json:"mirrored,omitempty"` // left to right, before that
}

func keepTurn(ctx context.Context, c *act.Call, x Turn) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	switch {
	case err != nil:
		return act.Kept{}, err
	case x.Quarters < 0 || x.Quarters > 3:
		return act.Kept{}, act.Wrong("quarters", "A picture is turned by 0 to 3 quarters.")
	}
	t := scene.Turned(x.Quarters)
	if x.Mirrored {
		t |= 4
	}
	return act.Kept{Says: fmt.Sprintf("The analytics of %s are taken to look at its picture %s: its rules, and what it saw, are counted so. Nothing was written to it.", of.Place, t.Words()),
		Did: "said how analytics lie on the picture", Detail: of.Place + ": " + t.Words(), Judge: []int64{of.Device.ID}, To: at(of.ID, 0)}, c.Store.SetTurned(ctx, c.Site.ID, of.ID, t)
}

// held compares each rule of a view that there is a sentence for.
func (a *Stage) held(ctx context.Context, of site.Source, e facts.Engine, from, to time.Time) (out []rule.Held, err error) {
	tracks, listened, more, err := a.seen(ctx, of, from, to)
	if err != nil || more || len(listened) == 0 {
		return nil, err
	}
	fired, err := a.Store.FiredBetween(ctx, of.ID, from, to)
	if err != nil || len(fired) == 0 { // many don't tell of events in their metadata: nothing heard is nothing known
		return nil, err
	}
	for _, c := range e.Configs {
		r, told := c.FromTurned(of.Turned).Says()
		since, known := e.Since[c.Name]
		if !told || !known || !r.Kind.Foretold() {
			continue
		}
		out = append(out, holdOne(r, tracks, fired, later(from, since), to, true))
	}
	return out, nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// holdOne compares one rule, from when on the camera has it; what explains it is looked for where that is asked.
func holdOne(r rule.Rule, tracks []scene.Track, fired []store.Fired, from, to time.Time, explain bool) rule.Held {
	over := rule.Span{From: time.Duration(from.UnixNano()), To: time.Duration(to.UnixNano())}
	tracks = after(tracks, over.From)
	happened := firedOf(r.Name, fired, from)
	h := rule.Held{Rule: r.Name, From: from, To: to, Compared: rule.Compare(rule.Beginnings(r, rule.Rehearse(r, tracks, over)), happened)}
	if !explain {
		return h
	}
	if why, ok := rule.Explain(r, tracks, over, happened); ok {
		h.Explains = why.Says
	}
	return h
}

// firedOf are the moments at which a rule fired, from one on.
func firedOf(name string, all []store.Fired, from time.Time) (out []time.Duration) {
	for _, f := range all {
		if f.Rule == name && !f.At.Before(from) {
			out = append(out, time.Duration(f.At.UnixNano()))
		}
	}
	return out
}

// after are the tracks that began from a moment on: of one that was under way the camera's rule saw a part alone.
func after(all []scene.Track, from time.Duration) (out []scene.Track) {
	for _, tr := range all {
		if len(tr.Points) > 0 && tr.Points[0].At >= from {
			out = append(out, tr)
		}
	}
	return out
}

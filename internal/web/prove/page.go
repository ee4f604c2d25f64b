// Package prove shows whether an event arrived.
package prove

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"strconv"
	"time"

	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/facts"
	proving "duskyharbor/internal/stages/prove"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html page.css
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
}

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "prove" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Stage is stage.Prove.
func (*Page) Stage() stage.Stage { return stage.Prove }

// Routes adds nothing besides its page: its acts are its stage's.
func (*Page) Routes(*shell.Routes) {}

// proveData is one camera's walk.
type proveData struct {
	Ask     string // what a person does to walk it
	Cameras []shell.Row
	Tabs    []shell.Row
	More    int
	Chosen  *shell.Row
	Ready   bool // a route is there to walk
	Peg     string
	Test    *proof.Test
	Bars    []waterfall
	Passed  bool
	Running bool
	Rules   []rule.Rule   // its own
	Picture shell.Picture // with them on it
	Before  []store.Proof
	Nth     int
	Demo    bool
}

type waterfall struct {
	Name, Took, Verdict, Class, Within string
	X, W                               float64
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	d := proveData{Demo: p.Snapshot.Site.Demo}
	want, _ := strconv.ParseInt(p.URL.Query().Get("camera"), 10, 64)
	for _, r := range p.Rows {
		if f := facts.ForRoutes(p.Snapshot, r.Source); len(f.Pegs) > 0 {
			d.Cameras = append(d.Cameras, r)
		}
	}
	for i := range d.Cameras {
		if d.Chosen == nil || d.Cameras[i].ID == want {
			d.Chosen, d.Nth = &d.Cameras[i], i+1
		}
	}
	d.Tabs, d.More = shell.Tabs(d.Cameras, d.Chosen)
	if d.Chosen == nil {
		return &d, nil
	}
	of := d.Chosen.Source
	if g, ok := proving.Next(p.Now, p.Snapshot, of, pg.Engine.Grounds(ground.Proof, p.Snapshot, of)); ok {
		if d.Ask = "cross its line, either way"; g.Input != "line" {
			d.Ask = "walk into its area"
		}
		d.Peg, d.Ready = topic.Title(g.Topic)+" → "+g.Input, true
	}
	d.Rules, _ = facts.Rules.Of(p.Snapshot, of)
	d.Picture = shell.Picture{Src: fmt.Sprintf("%s/%d", p.Path("stills"), of.ID), Alt: "Still of " + of.Place, Marks: marksOf(d.Rules)}
	if last, ok := p.Snapshot.Proofs[of.ID]; ok {
		t := &last.Test
		d.Test, d.Running = t, t.Ended.IsZero()
		bars := proof.Judge(p.Now, *t, of.Place)
		d.Passed = proof.Passed(bars) && t.Trouble == ""
		d.Bars = waterfalls(bars)
	}
	var err error
	d.Before, err = pg.Store.ProofsOf(ctx, of.ID, 6)
	return &d, err
}

func waterfalls(bars []proof.Bar) []waterfall {
	end := 4 * time.Second
	for _, b := range bars {
		end = max(end, b.To)
	}
	var out []waterfall
	for _, b := range bars {
		w := waterfall{Name: b.Leg.Title(), Verdict: string(b.Verdict), Class: "blocked", Took: "–",
			Within: fmt.Sprintf("≤ %.0f s", proof.Within(b.Leg).Seconds())}
		w.X = 100 * float64(b.From) / float64(end)
		w.W = max(1.2, 100*float64(b.To-b.From)/float64(end))
		switch b.Verdict {
		case proof.OnTime:
			w.Class = "ready"
		case proof.Late, proof.Twice, proof.Wrong:
			w.Class = "needs"
		case proof.Waiting:
			w.Class = "working"
		}
		if b.Verdict != proof.Waiting && b.Verdict != proof.Missed {
			w.Took = took(b)
		}
		out = append(out, w)
	}
	return out
}

// took is a leg's time with its error; one below its error is said to be under it.
func took(b proof.Bar) string {
	switch {
	case b.Took < b.Error:
		return fmt.Sprintf("under %.2f s", b.Error.Seconds())
	case b.Error > 5*time.Millisecond:
		return fmt.Sprintf("%.2f s ± %.2f", b.Took.Seconds(), b.Error.Seconds())
	case b.Took < 10*time.Millisecond:
		return "under 0.01 s"
	}
	return fmt.Sprintf("%.2f s", b.Took.Seconds())
}

// marksOf are a camera's rules on its picture.
func marksOf(rules []rule.Rule) (m shell.Marks) {
	for _, r := range rules {
		m.Shapes = append(m.Shapes, shell.RuleShapes("rule", r)...)
	}
	return m
}

// Sheet tells how the last walk went.
func (pg *Page) Sheet(_ context.Context, p *shell.Request, sh *shell.Sheet) error {
	last, ok := sh.Snapshot.Proofs[sh.Row.ID]
	if !ok {
		return nil
	}
	t := last.Test
	for _, b := range proof.Judge(p.Now, t, sh.Row.Place) {
		sh.Fact(b.Leg.Title()+" leg", fmt.Sprintf("%s, %.2f s", b.Verdict, b.Took.Seconds()), t.Started)
	}
	sh.Fact("Walked by", t.Walk, t.Started)
	sh.Fact("Asked by", t.By, t.Started)
	return nil
}

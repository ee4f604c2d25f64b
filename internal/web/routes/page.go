// Package routes shows where each event goes.
package routes

import (
	"context"
	"embed"
	"io/fs"
	"slices"
	"strconv"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/facts"
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
func (*Page) Slug() string { return "routes" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Stage is stage.Routes.
func (*Page) Stage() stage.Stage { return stage.Routes }

// Routes adds nothing besides its page: its acts are its stage's.
func (*Page) Routes(*shell.Routes) {}

// routesData is the peg field of one camera.
type routesData struct {
	Cams    int // for how many cameras of the selection something is suggested
	Cameras []shell.Row
	Tabs    []shell.Row
	More    int // cameras without a tab
	Chosen  *shell.Row
	Inputs  []string
	Topics  []topicRow
	Facts   route.Facts
	Suggest []finding.Change
	Waiting int
	Can     int
	Width   int
}

type topicRow struct {
	Topic, Title, Short string
	Lasts               string
	Cells               []pegCell
}

// Label says what pressing the cell does.
func (c pegCell) Label(title string) string {
	if c.On {
		return "Pull " + title + " from " + c.Input
	}
	return "Peg " + title + " to " + c.Input
}

type pegCell struct {
	Input     string
	On        bool
	Suggested bool
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	var d routesData
	var err error
	if d.Can, err = p.Can(ctx, stage.Routes); err != nil {
		return nil, err
	}
	if _, d.Cams, err = pg.Store.Proposed(ctx, p.Selection, stage.Routes); err != nil {
		return nil, err
	}
	want, _ := strconv.ParseInt(p.URL.Query().Get("camera"), 10, 64)
	for _, r := range p.Rows {
		if f := facts.ForRoutes(p.Snapshot, r.Source); f.LookedAt.IsZero() {
			d.Waiting++
			continue
		}
		d.Cameras = append(d.Cameras, r)
	}
	for i := range d.Cameras {
		if d.Chosen == nil || d.Cameras[i].ID == want {
			d.Chosen = &d.Cameras[i]
		}
	}
	d.Tabs, d.More = shell.Tabs(d.Cameras, d.Chosen)
	if d.Chosen != nil {
		d.Facts = facts.ForRoutes(p.Snapshot, d.Chosen.Source)
		d.Inputs, d.Suggest = d.Facts.Inputs, d.Chosen.Proposals
		d.Topics = topicRows(d.Facts)
		d.Width = 310 + 58*len(d.Inputs)
	}
	return d, nil
}

func topicRows(f route.Facts) []topicRow {
	suggested := map[string]string{}
	for _, s := range topic.Suggest(f.Topics, f.Inputs, f.Motion) {
		suggested[s.Topic] = s.Input
	}
	var out []topicRow
	for _, t := range f.Topics {
		r := topicRow{Topic: t.Topic, Title: topic.Title(t.Topic), Short: topic.Short(t.Topic), Lasts: "once"}
		if t.Property {
			r.Lasts = "lasts"
		}
		for _, in := range f.Inputs {
			on := slices.Contains(f.Pegs, route.Peg{Topic: t.Topic, Input: in})
			r.Cells = append(r.Cells, pegCell{in, on, !on && suggested[t.Topic] == in})
		}
		out = append(out, r)
	}
	return out
}

// Sheet lists what the camera offers and what is pegged.
func (pg *Page) Sheet(ctx context.Context, p *shell.Request, sh *shell.Sheet) (err error) {
	of, v := sh.Row.Source, sh.Snapshot
	f := facts.ForRoutes(v, of)
	for _, t := range f.Topics {
		sh.Code(topic.Title(t.Topic), topic.Short(t.Topic), facts.Topics.ReadAt(v, of.Device.ID))
	}
	for _, g := range f.Pegs {
		sh.Fact("Pegged", topic.Title(g.Topic)+" → "+g.Input, facts.Inputs.ReadAt(v, of))
	}
	sh.Fact("Recorder", f.Events, facts.Inputs.ReadAt(v, of))
	sh.Verb = "Peg the routes of "
	sh.Readable, err = pg.ReadableNow(ctx, p, sh)
	return err
}

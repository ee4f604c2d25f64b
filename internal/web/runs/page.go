// Package runs tells how a run went, device by device.
package runs

import (
	"cmp"
	"context"
	"embed"
	"fmt"
	"io/fs"
	"net/url"
	"strconv"
	"time"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
}

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "run" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {

}

// runData is one run and how each of its steps went.
type runData struct {
	Run        store.Run
	Results    []resultRow
	Chain      []link // the runs of which one went on with the next; nil: it stands alone
	Back, Next string
}

// link is one run of a chain, or a stage that is still to come.
type link struct {
	Run   store.Run // the zero Run: it is still to come
	Stage stage.Stage
	Here  bool // it is the one that is shown
	Waits int  // cameras that need a person in its stage now
	Stuck int  // and of those that are blocked
	Query string
}

// chain lists the runs that a run is one of, with what they leave to a person.
func (pg *Page) chain(ctx context.Context, p *shell.Request, run store.Run) ([]link, error) {
	first := cmp.Or(run.Chain, run.ID)
	all, err := pg.Store.ChainOf(ctx, p.Site.ID, first)
	if err != nil || len(all) < 2 && len(run.Then) == 0 {
		return nil, err
	}
	groups, err := pg.Store.Groups(ctx, p.Site.ID)
	if err != nil {
		return nil, err
	}
	var out []link
	for _, r := range all {
		l := link{Run: r, Stage: r.Stage, Here: r.ID == run.ID, Query: url.QueryEscape("stage:" + r.Stage.Slug() + " state:needs")}
		for _, g := range groups {
			switch {
			case g.Stage != r.Stage || r.EndedAt == nil:
			case g.State == stage.Needs:
				l.Waits += g.Count
			case g.State == stage.Blocked:
				l.Stuck += g.Count
			}
		}
		out = append(out, l)
	}
	for _, st := range all[len(all)-1].Then {
		out = append(out, link{Stage: st})
	}
	return out, nil
}

type resultRow struct {
	store.Result
	Took string
}

// runPage tells a run's result per camera, what failed first.
// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	id, err := strconv.ParseInt(p.URL.Query().Get("id"), 10, 64)
	if err != nil {
		return nil, store.ErrNotFound
	}
	run, err := pg.Store.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	if run.SiteID != p.Site.ID {
		return nil, store.ErrNotFound
	}
	d := runData{Run: run}
	if d.Chain, err = pg.chain(ctx, p, run); err != nil {
		return nil, err
	}
	skip, _ := strconv.Atoi(p.URL.Query().Get("from"))
	skip = max(0, skip)
	all, err := pg.Store.Results(ctx, p.Site.ID, id, skip, shell.MaxRows+1)
	if err != nil {
		return nil, err
	}
	if len(all) > shell.MaxRows {
		all, d.Next = all[:shell.MaxRows], shell.WithQuery(p.URL, "from", fmt.Sprint(skip+shell.MaxRows))
	}
	if skip > 0 {
		d.Back = shell.WithQuery(p.URL, "from", fmt.Sprint(max(0, skip-shell.MaxRows)))
	}
	for _, r := range all {
		row := resultRow{Result: r}
		if r.Began != nil && r.Ended != nil {
			row.Took = strconv.FormatFloat(r.Ended.Sub(*r.Began).Round(10*time.Millisecond).Seconds(), 'f', 2, 64)
		}
		d.Results = append(d.Results, row)
	}
	p.Title = run.Title
	return d, nil
}

// Package runs tells how a run went, device by device.
package runs

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"strconv"
	"time"

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
	Back, Next string
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

package web

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"duskyharbor/internal/store"
)

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
func (s *Server) runPage(ctx context.Context, p *scenePage) (string, error) {
	id, err := strconv.ParseInt(p.URL.Query().Get("id"), 10, 64)
	if err != nil {
		return "", store.ErrNotFound
	}
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return "", err
	}
	if run.SiteID != p.Site.ID {
		return "", store.ErrNotFound
	}
	d := runData{Run: run}
	skip, _ := strconv.Atoi(p.URL.Query().Get("from"))
	skip = max(0, skip)
	all, err := s.store.Results(ctx, p.Site.ID, id, skip, maxRows+1)
	if err != nil {
		return "", err
	}
	if len(all) > maxRows {
		all, d.Next = all[:maxRows], withQuery(p.URL, "from", fmt.Sprint(skip+maxRows))
	}
	if skip > 0 {
		d.Back = withQuery(p.URL, "from", fmt.Sprint(max(0, skip-maxRows)))
	}
	for _, r := range all {
		row := resultRow{Result: r}
		if r.Began != nil && r.Ended != nil {
			row.Took = strconv.FormatFloat(r.Ended.Sub(*r.Began).Round(10*time.Millisecond).Seconds(), 'f', 2, 64)
		}
		d.Results = append(d.Results, row)
	}
	p.Title = run.Title
	p.Data = d
	return "run", nil
}

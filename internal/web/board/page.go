// Package board shows what stands between a site and done: cameras by stages.
package board

import (
	"context"
	"embed"
	"html/template"
	"io/fs"
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
func (*Page) Slug() string { return "board" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Routes adds nothing besides its page: its acts are its stage's.
func (*Page) Routes(*shell.Routes) {}

// boardData is the picture of cameras × stages.
type boardData struct {
	Rows     []shell.Row
	Cells    template.HTML // of the rows, see cells
	Needy    []needy
	Stages   []stage.Stage
	Standing store.Tally
	LastRead time.Time
	Next     *nextThing
	States   []stage.State
	Plans    []store.RecorderName // what views may be planned for
	Reads    []stage.Stage        // what is read of a selection
}

// nextThing is the Board's one-line suggestion.
type nextThing struct {
	Slug, Sentence, Reason, Button string
	Ask                            string // below the site, what the button asks for; empty: it opens the stage's page
	Through                        string // the stage up to which is read one after the other
}

// needy is a camera that needs a person, for the list on a phone.
type needy struct {
	Row   shell.Row
	Stage stage.Stage
	Mark  stage.Mark
	Href  string // of its sheet
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	b := boardData{Rows: p.Rows, Cells: cells(p.Frame, p.Rows), Stages: stage.All(),
		States: []stage.State{stage.Ready, stage.Needs, stage.Blocked, stage.Working, stage.Stale, stage.NotYet}}
	var err error
	if b.Standing, err = pg.Store.Tally(ctx, p.Site.ID); err != nil {
		return nil, err
	}
	for _, n := range p.Networks {
		if n.LookedAt != nil && n.LookedAt.After(b.LastRead) {
			b.LastRead = *n.LookedAt
		}
	}
	if next, ok := stage.Next(p.Cameras, p.Groups); ok {
		place, sentence := "", ""
		if next.Count == 1 {
			if place, sentence, err = pg.Store.FirstOf(ctx, p.Site.ID, next.Group); err != nil {
				return nil, err
			}
		}
		b.Next = nextOf(p, next, place, sentence)
	}
	for _, st := range stage.All() {
		if st.Many() && p.Does(st) {
			b.Reads = append(b.Reads, st)
		}
	}
	if p.MayChange {
		if b.Plans, err = pg.Store.RecorderNames(ctx, p.Site.ID); err != nil {
			return nil, err
		}
	}
	b.Needy = needyOf(p.Rows, sheetAddress(p.Frame))
	return b, nil
}

// nextOf is the suggestion as the Board shows it: who may change something does it from here.
func nextOf(p *shell.Request, next stage.Suggestion, place, sentence string) *nextThing {
	n := &nextThing{Slug: next.Stage.Slug(), Sentence: next.Sentence(place, sentence), Reason: next.Reason(), Button: "Open " + next.Stage.String()}
	if !p.MayChange || !next.Does() || next.Looks() && len(p.Networks) == 0 {
		return n
	}
	n.Button = next.Button()
	switch {
	case next.Act == stage.Apply:
		n.Ask = n.Slug + "/apply"
	case next.Looks():
		n.Ask, n.Through = n.Slug+"/read", stage.Streams.Slug()
	default:
		n.Ask = n.Slug + "/read"
	}
	return n
}

// maxNeedy is how many cameras the phone's list shows.
const maxNeedy = 20

// needyOf lists each camera's worst mark, the blocked ones first.
func needyOf(rows []shell.Row, address func(string, stage.Stage) string) []needy {
	var blocked, needs []needy
	for _, r := range rows {
		var worst *needy
		for _, st := range stage.All() {
			m := r.Mark(st)
			switch {
			case m.State == stage.Blocked && (worst == nil || worst.Mark.State != stage.Blocked), (m.State == stage.Needs || m.State == stage.Stale) && worst == nil:
				worst = &needy{r, st, m, address(strconv.FormatInt(r.ID, 10), st)}
			}
		}
		switch {
		case worst == nil:
		case worst.Mark.State == stage.Blocked:
			blocked = append(blocked, *worst)
		default:
			needs = append(needs, *worst)
		}
	}
	all := append(blocked, needs...)
	return all[:min(len(all), maxNeedy)]
}

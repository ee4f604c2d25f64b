package web

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // sites name their zone; the machine may not know it

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/errgroup"

	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/people"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// base is what every page shows; Data is the page's own.
type base struct {
	Title, Version, Message, Flash, CSRF string
	Me                                   people.Person
	Site                                 store.Member
	Sites                                []store.Member
	MayChange, MayLead                   bool
	Page                                 string
	Stage                                stage.Stage
	URL                                  *url.URL
	Query                                string
	Unknown                              []string // of the filter, what means nothing
	Now                                  time.Time
	Zone                                 *time.Location
	Passage                              []passageItem
	Runs                                 []store.Run
	Cameras, Recorders                   int
	Window                               window
	Sheet                                *sheet
	Data                                 any
}

// window is the part of the matching rows that a page shows.
type window struct {
	From, To, Total int
	Back, Next      string // addresses; empty where there is nothing further
	Sort            store.Sort
}

// Part says whether there is more than what is shown.
func (w window) Part() bool { return w.Total > w.To-w.From+1 && w.Total > 0 }

// Back is where a form returns to.
func (b base) Back() string { return b.URL.RequestURI() }

// With is this page with one query value changed.
func (b base) With(key, value string) string { return withQuery(b.URL, key, value) }

// Path is an address of the site.
func (b base) Path(rest string) string { return fmt.Sprintf("/sites/%d/%s", b.Site.ID, rest) }

// Sorted is the address that sorts by a column: by it, then the other way round, then
// in the list's own order again. mark is "ascending", "descending" or empty.
func (b base) Sorted(by string) sortLink {
	l := sortLink{Mark: "", Href: withQuery(b.URL, "sort", by)}
	if b.Window.Sort.By == by {
		l = sortLink{"ascending", withQuery(b.URL, "sort", "-"+by)}
		if b.Window.Sort.Down {
			l = sortLink{"descending", withQuery(b.URL, "sort", "")}
		}
	}
	return l
}

type sortLink struct{ Mark, Href string }

type passageItem struct {
	Stage                   stage.Stage
	Ready, Needs, Blocked   int
	Total                   int
	ReadyW, NeedsW, BlockdW float64 // widths of the bar's parts, of 100
}

// row is one source in a table.
type row struct {
	Device    store.Device
	Marks     map[stage.Stage]stage.Mark
	Proposals []finding.Change // of the page's stage
}

// Address is the row's address as text.
func (r row) Address() string { return addrText(r.Device.Address) }

// Mark of the row in a stage.
func (r row) Mark(s stage.Stage) stage.Mark {
	if m, ok := r.Marks[s]; ok {
		return m
	}
	return stage.Mark{State: stage.NotYet, Sentence: "Not read yet."}
}

// scenePage is what a page is made from: a window of the site's cameras.
type scenePage struct {
	base
	standing store.Standing // the Board's
	engine   *engine.Engine
	view     *site.Snapshot // the window's cameras and all recorders; only stage pages have one
	networks []store.Network
	groups   []stage.Group
	rows     []row
	sel      store.Selection
}

// maxRows is how many rows a page shows; the next window has the rest.
const maxRows = 200

type builder func(context.Context, *scenePage) (string, error)

func (s *Server) builders() map[string]builder {
	return map[string]builder{
		"board": s.board, "find": s.findPage, "sign-in": s.signInStage, "clock": s.clockPage, "streams": s.streamsPage, "channels": s.channelsPage,
		"routes": s.routesPage, "prove": s.provePage, "recording": s.later, "analytics": s.later, "handover": s.later, "sightings": s.later,
		"log": s.logPage, "expected": s.expectedPage, "run": s.runPage, "settings": s.settingsPage, "account": s.accountPage,
	}
}

func (s *Server) page(c *echo.Context) error {
	name := c.Param("page")
	build, ok := s.build[name]
	if !ok {
		return store.ErrNotFound
	}
	p, err := s.gather(c, name)
	if err != nil {
		return err
	}
	tmpl, err := build(c.Request().Context(), p)
	if err != nil {
		return err
	}
	if err := s.openSheet(c.Request().Context(), p); err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Render(http.StatusOK, tmpl, p.base)
}

// gather reads what every page shows, in a fixed number of queries.
func (s *Server) gather(c *echo.Context, name string) (*scenePage, error) {
	ctx, me := c.Request().Context(), whoIs(c)
	p := &scenePage{engine: s.office.Engine}
	p.Me, p.Site, p.MayChange, p.MayLead = me.person, me.member, me.member.Role.MayChange(), me.member.Role == people.Lead
	p.Page, p.URL, p.Version, p.Now = name, c.Request().URL, s.version, time.Now()
	p.Query = strings.TrimSpace(c.QueryParam("q"))
	p.CSRF, _ = c.Get("csrf").(string)
	if c.Request().Header.Get("X-Live") == "" { // a live update in the background takes no one's sentence away
		p.Flash = s.sessions.PopString(ctx, "flash")
	}
	var err error
	if p.Zone, err = time.LoadLocation(me.member.Zone); err != nil {
		p.Zone = time.UTC
	}
	p.Stage, _ = stage.Parse(name)
	p.Title = title(name, p.Stage)
	// They know nothing of each other and fill different fields: side by side.
	together, ctx := errgroup.WithContext(ctx)
	for _, read := range []func(context.Context, *scenePage) error{s.readSite, s.readWindow, s.readRuns, s.readStanding} {
		together.Go(func() error { return read(ctx, p) })
	}
	return p, together.Wait()
}

func title(name string, st stage.Stage) string {
	switch {
	case st != 0:
		return st.String()
	case name != "":
		return strings.ToUpper(name[:1]) + name[1:]
	}
	return name
}

// readSite reads the site's networks, its sums and the passage.
func (s *Server) readSite(ctx context.Context, p *scenePage) error {
	var err error
	if p.Sites, err = s.store.Sites(ctx, p.Me.ID); err != nil {
		return err
	}
	if p.networks, err = s.store.Networks(ctx, p.Site.ID); err != nil {
		return err
	}
	if p.Cameras, p.Recorders, err = s.store.Counts(ctx, p.Site.ID); err != nil {
		return err
	}
	if p.groups, err = s.store.Groups(ctx, p.Site.ID); err != nil {
		return err
	}
	for _, st := range stage.All() {
		it := passageItem{Stage: st, Total: p.Cameras}
		for _, g := range p.groups {
			switch {
			case g.Stage != st:
			case g.State == stage.Ready:
				it.Ready += g.Count
			case g.State == stage.Needs || g.State == stage.Stale:
				it.Needs += g.Count
			case g.State == stage.Blocked:
				it.Blocked += g.Count
			}
		}
		if it.Total > 0 {
			part := func(n int) float64 { return 100 * float64(n) / float64(it.Total) }
			it.ReadyW, it.NeedsW, it.BlockdW = part(it.Ready), part(it.Needs), part(it.Blocked)
		}
		p.Passage = append(p.Passage, it)
	}
	return nil
}

func (s *Server) readStanding(ctx context.Context, p *scenePage) error {
	if p.Page != "board" {
		return nil
	}
	var err error
	p.standing, err = s.store.Standing(ctx, p.Site.ID)
	return err
}

// readWindow reads the rows that match the filter, from where the address says.
func (s *Server) readWindow(ctx context.Context, p *scenePage) error {
	q := p.URL.Query()
	f := filter.Parse(p.Query)
	p.Unknown = f.Unknown
	p.sel = store.Selection{Site: p.Site.ID, Filter: f}
	w := window{Sort: store.ParseSort(q.Get("sort"))}
	skip, _ := strconv.Atoi(q.Get("from"))
	skip = max(0, skip-1)
	devices, total, err := s.store.Window(ctx, p.sel, w.Sort, skip, maxRows)
	if err != nil {
		return err
	}
	w.From, w.To, w.Total = min(skip+1, total), skip+len(devices), total
	if skip > 0 {
		w.Back = withQuery(p.URL, "from", fmt.Sprint(max(1, skip+1-maxRows)))
	}
	if w.To < total {
		w.Next = withQuery(p.URL, "from", fmt.Sprint(w.To+1))
	}
	p.Window = w
	p.rows, err = s.rowsOf(ctx, devices)
	return err
}

// rowsOf reads the marks of devices; those that a change is being made on are shown
// as working.
func (s *Server) rowsOf(ctx context.Context, devices []store.Device) ([]row, error) {
	ids, sources := make([]int64, len(devices)), make([]int64, len(devices))
	for i, d := range devices {
		ids[i], sources[i] = d.ID, d.SourceID
	}
	marks, err := s.store.Marks(ctx, sources)
	if err != nil {
		return nil, err
	}
	open, err := s.store.OpenChanges(ctx, ids)
	if err != nil {
		return nil, err
	}
	rows := make([]row, len(devices))
	for i, d := range devices {
		rows[i] = row{Device: d, Marks: marks[d.SourceID]}
	}
	for _, c := range open {
		i := slices.Index(ids, c.DeviceID)
		rows[i].Marks[c.Stage] = stage.Mark{State: stage.Working, Words: "reading back", Sentence: c.Title + ": " + string(c.State) + "."}
	}
	return rows, nil
}

// readRuns shows runs that are under way and those that ended a moment ago.
func (s *Server) readRuns(ctx context.Context, p *scenePage) error {
	runs, err := s.store.Runs(ctx, p.Site.ID, 8)
	for _, r := range runs {
		if r.EndedAt == nil && len(p.Runs) < 3 {
			p.Runs = append(p.Runs, r)
		}
	}
	// The last one stays for a moment, so that its outcome can be read.
	if len(p.Runs) == 0 && len(runs) > 0 && p.Now.Sub(*runs[0].EndedAt) < 15*time.Second {
		p.Runs = runs[:1]
	}
	return err
}

// look reads the facts of the window's cameras, for pages that show them, and what
// the page's stage proposes.
func (s *Server) look(ctx context.Context, p *scenePage) error {
	ids := make([]int64, len(p.rows))
	for i, r := range p.rows {
		ids[i] = r.Device.ID
	}
	var err error
	if p.view, err = site.Load(ctx, s.store, p.Site.ID, ids); err != nil {
		return err
	}
	for i := range p.rows {
		p.rows[i].Proposals = s.office.Proposals(p.Now, p.view, p.rows[i].Device, p.Stage)
	}
	return nil
}

// can counts the cameras of the selection that a stage can be read of now.
func (s *Server) can(ctx context.Context, p *scenePage, st stage.Stage) (int, error) {
	sel := p.sel
	sel.Ready = st
	return s.store.Count(ctx, sel)
}

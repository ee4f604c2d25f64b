package shell

import (
	"bytes"
	"context"
	"encoding/json"
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

// Frame is what every page shows; Data is the page's own.
type Frame struct {
	Title, Version, Message, Flash, CSRF string
	Me                                   people.Person
	Site                                 store.Member
	Sites                                []store.Member
	MayChange, MayLead                   bool
	Page                                 string
	Script                               bool // it has a script of its own
	Stage                                stage.Stage
	URL                                  *url.URL
	Query                                string
	Unknown                              []string // of the filter, what means nothing
	Now                                  time.Time
	Zone                                 *time.Location
	Passage                              []passageItem
	Runs                                 []store.Run
	Cameras, Recorders                   int
	Window                               Window
	Sheet                                *Sheet
	Preview                              *Preview // in the sheet's place
	Data                                 any
	Origin                               string            // at which the browser reaches this server: "https://harbour:8420"
	Typed                                map[string]string // what a refused form is filled with again
	Refused                              Refused           // a form of the site that was just refused
	does                                 func(stage.Stage) bool
}

// Window is the part of the matching rows that a page shows.
type Window struct {
	From, To, Total int
	Back, Next      string // addresses; empty where there is nothing further
	Sort            store.Sort
}

// Part says whether there is more than what is shown.
func (w Window) Part() bool { return w.Total > w.To-w.From+1 && w.Total > 0 }

// Matching is the filter and order of the page, as an address passes them on.
func (b Frame) Matching() string {
	q := url.Values{}
	if b.Query != "" {
		q.Set("q", b.Query)
	}
	if by := b.Window.Sort.String(); by != "" {
		q.Set("sort", by)
	}
	return q.Encode()
}

// Back is where a form returns to.
func (b Frame) Back() string { return b.URL.RequestURI() }

// With is this page with one query value changed.
func (b Frame) With(key, value string) string { return WithQuery(b.URL, key, value) }

// Does says whether this version does a stage.
func (b Frame) Does(st stage.Stage) bool { return b.does != nil && b.does(st) }

// Path is an address of the site.
func (b Frame) Path(rest string) string { return fmt.Sprintf("/sites/%d/%s", b.Site.ID, rest) }

// Sorted is the address that sorts by a column: by it, then the other way round, then
// in the list's own order again. mark is "ascending", "descending" or empty.
func (b Frame) Sorted(by string) sortLink {
	l := sortLink{Mark: "", Href: WithQuery(b.URL, "sort", by)}
	if b.Window.Sort.By == by {
		l = sortLink{"ascending", WithQuery(b.URL, "sort", "-"+by)}
		if b.Window.Sort.Down {
			l = sortLink{"descending", WithQuery(b.URL, "sort", "")}
		}
	}
	return l
}

type sortLink struct{ Mark, Href string }

type passageItem struct {
	Stage                   stage.Stage
	Ready, Needs, Blocked   int
	Total                   int
	Finished                bool
	ReadyW, NeedsW, BlockdW float64 // widths of the bar's parts, of 100
}

// Row is one source in a table; on the page of a stage that is the device's, one device as
// its first view.
type Row struct {
	store.Source
	Marks     map[stage.Stage]stage.Mark
	Proposals []finding.Change // of the page's stage
}

// Address is the row's address as text.
func (r Row) Address() string { return AddressText(r.Device.Address) }

// Mark of the row in a stage.
func (r Row) Mark(s stage.Stage) stage.Mark {
	if m, ok := r.Marks[s]; ok {
		return m
	}
	return stage.Mark{State: stage.NotYet, Sentence: "Not read yet."}
}

// Request is what a page is made from: a window of the site's sources.
type Request struct {
	Frame
	Engine    *engine.Engine
	Snapshot  *site.Snapshot // the window's devices and all recorders; see Load
	Networks  []store.Network
	Groups    []stage.Group
	Rows      []Row
	Selection store.Selection
	server    *Server
}

// MaxRows is how many rows a page shows; the next Window has the rest.
const MaxRows = 200

func (s *Server) page(c *echo.Context) error {
	room, ok := s.pages[c.Param("page")]
	if !ok {
		return store.ErrNotFound
	}
	ctx := c.Request().Context()
	parts, err := partsOf(c.Request().Header.Get("X-Parts"))
	if err != nil {
		return err
	}
	r, err := s.gather(c, room, parts)
	if err != nil {
		return err
	}
	if parts.want("main") {
		if r.Data, err = room.Build(ctx, r); err != nil {
			return err
		}
	}
	if parts.want("sheet") {
		if err := s.openPreview(ctx, r); err != nil {
			return err
		}
		if r.Preview == nil {
			if err := s.openSheet(ctx, r); err != nil {
				return err
			}
		}
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	if parts == nil {
		return c.Render(http.StatusOK, room.Slug(), r.Frame)
	}
	return s.renderParts(c, room, parts, r.Frame)
}

// parts are the named parts of a page that an update asks for; nil: the whole page.
type parts []string

func (p parts) want(name string) bool { return p == nil || slices.Contains(p, name) }

// partNames are the parts that a page may have.
var partNames = []string{"main", "sheet", "passage", "count", "runs"}

func partsOf(header string) (parts, error) {
	if header == "" {
		return nil, nil
	}
	var out parts
	for name := range strings.SplitSeq(header, ",") {
		if !slices.Contains(partNames, name) {
			return nil, echo.NewHTTPError(http.StatusBadRequest, "There is no such part of a page.")
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out, nil
}

// renderParts sends the named parts alone, one after the other.
func (s *Server) renderParts(c *echo.Context, room *room, parts parts, f Frame) error {
	var b bytes.Buffer
	for _, name := range parts {
		if t := room.template.Lookup("part-" + name); t != nil {
			if err := t.Execute(&b, f); err != nil {
				return err
			}
		}
	}
	return c.HTMLBlob(http.StatusOK, b.Bytes())
}

// gather reads what every page shows, in a fixed number of queries.
func (s *Server) gather(c *echo.Context, room *room, parts parts) (*Request, error) {
	ctx, me := c.Request().Context(), VisitorOf(c)
	name := room.Slug()
	p := &Request{Engine: s.Engine, server: s}
	p.Me, p.Site, p.MayChange, p.MayLead = me.Person, me.Member, me.Member.Role.MayChange(), me.Member.Role == people.Lead
	p.Page, p.Script, p.URL, p.Version, p.Now = name, room.script, c.Request().URL, s.version, time.Now()
	p.Query = strings.TrimSpace(c.QueryParam("q"))
	p.Origin = c.Scheme() + "://" + c.Request().Host
	p.does = s.Engine.Does
	p.CSRF, _ = c.Get("csrf").(string)
	if parts == nil { // a live update in the background takes no one's sentence away
		p.Flash = s.sessions.PopString(ctx, "flash")
		if kept := s.sessions.PopString(ctx, "refused"); kept != "" {
			if err := json.Unmarshal([]byte(kept), &p.Refused); err != nil {
				return nil, fmt.Errorf("shell: a refused form: %w", err)
			}
		}
	}
	var err error
	if p.Zone, err = time.LoadLocation(me.Member.Zone); err != nil {
		p.Zone = time.UTC
	}
	p.Stage, _ = stage.Parse(name)
	p.Title = title(name, p.Stage)
	// They know nothing of each other and fill different fields: side by side.
	at, ctx := errgroup.WithContext(ctx)
	for _, x := range []struct {
		of   []string
		read func(context.Context, *Request) error
	}{{[]string{"main", "sheet", "passage", "count"}, s.readSite}, {[]string{"main", "sheet"}, s.readWindow}, {[]string{"runs"}, s.readRuns}} {
		if slices.ContainsFunc(x.of, parts.want) {
			at.Go(func() error { return x.read(ctx, p) })
		}
	}
	return p, at.Wait()
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

// Onward is the stage to go on to, where nothing of the page's waits for anyone any more; 0: something does.
func (b Frame) Onward() stage.Stage {
	finished := false
	for _, it := range b.Passage {
		switch {
		case it.Stage == b.Stage:
			finished = it.Finished
		case it.Stage > b.Stage && finished && b.Does(it.Stage) && !it.Finished:
			return it.Stage
		}
	}
	return 0
}

// readSite reads the site's networks, its sums and the passage.
func (s *Server) readSite(ctx context.Context, p *Request) error {
	var err error
	if p.Sites, err = s.Store.Sites(ctx, p.Me.ID); err != nil {
		return err
	}
	if p.Networks, err = s.Store.Networks(ctx, p.Site.ID); err != nil {
		return err
	}
	if p.Cameras, p.Recorders, err = s.Store.Counts(ctx, p.Site.ID); err != nil {
		return err
	}
	if p.Groups, err = s.Store.Groups(ctx, p.Site.ID); err != nil {
		return err
	}
	for _, st := range stage.All() {
		it := passageItem{Stage: st, Total: p.Cameras, Finished: stage.Finished(st, p.Cameras, p.Groups)}
		for _, g := range p.Groups {
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

// readWindow reads the rows that match the filter, from where the address says.
func (s *Server) readWindow(ctx context.Context, p *Request) error {
	q := p.URL.Query()
	f := filter.Parse(p.Query)
	p.Unknown = f.Unknown
	p.Selection = store.Selection{Site: p.Site.ID, Filter: f, Devices: p.Stage.OfDevice()}
	w := Window{Sort: store.ParseSort(q.Get("sort"))}
	skip, _ := strconv.Atoi(q.Get("from"))
	skip = max(0, skip-1)
	sources, total, err := s.Store.Window(ctx, p.Selection, w.Sort, skip, MaxRows)
	if err != nil {
		return err
	}
	w.From, w.To, w.Total = min(skip+1, total), skip+len(sources), total
	if skip > 0 {
		w.Back = WithQuery(p.URL, "from", fmt.Sprint(max(1, skip+1-MaxRows)))
	}
	if w.To < total {
		w.Next = WithQuery(p.URL, "from", fmt.Sprint(w.To+1))
	}
	p.Window = w
	p.Rows, err = s.RowsOf(ctx, sources)
	return err
}

// RowsOf reads the marks of sources; those that a change is being made on are shown
// as working.
func (s *Server) RowsOf(ctx context.Context, sources []store.Source) ([]Row, error) {
	ids, devices := make([]int64, len(sources)), make([]int64, len(sources))
	for i, of := range sources {
		ids[i], devices[i] = of.ID, of.Device.ID
	}
	marks, err := s.Store.Marks(ctx, ids)
	if err != nil {
		return nil, err
	}
	open, err := s.Store.OpenChanges(ctx, devices)
	if err != nil {
		return nil, err
	}
	rows := make([]Row, len(sources))
	at := make(map[int64][]int, len(sources)) // rows by device
	for i, of := range sources {
		rows[i] = Row{Source: of, Marks: marks[of.ID]}
		at[of.Device.ID] = append(at[of.Device.ID], i)
	}
	for _, c := range open {
		for _, i := range at[c.DeviceID] {
			if c.About(rows[i].Source) {
				rows[i].Marks[c.Stage] = stage.Mark{State: stage.Working, Words: "reading back",
					Sentence: c.Title + ": " + string(c.State) + "."}
			}
		}
	}
	return rows, nil
}

// readRuns shows runs that are under way and those that ended a moment ago.
func (s *Server) readRuns(ctx context.Context, p *Request) error {
	runs, err := s.Store.Runs(ctx, p.Site.ID, 0, 8)
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

// Load reads the facts of the window's devices, for pages that show them, and what the
// page's stage proposes.
func (r *Request) Load(ctx context.Context) error {
	ids := make([]int64, len(r.Rows))
	for i, x := range r.Rows {
		ids[i] = x.Device.ID
	}
	var err error
	if r.Snapshot, err = site.Load(ctx, r.server.Store, r.Site.ID, ids); err != nil {
		return err
	}
	for i := range r.Rows {
		r.Rows[i].Proposals = r.Engine.Proposals(r.Now, r.Snapshot, r.Rows[i].Source, r.Stage)
	}
	return nil
}

// Can counts the rows of the selection that a stage can be read of now.
func (r *Request) Can(ctx context.Context, st stage.Stage) (int, error) {
	sel := r.Selection
	sel.Ready = st
	return r.server.Store.Count(ctx, sel)
}

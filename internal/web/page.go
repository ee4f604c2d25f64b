package web

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // sites name their zone; the machine may not know it

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/work"
)

// base is what every page shows; Data is the page's own.
type base struct {
	Title, Version, Message, Flash, CSRF string
	Me                                   people.Person
	Site                                 store.Member
	Sites                                []store.Member
	MayChange                            bool
	Page                                 string
	Stage                                stage.Stage
	URL                                  *url.URL
	Query                                string
	Now                                  time.Time
	Zone                                 *time.Location
	Passage                              []passageItem
	Runs                                 []store.Run
	Cameras, Recorders                   int
	Sheet                                *sheet
	Data                                 any
}

// Back is where a form returns to.
func (b base) Back() string { return b.URL.RequestURI() }

// With is this page with one query value changed.
func (b base) With(key, value string) string { return withQuery(b.URL, key, value) }

// Path is an address of the site.
func (b base) Path(rest string) string { return fmt.Sprintf("/sites/%d/%s", b.Site.ID, rest) }

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
	Proposals map[stage.Stage][]finding.Change
	Findings  []store.FindingOf
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

// scenePage is what a page is made from: one reading of the site.
type scenePage struct {
	base
	view     *work.View
	networks []store.Network
	rows     []row // as filtered
	all      []row
	findings []store.FindingOf
	open     []store.Change
}

// maxRows is how many rows a page shows; the filter reaches the rest.
const maxRows = 200

func (s *Server) page(c *echo.Context) error {
	name := c.Param("page")
	p, err := s.gather(c, name)
	if err != nil {
		return err
	}
	build, ok := map[string]func(context.Context, *scenePage) (string, error){
		"board": s.board, "find": s.findPage, "sign-in": s.signInStage, "clock": s.clockPage, "streams": s.streamsPage, "channels": s.channelsPage,
		"routes": s.routesPage, "prove": s.provePage, "recording": s.later, "analytics": s.later, "handover": s.later, "sightings": s.later,
		"log": s.logPage, "settings": s.settingsPage,
	}[name]
	if !ok {
		return store.ErrNotFound
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

// gather reads the site in a fixed number of queries.
func (s *Server) gather(c *echo.Context, name string) (*scenePage, error) {
	ctx, me := c.Request().Context(), whoIs(c)
	v, err := work.Look(ctx, s.store, me.member.ID, nil)
	if err != nil {
		return nil, err
	}
	p := &scenePage{view: v}
	p.Me, p.Site, p.MayChange = me.person, me.member, me.member.Role.MayChange()
	p.Page, p.URL, p.Version, p.Now = name, c.Request().URL, s.version, time.Now()
	p.Query = strings.TrimSpace(c.QueryParam("q"))
	p.CSRF, _ = c.Get("csrf").(string)
	p.Flash = s.sessions.PopString(ctx, "flash")
	if p.Zone, err = time.LoadLocation(v.Site.Zone); err != nil {
		p.Zone = time.UTC
	}
	p.Stage, _ = stage.Parse(name)
	p.Title = name
	if p.Stage != 0 {
		p.Title = p.Stage.String()
	} else if name != "" {
		p.Title = strings.ToUpper(name[:1]) + name[1:]
	}
	if p.Sites, err = s.store.Sites(ctx, me.person.ID); err != nil {
		return nil, err
	}
	if p.networks, err = s.store.Networks(ctx, me.member.ID); err != nil {
		return nil, err
	}
	marks, err := s.store.Marks(ctx, me.member.ID)
	if err != nil {
		return nil, err
	}
	if p.findings, err = s.store.Findings(ctx, me.member.ID, 0); err != nil {
		return nil, err
	}
	if p.open, err = s.store.OpenChanges(ctx, me.member.ID); err != nil {
		return nil, err
	}
	if err := s.runsOf(ctx, p); err != nil {
		return nil, err
	}
	p.fill(marks)
	return p, nil
}

// runsOf shows runs that are under way and those that ended a moment ago.
func (s *Server) runsOf(ctx context.Context, p *scenePage) error {
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

func (p *scenePage) fill(marks map[int64]map[stage.Stage]stage.Mark) {
	bySource := map[int64][]store.FindingOf{}
	for _, f := range p.findings {
		bySource[f.SourceID] = append(bySource[f.SourceID], f)
	}
	for _, d := range p.view.Cameras() {
		r := row{Device: d, Marks: marks[d.SourceID], Findings: bySource[d.SourceID], Proposals: map[stage.Stage][]finding.Change{}}
		for _, st := range []stage.Stage{stage.Clock, stage.Channels, stage.Routes} {
			r.Proposals[st] = p.view.Proposals(p.Now, d, st)
		}
		p.all = append(p.all, r)
	}
	p.Cameras, p.Recorders = len(p.all), len(p.view.Recorders())
	want := parseFilter(p.Query, p.networks)
	for _, r := range p.all {
		if want.takes(r) {
			p.rows = append(p.rows, r)
		}
	}
	for _, st := range stage.All() {
		it := passageItem{Stage: st, Total: len(p.all)}
		for _, r := range p.all {
			switch r.Mark(st).State {
			case stage.Ready:
				it.Ready++
			case stage.Needs, stage.Stale:
				it.Needs++
			case stage.Blocked:
				it.Blocked++
			}
		}
		if it.Total > 0 {
			part := func(n int) float64 { return 100 * float64(n) / float64(it.Total) }
			it.ReadyW, it.NeedsW, it.BlockdW = part(it.Ready), part(it.Needs), part(it.Blocked)
		}
		p.Passage = append(p.Passage, it)
	}
}

// filter is what the head strip's box asks of rows.
type filter struct {
	words             []string
	makeOf, state, at string
	stage             stage.Stage
	nets              []netip.Prefix
}

// parseFilter reads words and make:, state:, stage:, net: of the filter box.
func parseFilter(q string, networks []store.Network) filter {
	var f filter
	for _, w := range strings.Fields(strings.ToLower(q)) {
		key, value, ok := strings.Cut(w, ":")
		switch {
		case ok && key == "make":
			f.makeOf = value
		case ok && key == "state":
			f.state = value
		case ok && key == "stage":
			f.stage, _ = stage.Parse(value)
		case ok && key == "net":
			f.at = value
			for _, n := range networks {
				if strings.HasPrefix(strings.ToLower(n.Name), value) {
					f.nets = append(f.nets, n.Prefix)
				}
			}
		default:
			f.words = append(f.words, w)
		}
	}
	return f
}

func (f filter) takes(r row) bool {
	d := r.Device
	text := strings.ToLower(strings.Join([]string{d.Place, d.Make, d.Model, r.Address(), d.Serial, d.MAC}, " "))
	for _, w := range f.words {
		if !strings.Contains(text, w) {
			return false
		}
	}
	if f.makeOf != "" && !strings.HasPrefix(strings.ToLower(d.Make), f.makeOf) {
		return false
	}
	inside := func(p netip.Prefix) bool { return d.Address != nil && p.Contains(*d.Address) }
	if f.at != "" && !slices.ContainsFunc(f.nets, inside) && !strings.HasPrefix(r.Address(), f.at) {
		return false
	}
	if f.state == "" {
		return f.stage == 0 || r.Mark(f.stage).State != stage.NotYet
	}
	for _, st := range stage.All() {
		if f.stage != 0 && st != f.stage {
			continue
		}
		m := r.Mark(st).State
		if strings.HasPrefix(string(m), f.state) || strings.HasPrefix(strings.ReplaceAll(m.Label(), " ", ""), f.state) {
			return true
		}
	}
	return false
}

// board is the picture of cameras × stages.
type boardData struct {
	Rows                   []row
	Hidden                 int
	Stages                 []stage.Stage
	Proven, Blocked, Needs int
	LastRead               time.Time
	Next                   stage.Suggestion
	HasNext                bool
	States                 []stage.State
}

func (s *Server) board(_ context.Context, p *scenePage) (string, error) {
	b := boardData{Rows: p.rows[:min(len(p.rows), maxRows)], Hidden: max(0, len(p.rows)-maxRows), Stages: stage.All(),
		States: []stage.State{stage.Ready, stage.Needs, stage.Blocked, stage.Working, stage.Stale, stage.NotYet}}
	var rows []stage.Row
	for _, r := range p.all {
		x := stage.Row{Place: r.Device.Place, Marks: r.Marks, Proposals: map[stage.Stage]int{}}
		for st, c := range r.Proposals {
			x.Proposals[st] = len(c)
		}
		rows = append(rows, x)
		blocked, needs := false, false
		for _, st := range stage.All() {
			blocked = blocked || r.Mark(st).State == stage.Blocked
			needs = needs || r.Mark(st).State == stage.Needs || r.Mark(st).State == stage.Stale
		}
		switch {
		case blocked:
			b.Blocked++
		case needs:
			b.Needs++
		}
		if r.Mark(stage.Prove).State == stage.Ready {
			b.Proven++
		}
	}
	for _, n := range p.networks {
		if n.LookedAt != nil && n.LookedAt.After(b.LastRead) {
			b.LastRead = *n.LookedAt
		}
	}
	b.Next, b.HasNext = stage.Next(rows)
	p.markWorking(b.Rows)
	p.Data = b
	return "board", nil
}

// markWorking shows the marks of cameras that a change is being made on.
func (p *scenePage) markWorking(rows []row) {
	for _, c := range p.open {
		for i := range rows {
			if rows[i].Device.ID != c.DeviceID {
				continue
			}
			marks := map[stage.Stage]stage.Mark{}
			for st, m := range rows[i].Marks {
				marks[st] = m
			}
			marks[c.Stage] = stage.Mark{State: stage.Working, Words: "reading back", Sentence: c.Title + ": " + c.State + "."}
			rows[i].Marks = marks
		}
	}
}

func (s *Server) later(_ context.Context, p *scenePage) (string, error) {
	p.Data = map[string]string{
		"recording": "Here the week will be painted: what is kept when nothing happens, what when something does, and how many days that makes.",
		"analytics": "Here rules will be drawn on a camera's own picture and rehearsed over what it saw, before anything is written.",
		"handover":  "Here the as-built record will be printed: every camera, every route, every proof.",
		"sightings": "Here what the cameras' analytics saw will be found again, by class, colour, time and place.",
	}[p.Page]
	return "later", nil
}

type logData struct {
	Changes []store.Change
	Audit   []store.AuditLine
}

func (s *Server) logPage(ctx context.Context, p *scenePage) (string, error) {
	var d logData
	var err error
	if d.Changes, err = s.store.Changes(ctx, p.Site.ID); err != nil {
		return "", err
	}
	d.Audit, err = s.store.AuditLines(ctx, p.Site.ID)
	p.Data = d
	return "log", err
}

type settingsData struct {
	Networks []store.Network
	Sets     []store.SealedSet
}

func (s *Server) settingsPage(ctx context.Context, p *scenePage) (string, error) {
	sets, err := s.store.Sets(ctx, p.Site.ID)
	for i := range sets {
		sets[i].Sealed = nil // nothing sealed goes near a page
	}
	p.Data = settingsData{p.networks, sets}
	return "settings", err
}

// sheet is one camera in one stage, at the right.
type sheet struct {
	Row        row
	Stage      stage.Stage
	Mark       stage.Mark
	Findings   []finding.Finding
	Facts      []sheetFact
	Proposals  []finding.Change
	Changes    []store.Change
	Prev, Next int64
	Holder     string
	Verb       string
	Readable   bool
	Stages     []stage.Stage
}

type sheetFact struct {
	Name, Value string
	At          time.Time
	Mono        bool
}

func (s *Server) openSheet(ctx context.Context, p *scenePage) error {
	id, err := strconv.ParseInt(p.URL.Query().Get("sheet"), 10, 64)
	if err != nil {
		return nil // no sheet is asked for
	}
	st := p.Stage
	if asked, ok := stage.Parse(p.URL.Query().Get("stage")); ok {
		st = asked
	}
	if st == 0 {
		st = stage.Find
	}
	i := slices.IndexFunc(p.rows, func(r row) bool { return r.Device.ID == id })
	list := p.rows
	if i < 0 {
		list = p.all
		if i = slices.IndexFunc(list, func(r row) bool { return r.Device.ID == id }); i < 0 {
			return nil
		}
	}
	rows := []row{list[i]}
	p.markWorking(rows)
	sh := &sheet{Row: rows[0], Stage: st, Mark: rows[0].Mark(st), Proposals: list[i].Proposals[st], Stages: stage.All()}
	for _, f := range list[i].Findings {
		if f.Stage == st {
			sh.Findings = append(sh.Findings, f.Finding)
		}
	}
	if i > 0 {
		sh.Prev = list[i-1].Device.ID
	}
	if i+1 < len(list) {
		sh.Next = list[i+1].Device.ID
	}
	d := list[i].Device
	if rec, slot, ok := p.view.HolderOf(d); ok {
		sh.Holder = "planned for " + rec.Place
		if slot != nil {
			sh.Holder = fmt.Sprintf("held by %s, channel %d", rec.Place, slot.Number)
		}
	}
	sh.Facts = p.facts(d, st)
	for _, r := range readable(p.view, st) {
		sh.Readable = sh.Readable || r.ID == d.ID
	}
	sh.Verb = map[stage.Stage]string{stage.Clock: "Set the clock on ", stage.Channels: "Place ", stage.Routes: "Peg the routes of "}[st]
	sh.Changes, err = s.store.ChangesOfDevice(ctx, d.ID, 12)
	sh.Changes = slices.DeleteFunc(sh.Changes, func(c store.Change) bool { return c.Stage != st })
	p.Sheet = sh
	return err
}

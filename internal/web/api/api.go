// Package api is what programs ask, by token, never by a person's session: no page
// elsewhere can make a browser send a token.
package api

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"io/fs"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/people"
	"duskyharbor/internal/stages/analytics"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// openAPI describes what programs may read and run; acts are described from their arguments, see Describe.
//
//go:embed openapi.yaml
var openAPI []byte

// Page is the programs' interface. It has no page in a site.
type Page struct {
	*shell.Server
	analytics *analytics.Stage
}

// New makes it.
func New(s *shell.Server, a *analytics.Stage) *Page { return &Page{s, a} }

// Slug is empty: it has no page.
func (*Page) Slug() string { return "" }

// Files is nil: it has no template.
func (*Page) Files() fs.FS { return nil }

// Build makes nothing.
func (*Page) Build(context.Context, *shell.Request) (any, error) { return nil, nil }

// Routes adds what programs may ask.
func (pg *Page) Routes(r *shell.Routes) {
	v1 := r.Root.Group("/api/v1")
	v1.GET("/openapi.json", pg.described)
	v1.GET("/sites", pg.sites, pg.Program(people.ScopeRead))
	site := v1.Group("/sites/:site", pg.Program(people.ScopeRead), unchanged)
	pg.routeReadings(site)
	site.GET("/log", pg.log)
	site.GET("/events", pg.ProgramEvents)
	site.GET("/cameras", pg.cameras)
	site.GET("/cameras/:camera/facts", pg.facts)
	site.GET("/cameras/:camera/rules", pg.rules)
	site.GET("/rule-sets", pg.ruleSets)
	site.GET("/known", pg.known, pg.Scoped(people.ScopeApply))
	site.POST("/cameras/:camera/rehearsal", pg.rehearse, pg.Scoped(people.ScopeRun))
	site.GET("/findings", pg.findings)
	site.GET("/runs", pg.runs)
	site.GET("/runs/:run", pg.run)
	site.GET("/proposals", pg.Proposals)
	site.GET("/changes", pg.changes)
	site.POST("/runs", pg.start, pg.Scoped(people.ScopeRun))
	site.POST("/runs/:run/stop", pg.stop, pg.Scoped(people.ScopeRun))
	site.POST("/previews", pg.preview, pg.Scoped(people.ScopeApply))
	site.POST("/previews/:preview/make", pg.make, pg.Scoped(people.ScopeApply))
	pg.routeActs(site)
	site.POST("/changes/:change/undo", pg.undo, pg.Scoped(people.ScopeApply))
}

// sites answers with the token's own site.
func (pg *Page) sites(c *echo.Context) error {
	site, err := pg.Store.Site(c.Request().Context(), shell.TokenOf(c).SiteID)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"sites": []map[string]any{{"id": site.ID, "name": site.Name, "zone": site.Zone}}})
}

// pageOf reads after and limit: what comes after so many, at most so many [200].
func pageOf(c *echo.Context) (after, limit int, err error) {
	limit = shell.MaxRows
	for name, into := range map[string]*int{"after": &after, "limit": &limit} {
		if v := c.QueryParam(name); v != "" {
			if *into, err = strconv.Atoi(v); err != nil || *into < 0 {
				return 0, 0, errors.New(name + " is a number from 0 on")
			}
		}
	}
	return after, min(limit, shell.MaxRows), nil
}

// Mark is how a camera stands in a stage.
type Mark struct {
	State    stage.State `json:"state" enum:"ready,needs,blocked,notyet,working,na,stale"`
	Words    string      `json:"words,omitempty"`
	Sentence string      `json:"sentence"`
}

// Camera is one camera, or one view of a device that has several, as programs see it.
type Camera struct {
	ID       int64           `json:"id"`
	Device   int64           `json:"device_id"` // views of one device share it
	View     string          `json:"view,omitempty"`
	Place    string          `json:"place"`
	Make     string          `json:"make"`
	Model    string          `json:"model"`
	Address  string          `json:"address"`
	UUID     string          `json:"uuid"`
	MAC      string          `json:"mac"`
	Serial   string          `json:"serial"`
	Expected bool            `json:"expected"`
	Recorder int64           `json:"recorder_id,omitempty"` // planned
	Channel  int             `json:"channel,omitempty"`     // planned
	Marks    map[string]Mark `json:"marks"`
}

// cameras answers with a window of the site's cameras and their marks.
func (pg *Page) cameras(c *echo.Context) error {
	ctx := c.Request().Context()
	after, limit, err := pageOf(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	sel := store.Selection{Site: shell.TokenOf(c).SiteID, Filter: filter.Parse(c.QueryParam("q"))}
	sources, total, err := pg.Store.Window(ctx, sel, store.ParseSort(c.QueryParam("sort")), after, limit)
	if err != nil {
		return err
	}
	rows, err := pg.RowsOf(ctx, sources)
	if err != nil {
		return err
	}
	out := make([]Camera, len(rows))
	for i, r := range rows {
		d := r.Device
		out[i] = Camera{r.ID, d.ID, r.Video, r.Place, d.Make, d.Model, r.Address(), d.UUID, d.MAC, d.Serial, d.Expected,
			0, r.Channel, map[string]Mark{}}
		if r.RecorderID != nil {
			out[i].Recorder = *r.RecorderID
		}
		for _, st := range stage.All() {
			m := r.Mark(st)
			out[i].Marks[st.Slug()] = Mark{m.State, m.Words, m.Sentence}
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"cameras": out, "total": total})
}

// Fact is one fact of a camera, as it was read.
type Fact struct {
	Name  string          `json:"name"`
	At    time.Time       `json:"at"`   // when it was read
	Call  string          `json:"call"` // by which
	View  bool            `json:"view"` // it is of this view alone; else its device's, which its views share
	Value json.RawMessage `json:"value"`
}

// facts answers with a window of what is known of one camera, when it was read and by which call: all of it, or what has a name.
func (pg *Page) facts(c *echo.Context) error {
	id, err := shell.Number(c, "camera")
	if err != nil {
		return err
	}
	after, limit, err := pageOf(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	all, err := pg.Store.FactsOfSource(c.Request().Context(), shell.TokenOf(c).SiteID, id)
	if err != nil {
		return err
	}
	if name := c.QueryParam("name"); name != "" {
		all = slices.DeleteFunc(all, func(f store.Fact) bool { return f.Name != name })
	}
	from := min(after, len(all))
	out := []Fact{}
	for _, f := range all[from:min(from+limit, len(all))] {
		out = append(out, Fact{f.Name, f.ReadAt, f.Via, f.View != 0, f.Value})
	}
	return c.JSON(http.StatusOK, map[string]any{"facts": out, "total": len(all)})
}

// Finding is what a rule says of a camera.
type Finding struct {
	Camera   int64              `json:"camera_id"`
	Device   int64              `json:"device_id"`
	Place    string             `json:"place"`
	Stage    string             `json:"stage"`
	Code     string             `json:"code"`
	Severity string             `json:"severity" enum:"note,needs,blocks"`
	Sentence string             `json:"sentence"`
	WayOut   string             `json:"way_out"`
	Evidence []finding.Evidence `json:"evidence"`
}

// rules answers with the rules of one camera: those that are drawn, and those that it has.
func (pg *Page) rules(c *echo.Context) error {
	id, err := shell.Number(c, "camera")
	if err != nil {
		return err
	}
	out, err := pg.analytics.Rules(c.Request().Context(), shell.TokenOf(c).SiteID, id)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"rules": out})
}

// ruleSets answers with the site's sets of rules.
func (pg *Page) ruleSets(c *echo.Context) error {
	out, err := pg.analytics.Sets(c.Request().Context(), shell.TokenOf(c).SiteID)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"rule_sets": out})
}

// rehearse answers with what a drawing would have fired on, of what the camera's analytics saw; it changes nothing.
func (pg *Page) rehearse(c *echo.Context) error {
	id, err := shell.Number(c, "camera")
	if err != nil {
		return err
	}
	var x analytics.Rehearsed
	if err := echo.BindBody(c, &x); err != nil {
		return shell.Problem(c, http.StatusBadRequest, "The rule can't be read.")
	}
	x.Source = id
	out, err := pg.analytics.Rehearse(c.Request().Context(), shell.TokenOf(c).SiteID, x)
	var wrong act.WrongError
	switch {
	case errors.As(err, &wrong):
		return c.JSON(http.StatusUnprocessableEntity, map[string]string{"error": wrong.Says, "field": wrong.Field})
	case err != nil:
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// findings answers with a window of what stands against cameras.
func (pg *Page) findings(c *echo.Context) error {
	after, limit, err := pageOf(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	var st stage.Stage
	if slug := c.QueryParam("stage"); slug != "" {
		var ok bool
		if st, ok = stage.Parse(slug); !ok {
			return shell.Problem(c, http.StatusBadRequest, "stage is one of the ten, as clock")
		}
	}
	all, err := pg.Store.Findings(c.Request().Context(), shell.TokenOf(c).SiteID, st, after, limit)
	if err != nil {
		return err
	}
	out := make([]Finding, len(all))
	for i, f := range all {
		out[i] = Finding{f.SourceID, f.DeviceID, f.Place, f.Stage.Slug(), f.Code, f.Severity.String(), f.Sentence, f.WayOut, f.Evidence}
	}
	return c.JSON(http.StatusOK, map[string]any{"findings": out})
}

// asked is what a program asks a run or changes of.
type asked struct {
	Stage   string  `json:"stage"`
	Q       string  `json:"q"`       // filter; empty: all
	Cameras []int64 `json:"cameras"` // these alone
	// Then are stages that are read once this one was, one after the other, each of what of the filter can be read by then.
	Then []string `json:"then,omitempty"`
}

func (pg *Page) readAsked(c *echo.Context) (st stage.Stage, sel store.Selection, words string, then []string, err error) {
	var a asked
	d := json.NewDecoder(c.Request().Body)
	d.DisallowUnknownFields()
	if err := d.Decode(&a); err != nil {
		return 0, sel, "", nil, errors.New("send JSON, as {\"stage\": \"clock\", \"q\": \"make:ottervale\"}")
	}
	st, err = pg.StageOf(a.Stage)
	if err != nil {
		return 0, sel, "", nil, errors.New("stage is one that this version does, as clock")
	}
	sel = store.Selection{Site: shell.TokenOf(c).SiteID, IDs: a.Cameras, Filter: filter.Parse(a.Q)}
	if len(sel.Filter.Unknown) > 0 {
		return 0, sel, "", nil, errors.New("the filter means nothing: " + strings.Join(sel.Filter.Unknown, ", "))
	}
	if len(a.Cameras) > shell.MaxPicks {
		return 0, sel, "", nil, errors.New("name at most 1000 cameras, or give a filter")
	}
	if words = strings.TrimSpace(a.Q); words == "" && a.Cameras == nil {
		words = "all"
	}
	return st, sel, words, a.Then, nil
}

// start has a stage read.
func (pg *Page) start(c *echo.Context) error {
	st, sel, words, named, err := pg.readAsked(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	then, last := []stage.Stage{}, st
	for _, slug := range named {
		next, err := pg.StageOf(slug)
		if err != nil || next <= last || !pg.Engine.Reads(next) {
			return shell.Problem(c, http.StatusBadRequest, "then names stages after this one in their order, as sign-in, clock")
		}
		then, last = append(then, next), next
	}
	ctx, me := c.Request().Context(), shell.ByToken(c)
	id, err := pg.StartRead(ctx, me, st, sel, words, then...)
	if err != nil {
		return err
	}
	return pg.sendRun(ctx, c, http.StatusAccepted, id)
}

func (pg *Page) sendRun(ctx context.Context, c *echo.Context, status int, id int64) error {
	r, err := pg.Store.Run(ctx, id)
	if err != nil {
		return err
	}
	if r.SiteID != shell.TokenOf(c).SiteID {
		return store.ErrNotFound
	}
	return c.JSON(status, runOut(r))
}

// Run is one run, as programs see it.
type Run struct {
	ID      int64      `json:"id"`
	Stage   string     `json:"stage"`
	Act     store.Act  `json:"act" enum:"read,apply,prove"`
	Title   string     `json:"title"`
	By      string     `json:"by"`
	Of      string     `json:"of,omitempty"` // the selection, where it was a query
	Total   int        `json:"total"`
	Done    int        `json:"done"`
	Failed  int        `json:"failed"`
	Stopped int        `json:"stopped"`
	Left    int        `json:"left"`
	Started time.Time  `json:"started_at"`
	Ended   *time.Time `json:"ended_at"`
	Steps   []Step     `json:"steps,omitempty"`
	Then    []string   `json:"then,omitempty"`  // stages that are read once it ended
	Chain   int64      `json:"chain,omitempty"` // the run that it went on from at the very first
}

// Step is what a run did at one device, or one view of it.
type Step struct {
	Device int64  `json:"device_id,omitempty"`
	Camera int64  `json:"camera_id,omitempty"` // the view, where the step was of one
	State  string `json:"state"`
	Says   string `json:"says,omitempty"`
}

func runOut(r store.Run) Run {
	out := Run{ID: r.ID, Stage: r.Stage.Slug(), Act: r.Act, Title: r.Title, By: r.Who, Of: r.AskedOf, Total: r.Total,
		Done: r.Done, Failed: r.Failed, Stopped: r.Stopped, Left: r.Left(), Started: r.StartedAt, Ended: r.EndedAt, Chain: r.Chain}
	for _, st := range r.Then {
		out.Then = append(out.Then, st.Slug())
	}
	return out
}

// runs answers with a window of the runs, newest first.
func (pg *Page) runs(c *echo.Context) error {
	after, limit, err := pageOf(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	runs, err := pg.Store.Runs(c.Request().Context(), shell.TokenOf(c).SiteID, after, limit)
	if err != nil {
		return err
	}
	out := make([]Run, len(runs))
	for i, r := range runs {
		out[i] = runOut(r)
	}
	return c.JSON(http.StatusOK, map[string]any{"runs": out})
}

// runOfToken returns the run the path names; one of another site is not found.
func (pg *Page) runOfToken(c *echo.Context) (store.Run, error) {
	id, err := shell.Number(c, "run")
	if err != nil {
		return store.Run{}, err
	}
	r, err := pg.Store.Run(c.Request().Context(), id)
	if err == nil && r.SiteID != shell.TokenOf(c).SiteID {
		return store.Run{}, store.ErrNotFound
	}
	return r, err
}

// run answers with one run and its steps.
func (pg *Page) run(c *echo.Context) error {
	ctx := c.Request().Context()
	r, err := pg.runOfToken(c)
	if err != nil {
		return err
	}
	after, limit, err := pageOf(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	steps, err := pg.Store.StepsAfter(ctx, r.ID, after, limit)
	if err != nil {
		return err
	}
	out := runOut(r)
	for _, t := range steps {
		of := t.Target()
		out.Steps = append(out.Steps, Step{of.Device, of.Source, t.State, t.Says})
	}
	return c.JSON(http.StatusOK, out)
}

// stop ends a run after the steps that are under way.
func (pg *Page) stop(c *echo.Context) error {
	ctx := c.Request().Context()
	r, err := pg.runOfToken(c)
	if err != nil {
		return err
	}
	if err := pg.StopRun(ctx, shell.ByToken(c), r.ID); err != nil {
		return err
	}
	return pg.sendRun(ctx, c, http.StatusAccepted, r.ID)
}

// Proposal is what would be written to one camera, from and to.
type Proposal struct {
	Camera int64        `json:"camera_id"`
	Device int64        `json:"device_id"`
	Place  string       `json:"place"`
	Kind   string       `json:"kind"`
	Title  string       `json:"title"`
	From   string       `json:"from"`
	To     string       `json:"to"`
	Why    string       `json:"why"`
	Risk   finding.Risk `json:"risk"`
	Undo   string       `json:"undo"`
}

// Proposals lists what would be changed, without changing it.
func (pg *Page) Proposals(c *echo.Context) error {
	st, err := pg.StageOf(c.QueryParam("stage"))
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, "stage is one that this version does, as clock")
	}
	picks, _, err := pg.Propose(c.Request().Context(), st,
		store.Selection{Site: shell.TokenOf(c).SiteID, Filter: filter.Parse(c.QueryParam("q"))})
	if err != nil {
		return err
	}
	out := []Proposal{}
	for _, p := range picks {
		out = append(out, proposals(p.Source.ID, p.Source.Device.ID, p.Source.Place, p.Changes)...)
	}
	return c.JSON(http.StatusOK, map[string]any{"proposals": out})
}

func proposals(camera, device int64, place string, changes []finding.Change) []Proposal {
	out := make([]Proposal, len(changes))
	for i, x := range changes {
		out[i] = Proposal{camera, device, place, x.Kind, x.Title, x.From, x.To, x.Why, x.Risk, string(x.Undo.Kind)}
	}
	return out
}

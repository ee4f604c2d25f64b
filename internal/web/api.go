package web

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
)

// openAPI describes what programs may ask; a test holds it against the handlers.
//
//go:embed openapi.yaml
var openAPI []byte

// programs adds what programs ask, by token, never by a person's session: no page
// elsewhere can make a browser send a token.
func (s *Server) programs(e *echo.Echo) {
	e.GET("/metrics", s.metrics.serve, s.program(people.ScopeRead))
	v1 := e.Group("/api/v1")
	v1.GET("/openapi.yaml", func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/yaml", openAPI) })
	v1.GET("/sites", s.apiSites, s.program(people.ScopeRead))
	site := v1.Group("/sites/:site", s.program(people.ScopeRead))
	site.GET("/cameras", s.apiCameras)
	site.GET("/findings", s.apiFindings)
	site.GET("/runs", s.apiRuns)
	site.GET("/runs/:run", s.apiRun)
	site.GET("/proposals", s.apiProposals)
	site.GET("/changes", s.apiChanges)
	site.POST("/runs", s.apiStart, s.scoped(people.ScopeRun))
	site.POST("/runs/:run/stop", s.apiStop, s.scoped(people.ScopeRun))
	site.POST("/changes", s.apiApply, s.scoped(people.ScopeApply))
	site.POST("/changes/:change/undo", s.apiUndo, s.scoped(people.ScopeApply))
}

// problem is an error as programs get it.
func problem(c *echo.Context, status int, sentence string) error {
	return c.JSON(status, map[string]string{"error": sentence})
}

// program lets only programs through whose token is of the site that is asked and
// has the scope. A site that isn't the token's isn't told from one that isn't there.
func (s *Server) program(scope people.Scope) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			c.Response().Header().Set("Cache-Control", "no-store")
			bearer, ok := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
			if !ok || len(bearer) > 200 {
				c.Response().Header().Set("WWW-Authenticate", `Bearer realm="Dusky Harbor"`)
				return problem(c, http.StatusUnauthorized, "Send a token: Authorization: Bearer …")
			}
			t, err := s.store.TokenBy(c.Request().Context(), people.HashToken(bearer))
			if errors.Is(err, store.ErrNotFound) {
				if !s.mayTry(c.Request().Context(), "token from "+c.RealIP()) {
					return problem(c, http.StatusTooManyRequests, "Too many tokens that open nothing. Wait ten seconds.")
				}
				return problem(c, http.StatusUnauthorized, "That token opens nothing, or its time is over.")
			}
			if err != nil {
				return s.apiFailed(c, err)
			}
			if id := c.Param("site"); id != "" && id != strconv.FormatInt(t.SiteID, 10) {
				return problem(c, http.StatusNotFound, "There is no such site here, or it isn't this token's.")
			}
			if !slices.Contains(t.Scopes, string(scope)) {
				return problem(c, http.StatusForbidden, "This token may not "+string(scope)+".")
			}
			c.Set("token", t)
			if err := next(c); err != nil {
				return s.apiFailed(c, err)
			}
			return nil
		}
	}
}

// scoped asks for one scope more.
func (s *Server) scoped(scope people.Scope) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			if !slices.Contains(tokenOf(c).Scopes, string(scope)) {
				return problem(c, http.StatusForbidden, "This token may not "+string(scope)+".")
			}
			return next(c)
		}
	}
}

func tokenOf(c *echo.Context) store.Token {
	t, _ := c.Get("token").(store.Token)
	return t
}

func byToken(c *echo.Context) actor {
	t := tokenOf(c)
	return actor{site: t.SiteID, token: t.ID}
}

func (s *Server) apiFailed(c *echo.Context, err error) error {
	var coder interface{ StatusCode() int }
	switch {
	case errors.Is(err, store.ErrNotFound):
		return problem(c, http.StatusNotFound, "There is no such thing here.")
	case errors.As(err, &coder):
		return problem(c, coder.StatusCode(), http.StatusText(coder.StatusCode()))
	case isTold(err):
		return problem(c, http.StatusConflict, err.Error())
	}
	s.opt.Log.Error("a program's request failed", "path", c.Request().URL.Path, "err", err)
	return problem(c, http.StatusInternalServerError, "Something in this server went wrong; its log says what.")
}

func (s *Server) apiSites(c *echo.Context) error {
	site, err := s.store.Site(c.Request().Context(), tokenOf(c).SiteID)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"sites": []map[string]any{{"id": site.ID, "name": site.Name, "zone": site.Zone}}})
}

// pageOf reads after and limit: what comes after so many, at most so many [200].
func pageOf(c *echo.Context) (after, limit int, err error) {
	limit = maxRows
	for name, into := range map[string]*int{"after": &after, "limit": &limit} {
		if v := c.QueryParam(name); v != "" {
			if *into, err = strconv.Atoi(v); err != nil || *into < 0 {
				return 0, 0, errors.New(name + " is a number from 0 on")
			}
		}
	}
	return after, min(limit, maxRows), nil
}

type apiMark struct {
	State    stage.State `json:"state"`
	Words    string      `json:"words,omitempty"`
	Sentence string      `json:"sentence"`
}

type apiCamera struct {
	ID       int64              `json:"id"`
	Place    string             `json:"place"`
	Make     string             `json:"make"`
	Model    string             `json:"model"`
	Address  string             `json:"address"`
	UUID     string             `json:"uuid"`
	MAC      string             `json:"mac"`
	Serial   string             `json:"serial"`
	Expected bool               `json:"expected"`
	Recorder int64              `json:"recorder_id,omitempty"`
	Marks    map[string]apiMark `json:"marks"`
}

func (s *Server) apiCameras(c *echo.Context) error {
	ctx := c.Request().Context()
	after, limit, err := pageOf(c)
	if err != nil {
		return problem(c, http.StatusBadRequest, err.Error())
	}
	sel := store.Selection{Site: tokenOf(c).SiteID, Filter: filter.Parse(c.QueryParam("q"))}
	devices, total, err := s.store.Window(ctx, sel, store.ParseSort(c.QueryParam("sort")), after, limit)
	if err != nil {
		return err
	}
	rows, err := s.rowsOf(ctx, devices)
	if err != nil {
		return err
	}
	out := make([]apiCamera, len(rows))
	for i, r := range rows {
		d := r.Device
		out[i] = apiCamera{d.ID, d.Place, d.Make, d.Model, r.Address(), d.UUID, d.MAC, d.Serial, d.Expected, 0, map[string]apiMark{}}
		if d.RecorderID != nil {
			out[i].Recorder = *d.RecorderID
		}
		for _, st := range stage.All() {
			m := r.Mark(st)
			out[i].Marks[st.Slug()] = apiMark{m.State, m.Words, m.Sentence}
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"cameras": out, "total": total})
}

func (s *Server) apiFindings(c *echo.Context) error {
	after, limit, err := pageOf(c)
	if err != nil {
		return problem(c, http.StatusBadRequest, err.Error())
	}
	var st stage.Stage
	if slug := c.QueryParam("stage"); slug != "" {
		var ok bool
		if st, ok = stage.Parse(slug); !ok {
			return problem(c, http.StatusBadRequest, "stage is one of the ten, as clock")
		}
	}
	all, err := s.store.Findings(c.Request().Context(), tokenOf(c).SiteID, st, 0, after, limit)
	if err != nil {
		return err
	}
	out := make([]map[string]any, len(all))
	for i, f := range all {
		out[i] = map[string]any{"camera_id": f.DeviceID, "place": f.Place, "stage": f.Stage.Slug(), "code": f.Code, "severity": f.Severity.String(), "sentence": f.Sentence, "way_out": f.WayOut, "evidence": f.Evidence}
	}
	return c.JSON(http.StatusOK, map[string]any{"findings": out})
}

// asked is what a program asks a run or changes of.
type asked struct {
	Stage   string  `json:"stage"`
	Q       string  `json:"q"`       // filter; empty: all
	Cameras []int64 `json:"cameras"` // these alone
}

func readAsked(c *echo.Context) (st stage.Stage, sel store.Selection, words string, err error) {
	var a asked
	d := json.NewDecoder(c.Request().Body)
	d.DisallowUnknownFields()
	if err := d.Decode(&a); err != nil {
		return 0, sel, "", errors.New("send JSON, as {\"stage\": \"clock\", \"q\": \"make:ottervale\"}")
	}
	st, err = stageOf(a.Stage)
	if err != nil {
		return 0, sel, "", errors.New("stage is one that this version does, as clock")
	}
	sel = store.Selection{Site: tokenOf(c).SiteID, IDs: a.Cameras, Filter: filter.Parse(a.Q)}
	if len(sel.Filter.Unknown) > 0 {
		return 0, sel, "", errors.New("the filter means nothing: " + strings.Join(sel.Filter.Unknown, ", "))
	}
	if len(a.Cameras) > maxPicks {
		return 0, sel, "", errors.New("name at most 1000 cameras, or give a filter")
	}
	if words = strings.TrimSpace(a.Q); words == "" && a.Cameras == nil {
		words = "all"
	}
	return st, sel, words, nil
}

func (s *Server) apiStart(c *echo.Context) error {
	st, sel, words, err := readAsked(c)
	if err != nil {
		return problem(c, http.StatusBadRequest, err.Error())
	}
	ctx, me := c.Request().Context(), byToken(c)
	id, err := s.startRead(ctx, me, st, sel, words)
	if err != nil {
		return err
	}
	if err := s.store.Audit(ctx, store.Deed{Site: me.site, Token: me.token, Act: "started a run", Detail: "read " + st.String()}); err != nil {
		return err
	}
	return s.sendRun(ctx, c, http.StatusAccepted, id)
}

func (s *Server) sendRun(ctx context.Context, c *echo.Context, status int, id int64) error {
	r, err := s.store.Run(ctx, id)
	if err != nil {
		return err
	}
	if r.SiteID != tokenOf(c).SiteID {
		return store.ErrNotFound
	}
	return c.JSON(status, runOut(r))
}

type apiRun struct {
	ID      int64      `json:"id"`
	Stage   string     `json:"stage"`
	Act     store.Act  `json:"act"`
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
	Steps   []apiStep  `json:"steps,omitempty"`
}

type apiStep struct {
	Camera int64  `json:"device_id,omitempty"`
	State  string `json:"state"`
	Says   string `json:"says,omitempty"`
}

func runOut(r store.Run) apiRun {
	return apiRun{ID: r.ID, Stage: r.Stage.Slug(), Act: r.Act, Title: r.Title, By: r.Who, Of: r.AskedOf, Total: r.Total, Done: r.Done, Failed: r.Failed, Stopped: r.Stopped, Left: r.Left(), Started: r.StartedAt, Ended: r.EndedAt}
}

func (s *Server) apiRuns(c *echo.Context) error {
	runs, err := s.store.Runs(c.Request().Context(), tokenOf(c).SiteID, 50)
	if err != nil {
		return err
	}
	out := make([]apiRun, len(runs))
	for i, r := range runs {
		out[i] = runOut(r)
	}
	return c.JSON(http.StatusOK, map[string]any{"runs": out})
}

// runOfToken returns the run the path names; one of another site is not found.
func (s *Server) runOfToken(c *echo.Context) (store.Run, error) {
	id, err := number(c, "run")
	if err != nil {
		return store.Run{}, err
	}
	r, err := s.store.Run(c.Request().Context(), id)
	if err != nil || r.SiteID != tokenOf(c).SiteID {
		return store.Run{}, errors.Join(store.ErrNotFound, err)
	}
	return r, nil
}

func (s *Server) apiRun(c *echo.Context) error {
	ctx := c.Request().Context()
	r, err := s.runOfToken(c)
	if err != nil {
		return err
	}
	steps, err := s.store.StepsOf(ctx, r.ID, maxRows)
	if err != nil {
		return err
	}
	out := runOut(r)
	for _, t := range steps {
		x := apiStep{State: t.State, Says: t.Says}
		if t.DeviceID != nil {
			x.Camera = *t.DeviceID
		}
		out.Steps = append(out.Steps, x)
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) apiStop(c *echo.Context) error {
	ctx := c.Request().Context()
	r, err := s.runOfToken(c)
	if err != nil {
		return err
	}
	if err := s.stop(ctx, byToken(c), r.ID); err != nil {
		return err
	}
	return s.sendRun(ctx, c, http.StatusAccepted, r.ID)
}

type apiProposal struct {
	Camera int64        `json:"camera_id"`
	Place  string       `json:"place"`
	Kind   string       `json:"kind"`
	Title  string       `json:"title"`
	From   string       `json:"from"`
	To     string       `json:"to"`
	Why    string       `json:"why"`
	Risk   finding.Risk `json:"risk"`
	Undo   string       `json:"undo"`
}

// apiProposals lists what would be changed, without changing it.
func (s *Server) apiProposals(c *echo.Context) error {
	st, err := stageOf(c.QueryParam("stage"))
	if err != nil {
		return problem(c, http.StatusBadRequest, "stage is one that this version does, as clock")
	}
	picks, _, err := s.propose(c.Request().Context(), st, store.Selection{Site: tokenOf(c).SiteID, Filter: filter.Parse(c.QueryParam("q"))})
	if err != nil {
		return err
	}
	out := []apiProposal{}
	for _, p := range picks {
		for _, x := range p.Changes {
			out = append(out, apiProposal{p.Device.ID, p.Device.Place, x.Kind, x.Title, x.From, x.To, x.Why, x.Risk, string(x.Undo.Kind)})
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"proposals": out})
}

type apiChange struct {
	ID      int64       `json:"id"`
	Camera  int64       `json:"device_id"`
	Place   string      `json:"place"`
	Stage   string      `json:"stage"`
	Kind    string      `json:"kind"`
	Title   string      `json:"title"`
	From    string      `json:"from"`
	To      string      `json:"to"`
	State   store.State `json:"state"`
	Says    string      `json:"says"`
	Reads   string      `json:"reads"`
	Writes  int         `json:"times_sent"`
	By      string      `json:"by"`
	UndoOf  *int64      `json:"undo_of,omitempty"`
	Asked   time.Time   `json:"asked_at"`
	Sent    *time.Time  `json:"sent_at"`
	Settled *time.Time  `json:"settled_at"`
}

func changeOut(c store.Change) apiChange {
	return apiChange{c.ID, c.DeviceID, c.Place, c.Stage.Slug(), c.Kind, c.Title, c.FromText, c.ToText, c.State, c.Says, c.Reads, c.Writes, c.Who, c.UndoOf, c.AskedAt, c.SentAt, c.SettledAt}
}

func (s *Server) apiChanges(c *echo.Context) error {
	after, limit, err := pageOf(c)
	if err != nil {
		return problem(c, http.StatusBadRequest, err.Error())
	}
	camera, _ := strconv.ParseInt(c.QueryParam("camera"), 10, 64)
	all, err := s.store.Changes(c.Request().Context(), tokenOf(c).SiteID, camera, after, limit)
	if err != nil {
		return err
	}
	out := make([]apiChange, len(all))
	for i, x := range all {
		out[i] = changeOut(x)
	}
	return c.JSON(http.StatusOK, map[string]any{"changes": out})
}

func (s *Server) apiApply(c *echo.Context) error {
	st, sel, words, err := readAsked(c)
	if err != nil {
		return problem(c, http.StatusBadRequest, err.Error())
	}
	ctx := c.Request().Context()
	id, err := s.startApply(ctx, byToken(c), st, sel, words)
	if err != nil {
		return err
	}
	return s.sendRun(ctx, c, http.StatusAccepted, id)
}

func (s *Server) apiUndo(c *echo.Context) error {
	id, err := number(c, "change")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	run, err := s.takeBack(ctx, byToken(c), id)
	if err != nil {
		return err
	}
	return s.sendRun(ctx, c, http.StatusAccepted, run)
}

// isTold says whether an error is a sentence for the person, or a device's.
func isTold(err error) bool { return err != nil && !engine.Ours(err) }

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

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// back sends the person to the page they came from, with a sentence to show.
func (s *Server) back(c *echo.Context, sentence string) error {
	s.sessions.Put(c.Request().Context(), "flash", sentence)
	to := c.FormValue("back")
	if !strings.HasPrefix(to, "/sites/") || strings.ContainsAny(to, "\\\r\n") || strings.HasPrefix(to, "//") {
		to = fmt.Sprintf("/sites/%d/board", whoIs(c).member.ID)
	}
	return c.Redirect(http.StatusSeeOther, to)
}

// actor is who asks for something: a person, or a program by its token.
type actor struct {
	site          int64
	person, token int64
	factory       bool  // makers' default accounts may be tried, this once
	set           int64 // that is tried alone; 0: all in their order
}

func (w who) actor() actor { return actor{site: w.member.ID, person: w.person.ID} }

// selected reads which cameras a form names: those that were picked, else all that
// the filter takes. asked words a selection that was a query.
func selected(c *echo.Context) (sel store.Selection, asked string, err error) {
	form, err := c.FormValues()
	if err != nil {
		return sel, "", echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	sel.Site = whoIs(c).member.ID
	if picks := form["pick"]; len(picks) > 0 && form.Get("all") != "1" {
		if len(picks) > maxPicks {
			return sel, "", echo.NewHTTPError(http.StatusBadRequest, fmt.Sprintf("%d cameras were picked one by one, and %d can be: filter them, and select all that match.", len(picks), maxPicks))
		}
		sel.IDs = []int64{}
		for _, p := range picks {
			if id, err := strconv.ParseInt(p, 10, 64); err == nil {
				sel.IDs = append(sel.IDs, id)
			}
		}
		return sel, "", nil
	}
	asked = strings.TrimSpace(form.Get("q"))
	sel.Filter = filter.Parse(asked)
	if asked == "" {
		asked = "all"
	}
	return sel, asked, nil
}

// maxPicks is how many cameras can be named one by one; more are named by a filter.
const maxPicks = 1000

func stageOf(slug string) (stage.Stage, error) {
	st, ok := stage.Parse(slug)
	if !ok || !st.Built() {
		return 0, store.ErrNotFound
	}
	return st, nil
}

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return stage.Thousands(n) + " " + one + "s"
}

// startRead begins a run that reads a stage of a selection.
func (s *Server) startRead(ctx context.Context, me actor, st stage.Stage, sel store.Selection, asked string) (int64, error) {
	n := store.NewRun{Site: me.site, Stage: st, Act: store.Read, Person: me.person, Token: me.token, AskedOf: asked, Factory: me.factory, Set: me.set}
	switch st {
	case stage.Find:
		networks, err := s.store.Networks(ctx, me.site)
		if err != nil {
			return 0, err
		}
		for _, w := range networks {
			n.Networks = append(n.Networks, w.ID)
		}
		n.AskedOf, n.Title = "", "Look at "+plural(len(networks), "network")
	case stage.Prove:
		return 0, store.ErrNotFound // a walk is asked for by itself
	default:
		sel.Ready = st
		if st != stage.Channels { // one reading of a recorder serves all its cameras
			cameras, err := s.store.Resolve(ctx, sel)
			if err != nil {
				return 0, err
			}
			n.Devices = cameras
		}
		if sel.IDs == nil && (st == stage.SignIn || st == stage.Clock || st == stage.Channels) || st == stage.Channels {
			recorders, err := s.store.RecordersHeard(ctx, me.site)
			if err != nil {
				return 0, err
			}
			n.Devices = append(n.Devices, recorders...)
		}
		n.Title = fmt.Sprintf("Read %s of %s", st, plural(len(n.Devices), "device"))
	}
	return s.office.Begin(ctx, n, false)
}

func (s *Server) read(c *echo.Context) error {
	slug := c.Param("stage")
	if slug == "any" { // the Board's bar: which one is a field
		slug = c.FormValue("stage")
	}
	st, err := stageOf(slug)
	if err != nil {
		return err
	}
	sel, asked, err := selected(c)
	if err != nil {
		return err
	}
	me := whoIs(c).actor()
	if st == stage.SignIn {
		me.factory = c.FormValue("factory") == "1"
		me.set, _ = strconv.ParseInt(c.FormValue("set"), 10, 64)
	}
	if _, err := s.startRead(c.Request().Context(), me, st, sel, asked); err != nil {
		return s.told(c, err)
	}
	return s.back(c, "")
}

// told shows an error that is a sentence for the person, and passes others on.
func (s *Server) told(c *echo.Context, err error) error {
	if isTold(err) {
		return s.back(c, err.Error())
	}
	return err
}

// propose lists what a stage would change on a selection now.
func (s *Server) propose(ctx context.Context, st stage.Stage, sel store.Selection) (picks []engine.Pick, underWay int, err error) {
	sel.ActStage, sel.Act = st, stage.Apply
	ids, err := s.store.Resolve(ctx, sel)
	if err != nil {
		return nil, 0, err
	}
	return s.office.Propose(ctx, sel.Site, st, ids)
}

// startApply begins a run that makes what a stage proposes for a selection.
func (s *Server) startApply(ctx context.Context, me actor, st stage.Stage, sel store.Selection, asked string) (int64, error) {
	picks, underWay, err := s.propose(ctx, st, sel)
	if err != nil {
		return 0, err
	}
	if len(picks) == 0 && underWay > 0 {
		return 0, engine.ErrUnderWay
	}
	count := 0
	for _, p := range picks {
		count += len(p.Changes)
	}
	title := fmt.Sprintf("%s: %s on %s", st, plural(count, "change"), plural(len(picks), "camera"))
	run, err := s.office.Apply(ctx, engine.Ask{Site: me.site, Stage: st, Title: title, Person: me.person, Token: me.token, AskedOf: asked}, picks)
	if err != nil {
		return 0, err
	}
	return run, s.store.Audit(ctx, store.Deed{Site: me.site, Person: me.person, Token: me.token, Act: "asked for changes", Detail: title})
}

func (s *Server) apply(c *echo.Context) error {
	st, err := stageOf(c.Param("stage"))
	if err != nil {
		return err
	}
	sel, asked, err := selected(c)
	if err != nil {
		return err
	}
	if _, err := s.startApply(c.Request().Context(), whoIs(c).actor(), st, sel, asked); err != nil {
		return s.told(c, err)
	}
	return s.back(c, "")
}

// takeBack begins a run that undoes a change of the site.
func (s *Server) takeBack(ctx context.Context, me actor, id int64) (int64, error) {
	ch, err := s.store.Change(ctx, id)
	if err != nil {
		return 0, err
	}
	if ch.SiteID != me.site {
		return 0, store.ErrNotFound
	}
	run, err := s.office.Undo(ctx, engine.Ask{Person: me.person, Token: me.token}, ch)
	if err != nil {
		return 0, err
	}
	return run, s.store.Audit(ctx, store.Deed{Site: me.site, Person: me.person, Token: me.token, Act: "took a change back", Detail: ch.Place + ": " + ch.Title})
}

// camera reads the camera that a form names.
func (s *Server) camera(c *echo.Context) (*site.Snapshot, store.Device, error) {
	id, err := strconv.ParseInt(c.FormValue("device"), 10, 64)
	if err != nil {
		return nil, store.Device{}, store.ErrNotFound
	}
	v, err := site.Load(c.Request().Context(), s.store, whoIs(c).member.ID, []int64{id})
	if err != nil {
		return nil, store.Device{}, err
	}
	d, ok := v.Device(id)
	if !ok || d.Kind != identity.Camera {
		return nil, store.Device{}, store.ErrNotFound
	}
	return v, d, nil
}

func (s *Server) peg(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	v, d, err := s.camera(c)
	if err != nil {
		return err
	}
	f := v.Routes(d)
	topic, input := c.FormValue("topic"), c.FormValue("input")
	if f.Channel == 0 || !slices.Contains(f.Inputs, input) || !knows(f, topic) {
		return s.back(c, "That topic or input isn't there any more: read the routes again.")
	}
	on := !slices.Contains(f.Pegs, route.Peg{Topic: topic, Input: input})
	ch := route.Change(f, topic, input, "A person pegged it.", on)
	ask := engine.Ask{Site: me.member.ID, Stage: stage.Routes, Title: d.Place + ": " + ch.Title, Person: me.person.ID}
	if _, err := s.office.Apply(ctx, ask, []engine.Pick{{Device: d, Changes: []finding.Change{ch}}}); err != nil {
		return s.told(c, err)
	}
	return s.back(c, "")
}

func knows(f route.Facts, topic string) bool {
	for _, t := range f.Topics {
		if t.Topic == topic {
			return true
		}
	}
	return slices.ContainsFunc(f.Pegs, func(p route.Peg) bool { return p.Topic == topic })
}

func (s *Server) walk(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	_, d, err := s.camera(c)
	if err != nil {
		return err
	}
	tell := c.FormValue("tell") == "1"
	if tell && !me.member.Demo {
		return s.back(c, "Only a demo site's stand-ins can be told to walk.")
	}
	n := store.NewRun{Site: me.member.ID, Stage: stage.Prove, Act: store.Prove, Title: "Walk test at " + d.Place, Person: me.person.ID, Devices: []int64{d.ID}}
	if _, err := s.office.Begin(ctx, n, tell); err != nil {
		return s.told(c, err)
	}
	return s.back(c, "")
}

func (s *Server) stopRun(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	id, err := number(c, "run")
	if err != nil {
		return err
	}
	if err := s.stop(ctx, me.actor(), id); err != nil {
		return err
	}
	return s.back(c, "The run stops: what is under way ends, nothing more begins.")
}

// stop asks a run to stop.
func (s *Server) stop(ctx context.Context, me actor, run int64) error {
	if err := s.store.StopRun(ctx, me.site, run); err != nil {
		return err
	}
	return s.store.Audit(ctx, store.Deed{Site: me.site, Person: me.person, Token: me.token, Act: "stopped a run", Detail: fmt.Sprintf("run %d", run)})
}

// cameraStill passes a camera's still on, decoded and checked on the way.
func (s *Server) cameraStill(c *echo.Context) error {
	return s.still(c, func(d store.Device) ([]byte, error) { return s.office.Streams.Still(c.Request().Context(), d) })
}

func (s *Server) channelStill(c *echo.Context) error {
	number, err := strconv.Atoi(c.Param("number"))
	if err != nil {
		return store.ErrNotFound
	}
	return s.still(c, func(d store.Device) ([]byte, error) {
		return s.office.Streams.ChannelStill(c.Request().Context(), d, number)
	})
}

func (s *Server) still(c *echo.Context, get func(store.Device) ([]byte, error)) error {
	id, err := number(c, "device")
	if err != nil {
		return err
	}
	d, err := s.store.Device(c.Request().Context(), id)
	if err != nil {
		return err
	}
	if d.SiteID != whoIs(c).member.ID {
		return store.ErrNotFound
	}
	data, err := get(d)
	if err != nil {
		s.opt.Log.Info("no still", "device", d.ID, "err", err)
		return c.NoContent(http.StatusNotFound)
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Blob(http.StatusOK, "image/jpeg", data)
}

// withQuery is a page's address with one query value changed.
func withQuery(u *url.URL, key, value string) string {
	q := u.Query()
	if value == "" {
		q.Del(key)
	} else {
		q.Set(key, value)
	}
	if key == "q" || key == "sort" {
		q.Del("from") // what is asked anew is read from its beginning
	}
	if len(q) == 0 {
		return u.Path
	}
	return u.Path + "?" + q.Encode()
}

func addrText(a *netip.Addr) string {
	if a == nil {
		return ""
	}
	return a.String()
}

package shell

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/trouble"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Back sends the person to the page they came from, with a sentence to show.
func (s *Server) Back(c *echo.Context, sentence string) error {
	s.sessions.Put(c.Request().Context(), "flash", sentence)
	return c.Redirect(http.StatusSeeOther, backOf(c))
}

// Actor is who asks for something: a person, or a program by its token.
type Actor struct {
	Site          int64
	Person, Token int64
	Factory       bool  // makers' default accounts may be tried, this once
	Set           int64 // that is tried alone; 0: all in their order
}

// Actor is the visitor as who asks for something.
func (v Visitor) Actor() Actor { return Actor{Site: v.Member.ID, Person: v.Person.ID} }

// Selected reads which cameras a form names: those that were picked, else all that
// the filter takes. asked words a selection that was a query.
func Selected(c *echo.Context) (sel store.Selection, asked string, err error) {
	form, err := c.FormValues()
	if err != nil {
		return sel, "", echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	sel.Site = VisitorOf(c).Member.ID
	if picks := form["pick"]; len(picks) > 0 && form.Get("all") != "1" {
		if len(picks) > MaxPicks {
			return sel, "", echo.NewHTTPError(http.StatusBadRequest,
				fmt.Sprintf("%d cameras were picked one by one, and %d can be: filter them, and select all that match.",
					len(picks), MaxPicks))
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

// MaxPicks is how many cameras can be named one by one; more are named by a filter.
const MaxPicks = 1000

// StageOf finds a stage that this version does by its slug; ErrNotFound for any other.
func (s *Server) StageOf(slug string) (stage.Stage, error) {
	st, ok := stage.Parse(slug)
	if !ok || !s.Engine.Does(st) {
		return 0, store.ErrNotFound
	}
	return st, nil
}

// StartRead begins a run that reads a stage of a selection.
func (s *Server) StartRead(ctx context.Context, me Actor, st stage.Stage, sel store.Selection, asked string, then ...stage.Stage) (int64, error) {
	ask := engine.Ask{Site: me.Site, Stage: st, Person: me.Person, Token: me.Token, AskedOf: asked, Then: then}
	if len(then) > 0 && sel.IDs != nil {
		return 0, trouble.UserError("Cameras that are named one by one are read one stage at a time: give a filter, or all.")
	}
	return s.Engine.Read(ctx, ask, sel, me.Factory, me.Set)
}

func (s *Server) read(c *echo.Context) error {
	slug := c.Param("stage")
	if slug == "any" { // the Board's bar: which one is a field
		slug = c.FormValue("stage")
	}
	st, err := s.StageOf(slug)
	if err != nil {
		return err
	}
	sel, asked, err := Selected(c)
	if err != nil {
		return err
	}
	me := VisitorOf(c).Actor()
	me.Factory = c.FormValue("factory") == "1"
	me.Set, _ = strconv.ParseInt(c.FormValue("set"), 10, 64)
	then, err := s.through(st, c.FormValue("through"))
	if err != nil {
		return err
	}
	if _, err := s.StartRead(c.Request().Context(), me, st, sel, asked, then...); err != nil {
		return s.Told(c, err)
	}
	return s.Back(c, "")
}

// through lists the stages after one, up to the one with a slug, that can be read one after the other.
func (s *Server) through(from stage.Stage, slug string) (out []stage.Stage, err error) {
	if slug == "" {
		return nil, nil
	}
	last, err := s.StageOf(slug)
	for _, st := range stage.All() {
		if st > from && st <= last && s.Engine.Reads(st) {
			out = append(out, st)
		}
	}
	return out, err
}

// Told shows an error that is a sentence for the person, and passes others on.
func (s *Server) Told(c *echo.Context, err error) error {
	if IsTold(err) {
		return s.Back(c, err.Error())
	}
	return err
}

// Propose lists what a stage would change on a selection now.
func (s *Server) Propose(ctx context.Context, st stage.Stage, sel store.Selection) (picks []engine.Pick, underWay int, err error) {
	sel.ActStage, sel.Act = st, stage.Apply
	targets, err := s.Store.Resolve(ctx, sel, st)
	if err != nil {
		return nil, 0, err
	}
	return s.Engine.Propose(ctx, sel.Site, st, targets)
}

// ProposePreview keeps what a stage proposes for a selection, as it is shown to who asks.
func (s *Server) ProposePreview(ctx context.Context, me Actor, st stage.Stage, sel store.Selection, asked string) (store.Preview, error) {
	picks, underWay, err := s.Propose(ctx, st, sel)
	if err != nil {
		return store.Preview{}, err
	}
	all, err := s.Store.Resolve(ctx, sel, st)
	if err != nil {
		return store.Preview{}, err
	}
	ask := engine.Ask{Stage: st, Title: applyTitle(st, picks), AskedOf: asked}
	return s.KeepPreview(ctx, me, ask, picks, Left{Idle: max(0, len(all)-len(picks)-underWay), UnderWay: underWay})
}

// apply shows what a stage proposes for a selection; nothing is written by it.
func (s *Server) apply(c *echo.Context) error {
	st, err := s.StageOf(c.Param("stage"))
	if err != nil {
		return err
	}
	sel, asked, err := Selected(c)
	if err != nil {
		return err
	}
	p, err := s.ProposePreview(c.Request().Context(), VisitorOf(c).Actor(), st, sel, asked)
	if err != nil {
		return s.Told(c, err)
	}
	return s.toPreview(c, p, "")
}

// Plural counts things, see act.Count.
func Plural(n int, one string) string { return act.Count(n, one) }

// applyTitle is what a run is called that makes what a stage proposes.
func applyTitle(st stage.Stage, picks []engine.Pick) string {
	count := 0
	for _, p := range picks {
		count += len(p.Changes)
	}
	return fmt.Sprintf("%s: %s on %s", st, Plural(count, "change"), Plural(len(picks), "camera"))
}

// UndoPreview keeps what takes back a change of the site, as it is shown to who asks.
func (s *Server) UndoPreview(ctx context.Context, me Actor, id int64) (store.Preview, error) {
	ch, err := s.Store.Change(ctx, id)
	if err != nil {
		return store.Preview{}, err
	}
	if ch.SiteID != me.Site {
		return store.Preview{}, store.ErrNotFound
	}
	title, pick, err := s.Engine.TakesBack(ctx, ch)
	if err != nil {
		return store.Preview{}, err
	}
	return s.KeepPreview(ctx, me, engine.Ask{Stage: ch.Stage, Title: title}, []engine.Pick{pick}, Left{})
}

// Camera reads the view that a form names, with its device.
func (s *Server) Camera(c *echo.Context) (*site.Snapshot, site.Source, error) {
	ctx := c.Request().Context()
	id, err := strconv.ParseInt(c.FormValue("source"), 10, 64)
	if err != nil {
		return nil, site.Source{}, store.ErrNotFound
	}
	of, err := s.Store.SourceByID(ctx, id)
	if err != nil || of.Device.SiteID != VisitorOf(c).Member.ID {
		return nil, site.Source{}, cmp.Or(err, store.ErrNotFound)
	}
	v, err := site.Load(ctx, s.Store, of.Device.SiteID, []int64{of.Device.ID})
	if err != nil {
		return nil, site.Source{}, err
	}
	of, ok := v.Source(id)
	if !ok {
		return nil, site.Source{}, store.ErrNotFound
	}
	return v, of, nil
}

func (s *Server) stopRun(c *echo.Context) error {
	ctx, me := c.Request().Context(), VisitorOf(c)
	id, err := Number(c, "run")
	if err != nil {
		return err
	}
	if err := s.StopRun(ctx, me.Actor(), id); err != nil {
		return err
	}
	return s.Back(c, "The run stops: what is under way ends, nothing more begins.")
}

// StopRun asks a run to stop.
func (s *Server) StopRun(ctx context.Context, me Actor, run int64) error {
	if err := s.Store.StopRun(ctx, me.Site, run); err != nil {
		return err
	}
	return s.Store.Audit(ctx, store.AuditEntry{Site: me.Site, Person: me.Person, Token: me.Token, Act: "stopped a run",
		Detail: fmt.Sprintf("run %d", run)})
}

// Still passes a picture on that a device of the visitor's site gave, decoded and checked
// on the way.
func (s *Server) Still(c *echo.Context, of store.Device, get func() ([]byte, error)) error {
	if of.SiteID != VisitorOf(c).Member.ID {
		return store.ErrNotFound
	}
	data, err := get()
	if err != nil {
		s.Log.Info("no still", "device", of.ID, "err", err)
		return c.NoContent(http.StatusNotFound)
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Blob(http.StatusOK, "image/jpeg", data)
}

// WithQuery is a page's address with one query value changed.
func WithQuery(u *url.URL, key, value string) string {
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

// AddressText is an address, empty where there is none.
func AddressText(a *netip.Addr) string {
	if a == nil {
		return ""
	}
	return a.String()
}

// IsTold says whether an error is a sentence for the person, or a device's.
func IsTold(err error) bool {
	return err != nil && (errors.As(err, new(act.WrongError)) || errors.As(err, new(act.AskError)) || !engine.Ours(err))
}

// Flash keeps a sentence that the next page shows.
func (s *Server) Flash(ctx context.Context, sentence string) { s.sessions.Put(ctx, "flash", sentence) }

// Audit writes down what a person did, and has open pages of the site hear of it.
func (s *Server) Audit(ctx context.Context, me Visitor, act, detail string) error {
	err := s.Store.Audit(ctx, store.AuditEntry{Site: me.Member.ID, Person: me.Person.ID, Act: act, Detail: detail})
	s.Engine.Touch(me.Member.ID)
	return err
}

// LookedAtKnown is what the log says of who looks at who or what is known.
const LookedAtKnown = "looked at who or what is known"

// AuditOnce writes down what somebody did, where the same doesn't stand there of the last hour.
func (s *Server) AuditOnce(ctx context.Context, site, person, token int64, act, detail string) error {
	return s.Store.AuditOnce(ctx, store.AuditEntry{Site: site, Person: person, Token: token, Act: act, Detail: detail}, time.Hour)
}

// undo shows what takes back a change that was made.
func (s *Server) undo(c *echo.Context) error {
	id, err := Number(c, "change")
	if err != nil {
		return err
	}
	p, err := s.UndoPreview(c.Request().Context(), VisitorOf(c).Actor(), id)
	if err != nil {
		return s.Told(c, err)
	}
	return s.toPreview(c, p, "")
}

// Secret is shown on a page of its own, once, and kept by no browser.
type Secret struct {
	Heading, Secret, Note, Back string
}

// Show shows a secret.
func (s *Server) Show(c *echo.Context, x Secret) error {
	b := s.bare(c, x.Heading, "")
	b.Data = x
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Render(http.StatusOK, "secret", b)
}

// MaxTabs is how many cameras a page offers side by side; the filter reaches the rest.
const MaxTabs = 8

// Tabs picks the cameras that get a tab, the chosen one among them.
func Tabs(all []Row, chosen *Row) (tabs []Row, more int) {
	tabs = all[:min(len(all), MaxTabs)]
	if chosen != nil && !slices.ContainsFunc(tabs, func(r Row) bool { return r.ID == chosen.ID }) {
		tabs = append(slices.Clone(tabs[:MaxTabs-1]), *chosen)
	}
	return tabs, len(all) - len(tabs)
}

// Int is 1 for true, for sorting and counting.
func Int(b bool) int {
	if b {
		return 1
	}
	return 0
}

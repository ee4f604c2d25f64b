// Package analytics shows what will fire, and on what: the rules of a camera on its own picture, each a sentence.
package analytics

import (
	"bytes"
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"image/jpeg"
	"io/fs"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/picture"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/analytics"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed *.html page.css *.js
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
	stage *analytics.Stage
}

// New makes the page.
func New(s *shell.Server, st *analytics.Stage) *Page { return &Page{s, st} }

// Slug is its address.
func (*Page) Slug() string { return "analytics" }

// Files are its template, style and script.
func (*Page) Files() fs.FS { return files }

// Stage is stage.Analytics.
func (*Page) Stage() stage.Stage { return stage.Analytics }

// Routes adds the rehearsal of what stands in the form.
func (pg *Page) Routes(r *shell.Routes) {
	r.Change.POST("/analytics/rehearse", pg.rehearse)
	r.Change.GET("/analytics/crop", pg.crop)
}

// crop is the picture that a camera sent of an object. It is coded anew: nothing of the camera's own coding reaches a browser.
func (pg *Page) crop(c *echo.Context) error {
	source, err := strconv.ParseInt(c.QueryParam("camera"), 10, 64)
	at, err2 := time.Parse(time.RFC3339Nano, c.QueryParam("at"))
	if err != nil || err2 != nil {
		return store.ErrNotFound
	}
	ctx := c.Request().Context()
	data, err := pg.Store.Crop(ctx, shell.VisitorOf(c).Member.ID, source, c.QueryParam("object"), at)
	if err != nil {
		return err
	}
	img, err := picture.Decode(ctx, data)
	if err != nil {
		return store.ErrNotFound
	}
	var out bytes.Buffer
	if err := jpeg.Encode(&out, img, &jpeg.Options{Quality: 88}); err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "private, max-age=300")
	return c.Blob(http.StatusOK, "image/jpeg", out.Bytes())
}

// rehearse answers the page's script with what the rule in the form would have fired on.
func (pg *Page) rehearse(c *echo.Context) error {
	var x analytics.Rehearsed
	if err := echo.BindBody(c, &x); err != nil {
		return c.JSON(http.StatusUnprocessableEntity, map[string]string{"error": "Say figures as numbers."})
	}
	out, err := pg.stage.Rehearse(c.Request().Context(), shell.VisitorOf(c).Member.ID, x)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return err
	case shell.IsTold(err):
		return c.JSON(http.StatusUnprocessableEntity, map[string]string{"error": trouble.Sentence(err)})
	case err != nil:
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// data is one camera's picture with its rules.
type data struct {
	Can     int // cameras whose rules can be read
	Waiting int // that weren't
	Tabs    []shell.Row
	More    int
	Others  []shell.Row // that rules can be drawn for as well
	Chosen  *shell.Row
	Facts   rule.Facts
	Picture shell.Picture
	Rules   []standing
	Hand    *standing        // the one in hand; nil: a new one is drawn, or none
	Form    *sentence        // nil: nothing is in hand, or who looks may draw nothing
	Gather  *store.Gathering // nil: what it sees isn't gathered
	Write   int              // changes that have the camera be as it is drawn
	Drawn   int              // such changes of all cameras here
	OnMany  int              // cameras that have some
	Motion  *motion          // how its cells see motion; nil: it tells of none
	Sets    []set            // of the site
	Paired  *paired          // which analyser looks at the one in hand; nil: none does

	Analysers []looking
	Without   []shell.Row // cameras that have no analytics, and that nobody looks at
}

// motion is how a camera's cells see motion.
type motion struct {
	rule.Module
	Sensitivity int
}

// Stage is the page's: its tabs show who waits for somebody there.
func (data) Stage() stage.Stage { return stage.Analytics }

// set is one of the site's sets of rules, beside what the chosen camera has.
type set struct {
	rule.Set
	Stands string
	Mark   string
}

// standing is a rule in the list.
type standing struct {
	rule.Standing
	Mark  string // the state of its mark
	Says  string // what it watches for, in two words
	Whole string // and in a line
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	var d data
	var err error
	if d.Can, err = p.Can(ctx, stage.Analytics); err != nil {
		return nil, err
	}
	want, _ := strconv.ParseInt(p.URL.Query().Get("camera"), 10, 64)
	var all []shell.Row
	for _, r := range p.Rows {
		f, drawn := facts.ForRules(p.Snapshot, r.Source)
		switch {
		case f.LookedAt.IsZero():
			d.Waiting++
		case f.Known() || len(drawn) > 0 || f.Trouble != "":
			all = append(all, r)
			if n := len(rule.Unwritten(f, drawn)); n > 0 {
				d.Drawn, d.OnMany = d.Drawn+n, d.OnMany+1
			}
		}
	}
	for i := range all {
		if d.Chosen == nil || all[i].ID == want {
			d.Chosen = &all[i]
		}
	}
	d.Tabs, d.More = shell.Tabs(all, d.Chosen)
	ours, err := pg.Store.LookedAt(ctx, p.Site.ID)
	if err != nil {
		return nil, err
	}
	var drawn []rule.Drawn
	if d.Chosen != nil {
		_, drawn = facts.ForRules(p.Snapshot, d.Chosen.Source)
	}
	d.analysers(p, ours, drawn)
	if d.Chosen == nil {
		return &d, nil
	}
	d.Others = slices.DeleteFunc(slices.Clone(all), func(r shell.Row) bool { return r.ID == d.Chosen.ID })
	of := d.Chosen.Source
	f, drawn := facts.ForRules(p.Snapshot, of)
	d.Facts, d.Rules = f, standings(f, drawn)
	d.Write = len(rule.Unwritten(f, drawn))
	if e, _ := facts.RuleSet.Of(p.Snapshot, of); e.Token != "" {
		if m, v, ok := rule.MotionOf(e.Modules); ok {
			d.Motion = &motion{m, v}
		}
	}
	switch g, err := pg.Store.GatheringOf(ctx, of.ID); {
	case err == nil:
		d.Gather = &g
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	}
	sets, err := pg.Store.RuleSets(ctx, p.Site.ID)
	if err != nil {
		return nil, err
	}
	for _, x := range sets {
		d.Sets = append(d.Sets, setOf(x, x.Compare(f, drawn)))
	}
	d.inHand(p, of)
	marks := shell.Marks{Says: "Rules on the picture of " + of.Place}
	for i := range d.Rules {
		hand := &d.Rules[i] == d.Hand
		drawn := d.Rules[i].shapes(hand)
		if len(drawn) > 0 && !hand && len(d.Rules) > mostNamed {
			drawn[0].Label = ""
		}
		marks.Shapes = append(marks.Shapes, drawn...)
	}
	apart(marks.Shapes)
	d.Picture = shell.Picture{Src: fmt.Sprintf("%s/%d", p.Path("stills"), of.ID), Alt: "Still of " + of.Place, Marks: marks}
	return &d, nil
}

// apart takes the names off that would lie over another: rules that begin at one spot are named by the one in hand, or the first.
func apart(all []shell.Shape) {
	named := map[string]int{}
	for i, s := range all {
		spot, _, _ := strings.Cut(s.Points, " ")
		before, there := named[spot]
		switch {
		case s.Label == "" || spot == "":
		case !there:
			named[spot] = i
		case strings.Contains(s.Class, "inhand"):
			all[before].Label, named[spot] = "", i
		default:
			all[i].Label = ""
		}
	}
}

// setOf says in a line how a set stands at the camera.
func setOf(s rule.Set, at rule.SetStanding) set {
	x := set{Set: s, Mark: "notyet"}
	var parts []string
	for _, p := range []struct {
		names []string
		says  string
	}{{at.Same, "as in the set"}, {at.Drawn, "drawn, not written"}, {at.Otherwise, "otherwise"}, {at.Missing, "missing"}} {
		if len(p.names) > 0 {
			parts = append(parts, strings.Join(p.names, ", ")+" "+p.says)
		}
	}
	switch {
	case len(at.Same) == len(s.Rules):
		x.Mark = "ready"
	case len(at.Missing) < len(s.Rules):
		x.Mark = "needs"
	}
	x.Stands = strings.Join(parts, "; ")
	return x
}

// inHand picks the rule that the address, or a form that was refused, says.
func (d *data) inHand(p *shell.Request, of site.Source) {
	q := p.URL.Query()
	id, _ := strconv.ParseInt(cmp.Or(q.Get("rule"), p.Field("analytics/draw", "rule", "")), 10, 64)
	for i, s := range d.Rules {
		if s.Drawn != nil && s.Drawn.ID == id && id != 0 || s.Drawn == nil && q.Get("on") != "" && s.Name == q.Get("on") {
			d.Hand = &d.Rules[i]
		}
	}
	fresh := q.Get("rule") == "new" || d.Hand == nil && p.Refuses("analytics/draw")
	if d.Hand == nil && !fresh && q.Get("on") == "" && len(d.Rules) > 0 {
		d.Hand = &d.Rules[0]
	}
	if !p.MayChange {
		return
	}
	switch {
	case d.Hand != nil && d.Hand.Drawn != nil:
		d.Form = sentenceOf(p, of, *d.Hand.Drawn, d.Facts.Supported)
	case d.Hand == nil && (fresh || len(d.Rules) == 0):
		d.Form = sentenceOf(p, of, rule.Drawn{Rule: rule.Rule{Kind: rule.Inside}}, d.Facts.Supported)
	}
}

func standings(f rule.Facts, drawn []rule.Drawn) (out []standing) {
	for _, s := range rule.Stand(f, drawn) {
		x := standing{Standing: s, Mark: "notyet"}
		r, ok := s.OnSays, s.Clear
		if s.Drawn != nil {
			r, ok = s.Drawn.Rule, true
		}
		if ok {
			x.Says, x.Whole = short(r), r.Text()
		} else {
			x.Says = "a " + s.On.Type
			x.Whole = "A rule of the type " + s.On.Type + " that there is no sentence for: it stays as it is."
		}
		switch {
		case s.State == rule.AsDrawn:
			x.Mark = "ready"
		case len(s.Cant) > 0, s.State == rule.Otherwise, s.State == rule.NotYet, s.State == rule.OnYet, s.State == rule.Renamed:
			x.Mark = "needs"
		case s.State == rule.Foreign, s.State == rule.Off:
			x.Mark = "na"
		}
		out = append(out, x)
	}
	return out
}

// short is what a rule watches for, without its drawing.
func short(r rule.Rule) string {
	says := strings.TrimSuffix(strings.TrimSuffix(r.Kind.Verb(), " in"), " into")
	if r.Kind.Verb() != says || r.Kind == rule.Inside {
		says = r.Kind.Verb()
	}
	switch {
	case r.Kind == rule.Crosses && r.Direction == rule.LeftToRight:
		says += " to the right"
	case r.Kind == rule.Crosses && r.Direction == rule.RightToLeft:
		says += " to the left"
	case r.For > 0:
		says += fmt.Sprintf(" %g s", r.For.Seconds())
	}
	return says
}

// mostNamed is how many rules on one picture are named beside their drawings; of more, the one in hand is.
const mostNamed = 8

// shapes are the rule on the picture.
func (s standing) shapes(hand bool) []shell.Shape {
	r, ok := s.OnSays, s.Clear
	if s.Drawn != nil {
		r, ok = s.Drawn.Rule, true
	}
	if !ok {
		return nil
	}
	class := "rule"
	if hand {
		class += " inhand"
	}
	out := shell.RuleShapes(class, r)
	if len(out) > 0 {
		out[0].Label = s.Name
	}
	return out
}

// HandName is the name of the rule in hand.
func (d data) HandName() string {
	if d.Hand == nil {
		return ""
	}
	return d.Hand.Name
}

// Link is the page with a rule in hand.
func (d data) Link(b shell.Frame, s standing) string {
	q := url.Values{"camera": {strconv.FormatInt(d.Chosen.ID, 10)}}
	if s.Drawn != nil {
		q.Set("rule", strconv.FormatInt(s.Drawn.ID, 10))
	} else {
		q.Set("on", s.Name)
	}
	return b.Path("analytics") + "?" + q.Encode()
}

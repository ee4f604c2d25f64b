package recording

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// maxName is how long a plan's name may be, in characters.
const maxName = 60

// posted reads the draft of a form; where it is wrong the page shows it as it was typed.
func (pg *Page) posted(c *echo.Context) (d draft, ok bool, err error) {
	form, err := c.FormValues()
	if err != nil {
		return d, false, echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	plans, err := pg.Store.RecordingPlans(c.Request().Context(), shell.VisitorOf(c).Member.ID)
	if err != nil {
		return d, false, err
	}
	d = read(url.Values(form), plans)
	switch {
	case d.Wrong != "":
	case d.Name == "" || len([]rune(d.Name)) > maxName:
		d.Wrong = fmt.Sprintf("Name the plan, in up to %d characters.", maxName)
	default:
		return d, true, nil
	}
	return d, false, pg.again(c, url.Values(form), d.Wrong)
}

// again shows the page with the draft as it was typed, and why it isn't taken.
func (pg *Page) again(c *echo.Context, form url.Values, says string) error {
	typed := url.Values{}
	for k, v := range form {
		if k == "plan" || k == "name" || k == "pick" || len(k) > 1 && (k[0] == 'm' || k[0] == 'd') && k[1] >= '0' && k[1] <= '9' {
			typed[k] = v
		}
	}
	pg.Flash(c.Request().Context(), says)
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/recording?%s", shell.VisitorOf(c).Member.ID, typed.Encode()))
}

// draft shows the plan in hand as it was changed, with what it would make: nothing is kept. With
// script the page asks for that itself.
func (pg *Page) draft(c *echo.Context) error {
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	me := shell.VisitorOf(c)
	plans, err := pg.Store.RecordingPlans(c.Request().Context(), me.Member.ID)
	if err != nil {
		return err
	}
	d := read(url.Values(form), plans)
	if d.Wrong != "" {
		return pg.again(c, url.Values(form), d.Wrong)
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/recording?%s", me.Member.ID, fields(d.ID, d.Name, d.Plan).Encode()))
}

// kept keeps the draft under its name and has those be judged that it was chosen for.
func (pg *Page) kept(c *echo.Context, d draft) (id int64, says string, err error) {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err = pg.Store.KeepRecordingPlan(ctx, me.Member.ID, store.RecordingPlan{ID: d.ID, Name: d.Name, Plan: d.Plan})
	if errors.Is(err, store.ErrTaken) {
		return 0, fmt.Sprintf("Another plan is called %q: give this one another name, or choose that one.", d.Name), nil
	}
	if err != nil {
		return 0, "", err
	}
	if err := pg.Audit(ctx, me, "kept a recording plan", d.Name+": "+d.Plan.String()); err != nil {
		return 0, "", err
	}
	return id, "", pg.Engine.Judge(ctx, me.Member.ID, nil)
}

// keep keeps the plan in hand under its name.
func (pg *Page) keep(c *echo.Context) error {
	d, ok, err := pg.posted(c)
	if err != nil || !ok {
		return err
	}
	id, says, err := pg.kept(c, d)
	if err != nil {
		return err
	}
	if says != "" {
		form, _ := c.FormValues()
		return pg.again(c, url.Values(form), says)
	}
	pg.Flash(c.Request().Context(), d.Name+" is kept. Nothing was written to a recorder.")
	to := pg.at(c, id)
	if form, err := c.FormValues(); err == nil { // ticks stay
		for _, v := range form["pick"] {
			to += "&pick=" + url.QueryEscape(v)
		}
	}
	return c.Redirect(http.StatusSeeOther, to)
}

func (pg *Page) at(c *echo.Context, plan int64) string {
	return fmt.Sprintf("/sites/%d/recording?plan=%d", shell.VisitorOf(c).Member.ID, plan)
}

// write keeps the plan in hand, chooses it for the selection, and shows what that changes.
func (pg *Page) write(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	sel, asked, err := shell.Selected(c)
	if err != nil {
		return err
	}
	d, ok, err := pg.posted(c)
	if err != nil || !ok {
		return err
	}
	targets, err := pg.Store.Resolve(ctx, sel, stage.Recording)
	if err != nil {
		return err
	}
	id, says, err := pg.kept(c, d)
	if err != nil {
		return err
	}
	if says != "" {
		form, _ := c.FormValues()
		return pg.again(c, url.Values(form), says)
	}
	sources := make([]int64, len(targets))
	for i, t := range targets {
		sources[i] = t.Source
	}
	devices, err := pg.Store.ChoosePlan(ctx, me.Member.ID, id, sources)
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "chose a recording plan", fmt.Sprintf("%s for %s", d.Name, shell.Plural(len(sources), "camera"))); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, devices); err != nil {
		return err
	}
	return pg.show(c, id, d, targets, asked)
}

// show shows what choosing a plan changes on channels, and whose can't be changed.
func (pg *Page) show(c *echo.Context, id int64, d draft, targets []store.Target, asked string) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	var left shell.Left
	now := time.Now()
	picks, underWay, err := pg.Engine.Gather(ctx, me.Member.ID, stage.Recording, targets, func(s *site.Snapshot, of site.Source) []finding.Change {
		f, w := s.Recording(of)
		changes := recording.Propose(now, f, w)
		switch {
		case len(changes) > 0:
		case f.Slot == nil:
			left.Cant = append(left.Cant, of.Place+": no channel holds it yet; the plan is chosen, and is proposed once it is placed.")
		case f.Slot.Plan == nil:
			left.Cant = append(left.Cant, fmt.Sprintf("%s: %s doesn't tell what it keeps, and takes no plan from here.", of.Place, f.Recorder))
		case f.Slot.Plan.Equal(w.Plan):
			left.Idle++
		default:
			for _, p := range f.Problems(w.Plan, true) {
				if p.Never {
					left.Cant = append(left.Cant, of.Place+": "+p.Sentence)
				}
			}
		}
		return changes
	})
	if err != nil {
		return pg.Told(c, err)
	}
	left.UnderWay = underWay
	p, err := pg.KeepPreview(ctx, me.Actor(), engine.Ask{Stage: stage.Recording, Title: fmt.Sprintf("%s on %s", d.Name, shell.Plural(len(picks), "channel")), AskedOf: asked}, picks, left)
	if shell.IsTold(err) {
		says := fmt.Sprintf("%s is chosen for %s.", d.Name, shell.Plural(len(targets), "camera"))
		if errors.Is(err, shell.ErrNothing) {
			says += " Their channels keep by it already."
		} else {
			says += " " + err.Error()
		}
		pg.Flash(c.Request().Context(), says)
		return c.Redirect(http.StatusSeeOther, pg.at(c, id))
	}
	if err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("%s&preview=%d", pg.at(c, id), p.ID))
}

// remove takes a plan off the site; channels keep by it until another is written.
func (pg *Page) remove(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := strconv.ParseInt(c.FormValue("plan"), 10, 64)
	if err != nil {
		return store.ErrNotFound
	}
	name, devices, err := pg.Store.DropRecordingPlan(ctx, me.Member.ID, id)
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "took a recording plan off", name); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, devices); err != nil {
		return err
	}
	pg.Flash(c.Request().Context(), name+" is gone. What channels keep stays as it is.")
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/recording", me.Member.ID))
}

// keeping keeps for how many days the site keeps.
func (pg *Page) keeping(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	var k store.Keeping
	for _, x := range []struct {
		name string
		to   *int
		most int
	}{{"least", &k.Least, 3650}, {"most", &k.Most, 3650}, {"active", &k.Active, 100}} {
		text := strings.TrimSpace(c.FormValue(x.name))
		if text == "" {
			continue
		}
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 || n > x.most {
			return pg.Refuse(c, x.name, fmt.Sprintf("A whole number from 0 to %d; empty: none.", x.most))
		}
		*x.to = n
	}
	if k.Most > 0 && k.Least > k.Most {
		return pg.Refuse(c, "least", "The contract's least is more than the privacy rule's most.")
	}
	if err := pg.Store.SetKeeping(ctx, me.Member.ID, k); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "said for how long recordings are kept", fmt.Sprintf("at least %d days, at most %d; something for %d %% where nobody counted", k.Least, k.Most, k.Active)); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil {
		return err
	}
	return pg.Back(c, "Kept, and every recording was judged by it.")
}

// age shows what has a recorder delete what is older than the site allows.
func (pg *Page) age(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	days, err2 := strconv.Atoi(c.FormValue("days"))
	if err != nil || err2 != nil || days < 0 || days > 3650 {
		return pg.Back(c, "Say after how many days it is to delete, 0 to 3650.")
	}
	s, err := site.Load(ctx, pg.Store, me.Member.ID, []int64{id})
	if err != nil {
		return err
	}
	rec, ok := s.Device(id)
	r, known := site.Recorder.Of(s, id)
	if !ok || !known {
		return store.ErrNotFound
	}
	if r.Storage.Deletes == days {
		return pg.Back(c, rec.Place+" does so already.")
	}
	ch := recording.Age(rec.Place, id, r.Storage, days)
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Recording, Title: ch.Title}, []engine.Pick{{Source: rec.Whole(), Changes: []finding.Change{ch}}}, shell.Left{})
}

package recording

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/labstack/echo/v5"

	stage "duskyharbor/internal/stages/recording"
	"duskyharbor/internal/web/shell"
)

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
	if d.Wrong != "" {
		return d, false, pg.again(c, url.Values(form), d.Wrong)
	}
	return d, true, nil
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

// keep keeps the plan in hand under its name.
func (pg *Page) keep(c *echo.Context) error {
	d, ok, err := pg.posted(c)
	if err != nil || !ok {
		return err
	}
	done, err := pg.Asks(c, "recording/plan", &stage.Plan{ID: d.ID, Name: d.Name, Plan: d.Plan})
	if shell.IsTold(err) {
		form, _ := c.FormValues()
		return pg.again(c, url.Values(form), err.Error())
	}
	if err != nil {
		return err
	}
	pg.Flash(c.Request().Context(), done.Says)
	to := pg.at(c, done.ID)
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
	d, ok, err := pg.posted(c)
	if err != nil || !ok {
		return err
	}
	args := &stage.Write{Plan: stage.Plan{ID: d.ID, Name: d.Name, Plan: d.Plan}}
	if err := shell.BindForm(c, &args.Selection); err != nil {
		return err
	}
	done, err := pg.Asks(c, "recording/write", args)
	switch {
	case shell.IsTold(err) && done.ID == 0:
		form, _ := c.FormValues()
		return pg.again(c, url.Values(form), err.Error())
	case shell.IsTold(err):
		pg.Flash(c.Request().Context(), err.Error())
		return c.Redirect(http.StatusSeeOther, pg.at(c, done.ID))
	case err != nil:
		return err
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("%s&preview=%d", pg.at(c, done.ID), done.Preview.ID))
}

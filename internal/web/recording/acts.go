package recording

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/web/shell"
)

// show shows the plan in hand as it was changed, with what it would make: nothing is kept. With script the page asks for that
// itself.
func (pg *Page) show(c *echo.Context) error {
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
		return pg.Refuse(c, "plan", d.Wrong)
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/recording?%s", me.Member.ID, d.fields().Encode()))
}

// inHand is the draft that a page shows: of a form that was just refused, else of its address.
func inHand(p *shell.Request) url.Values {
	for _, act := range []string{"recording/plan", "recording/write", "recording/draft"} {
		if p.Refuses(act) && p.Refused.Values != nil {
			return p.Refused.Values
		}
	}
	return p.URL.Query()
}

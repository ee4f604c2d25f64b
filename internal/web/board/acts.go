package board

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// plan keeps which recorder the selected views are planned for. Nothing is written to any
// device: placing them is a change of Channels.
func (pg *Page) plan(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	recorder, err := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	if err != nil {
		return pg.Back(c, "Pick the recorder that they are planned for.")
	}
	all, err := pg.Store.Devices(ctx, me.Member.ID)
	if err != nil {
		return err
	}
	name := "no recorder"
	if recorder != 0 {
		i := slices.IndexFunc(all, func(d store.Device) bool { return d.ID == recorder && d.Kind == identity.Recorder })
		if i < 0 {
			return store.ErrNotFound
		}
		name = all[i].Place
	}
	rows, err := pg.selected(c)
	if err != nil {
		return err
	}
	sources := make([]int64, len(rows))
	for i, r := range rows {
		sources[i] = r.ID
	}
	touched, err := pg.Store.Plan(ctx, me.Member.ID, recorder, sources)
	if err != nil {
		return err
	}
	if len(touched) == 0 {
		return pg.Back(c, "They are planned for "+name+" already.")
	}
	if err := pg.Audit(ctx, me, "planned a recorder", fmt.Sprintf("%s for %s", places(rows), name)); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, touched); err != nil {
		return err
	}
	return pg.Back(c, shell.Plural(len(sources), "view")+" planned for "+name+". Place them on Channels.")
}

// remove takes the selected cameras off the site, with what was read of them. Nothing is
// written to any.
func (pg *Page) remove(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	rows, err := pg.selected(c)
	if err != nil {
		return err
	}
	var devices []int64
	for _, r := range rows {
		if !slices.Contains(devices, r.Device.ID) {
			devices = append(devices, r.Device.ID)
		}
	}
	if len(devices) == 0 {
		return pg.Back(c, "None of them is there any more.")
	}
	if !shell.Sure(c) {
		text, err := pg.goesText(ctx, me.Member.ID, rows, devices)
		if err != nil {
			return err
		}
		return pg.Ask(c, fmt.Sprintf("Remove %s?", places(rows)), text, fmt.Sprintf("Remove %s", shell.Plural(len(devices), "camera")))
	}
	goes, err := pg.Store.GoesWith(ctx, me.Member.ID, devices)
	if err != nil {
		return err
	}
	n, err := pg.Store.Remove(ctx, me.Member.ID, devices)
	switch {
	case errors.Is(err, store.ErrBusy):
		return pg.Back(c, "A change of one of them is being made: let it end, or stop its run first.")
	case err != nil:
		return err
	}
	says := fmt.Sprintf("%s with %s, %s, %s and %s", shell.Plural(n, "camera"), shell.Plural(goes.Views, "view"),
		shell.Plural(goes.Readings, "reading"), shell.Plural(goes.Changes, "change"), shell.Plural(goes.Proofs, "proof"))
	if err := pg.Audit(ctx, me, "removed cameras", places(rows)+": "+says); err != nil {
		return err
	}
	pg.Flash(ctx, says+" went from the site. Nothing was written to any; a look that hears one shows it again.")
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/board", me.Member.ID))
}

// goesText says what goes with cameras that are removed, and which a recorder goes on recording.
func (pg *Page) goesText(ctx context.Context, of int64, rows []store.Source, devices []int64) (string, error) {
	s, err := site.Load(ctx, pg.Store, of, devices)
	if err != nil {
		return "", err
	}
	var held []string
	for _, r := range rows {
		if rec, slot, ok := s.HolderOf(r); ok && slot != nil {
			held = append(held, fmt.Sprintf("%s is on channel %d of %s", r.Place, slot.Number, rec.Place))
		}
	}
	text := fmt.Sprintf("%s with all views, readings and proofs of each: this goes from this site. The log keeps what was changed. Nothing is written to them; a look that hears one shows it again.", places(rows))
	if len(held) > 0 {
		more := ""
		if n := len(held) - namedMost; n > 0 {
			more = fmt.Sprintf(", and %d more are held", n)
		}
		text += " " + strings.Join(held[:min(len(held), namedMost)], "; ") + more + ", as was read last: they stay there, and what is recorded of them nobody here sees then."
	}
	return text, nil
}

// selected reads the views that the form names.
func (pg *Page) selected(c *echo.Context) ([]store.Source, error) {
	sel, _, err := shell.Selected(c)
	if err != nil {
		return nil, err
	}
	rows, _, err := pg.Store.Window(c.Request().Context(), sel, store.Sort{}, 0, shell.MaxSelected)
	return rows, err
}

// namedMost is how many places the log names.
const namedMost = 5

func places(rows []store.Source) string {
	var names []string
	for _, r := range rows[:min(len(rows), namedMost)] {
		names = append(names, r.Place)
	}
	s := strings.Join(names, ", ")
	if more := len(rows) - namedMost; more > 0 {
		s += fmt.Sprintf(" and %d more", more)
	}
	return s
}

package api

import (
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/web/shell"
)

// changes answers with a window of the changes that were asked for.
func (pg *Page) changes(c *echo.Context) error {
	after, limit, err := pageOf(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	camera, _ := strconv.ParseInt(c.QueryParam("camera"), 10, 64)
	all, err := pg.Store.Changes(c.Request().Context(), shell.TokenOf(c).SiteID, camera, after, limit)
	if err != nil {
		return err
	}
	out := make([]shell.Change, len(all))
	for i, x := range all {
		out[i] = shell.ChangeOut(x)
	}
	return c.JSON(http.StatusOK, map[string]any{"changes": out})
}

// apply has proposed changes made, as a person who was shown them would.
func (pg *Page) apply(c *echo.Context) error {
	st, sel, words, err := pg.readAsked(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	ctx := c.Request().Context()
	id, err := pg.StartApply(ctx, shell.ByToken(c), st, sel, words)
	if err != nil {
		return err
	}
	return pg.sendRun(ctx, c, http.StatusAccepted, id)
}

// undo has one verified change taken back.
func (pg *Page) undo(c *echo.Context) error {
	id, err := shell.Number(c, "change")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	run, err := pg.TakeBack(ctx, shell.ByToken(c), id)
	if err != nil {
		return err
	}
	return pg.sendRun(ctx, c, http.StatusAccepted, run)
}

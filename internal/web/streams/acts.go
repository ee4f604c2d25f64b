package streams

import (
	"context"
	"errors"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/live"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// watching answers a browser's offer to see a view moving.
func (pg *Page) watching(c *echo.Context) error {
	id, err := strconv.ParseInt(c.FormValue("source"), 10, 64)
	if err != nil {
		return store.ErrNotFound
	}
	if pg.live == nil {
		return c.JSON(http.StatusOK, moving{Trouble: "This server shows no moving pictures: it was started without."})
	}
	shown, err := pg.live.Show(c.Request().Context(), shell.VisitorOf(c).Member.ID, id, c.FormValue("offer"))
	switch {
	case errors.Is(err, store.ErrNotFound):
		return err
	case errors.Is(err, context.Canceled):
		return nil
	case err != nil && !shell.IsTold(err):
		return err
	case err != nil:
		return c.JSON(http.StatusOK, moving{Trouble: trouble.Sentence(err), Again: err.Error() != live.ErrNoH264.Error()})
	}
	return c.JSON(http.StatusOK, moving{Call: shown.Call, Answer: shown.Answer})
}

// moving is the answer to an offer.
type moving struct {
	Call    int64  `json:"call,omitempty"`
	Answer  string `json:"answer,omitempty"`
	Trouble string `json:"trouble,omitempty"`
	Again   bool   `json:"again,omitempty"` // it may be otherwise in a while
}

// talking answers a browser's offer to talk through a view's speaker.
func (pg *Page) talking(c *echo.Context) error {
	return pg.sound(c, (*live.Relay).Talk, "talked through a speaker")
}

// listening answers a browser's offer to hear a view.
func (pg *Page) listening(c *echo.Context) error {
	return pg.sound(c, (*live.Relay).Listen, "listened to a camera")
}

func (pg *Page) sound(c *echo.Context, do func(*live.Relay, context.Context, site.Source, string) (string, error), act string) error {
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	if pg.live == nil {
		return c.JSON(http.StatusOK, moving{Trouble: "This server passes no sound on: it was started without."})
	}
	answer, err := do(pg.live, c.Request().Context(), of, c.FormValue("offer"))
	switch {
	case errors.Is(err, context.Canceled):
		return nil
	case err != nil && !shell.IsTold(err):
		return err
	case err != nil:
		return c.JSON(http.StatusOK, moving{Trouble: trouble.Sentence(err)})
	}
	if err := pg.Audit(c.Request().Context(), shell.VisitorOf(c), act, of.Place); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, moving{Answer: answer})
}

// looking hears that a page still looks.
func (pg *Page) looking(c *echo.Context) error {
	id, err := strconv.ParseInt(c.FormValue("call"), 10, 64)
	if err != nil || pg.live == nil {
		return store.ErrNotFound
	}
	if err := pg.live.Keep(c.Request().Context(), shell.VisitorOf(c).Member.ID, id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

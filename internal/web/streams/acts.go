package streams

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/rule"
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

// boxes tells what a view's analytics see as it comes, a line of JSON a picture, until who looks ends it.
func (pg *Page) boxes(c *echo.Context) error {
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	w := c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("Cache-Control", "no-store")
	rc, out := http.NewResponseController(w), json.NewEncoder(w)
	say := func(x any) error {
		if err := rc.SetWriteDeadline(time.Now().Add(20 * time.Second)); err != nil {
			return err
		}
		if err := out.Encode(x); err != nil {
			return err
		}
		return rc.Flush()
	}
	if pg.live == nil {
		return say(seenBoxes{Trouble: "This server shows nothing moving: it was started without."})
	}
	if err := pg.Audit(c.Request().Context(), shell.VisitorOf(c), "looked at what analytics see", of.Place); err != nil {
		return err
	}
	err = pg.live.Boxes(c.Request().Context(), of, func(b live.Boxed) error { return say(seenOf(b)) })
	if err != nil && c.Request().Context().Err() == nil {
		_ = say(seenBoxes{Trouble: trouble.Sentence(err)}) // it has begun: no other answer can be given
	}
	return nil
}

// seenBoxes is what is seen in one picture.
type seenBoxes struct {
	Objects []seenBox `json:"objects"`
	Trouble string    `json:"trouble,omitempty"`
}

// seenBox is one of it, in hundredths of the picture from its upper left corner.
type seenBox struct {
	Left   float64 `json:"left"`
	Top    float64 `json:"top"`
	Width  float64 `json:"width"`
	Height float64 `json:"height"`
	Says   string  `json:"says"`
}

func seenOf(b live.Boxed) seenBoxes {
	out := seenBoxes{Objects: []seenBox{}}
	for _, o := range b.Objects {
		says := cmp.Or(o.Class, "something")
		if o.Score < 1 {
			says += fmt.Sprintf(" %.0f %%", 100*o.Score)
		}
		o.Traits.Lacks = nil // what it hasn't is much, and says little
		if looks := rule.Told(o.Traits); looks != "" {
			says += ", " + looks
		}
		out.Objects = append(out.Objects, seenBox{50 * (o.Box.Left + 1), 50 * (1 - o.Box.Top), 50 * (o.Box.Right - o.Box.Left), 50 * (o.Box.Top - o.Box.Bottom), says})
	}
	return out
}

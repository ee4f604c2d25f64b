package streams

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/live"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// encoders shows what would set the encoders of a selection as a person wants it.
func (pg *Page) encoders(c *echo.Context) error {
	want, says, err := wantOf(c.FormValue("codec"), c.FormValue("key"))
	if err != nil {
		return pg.Told(c, err)
	}
	return pg.alike(c, says, func(s *site.Snapshot, of site.Source) ([]finding.Change, []string) {
		return pg.stage.Asked(s, of, want)
	})
}

// wantOf reads what a person chose for encoders, and words it.
func wantOf(codec, key string) (want stream.Want, says string, err error) {
	var parts []string
	if codec != "" {
		if !slices.Contains(offeredCodecs, codec) {
			return want, "", trouble.Told("That isn't a codec that can be asked for.")
		}
		want.Codecs = []string{codec}
		parts = append(parts, "Send "+stream.Pretty(codec))
	}
	if key != "" {
		seconds, err := strconv.ParseFloat(key, 64)
		if err != nil || !(seconds >= 0.2 && seconds <= 10) {
			return want, "", trouble.Told("From key frame to key frame it is 0.2 to 10 seconds.")
		}
		want.KeyEvery = time.Duration(seconds * float64(time.Second))
		parts = append(parts, fmt.Sprintf("%g s between key frames", seconds))
	}
	if len(parts) == 0 {
		return want, "", trouble.Told("Choose a codec, or how far key frames are apart.")
	}
	return want, strings.Join(parts, ", "), nil
}

// offeredCodecs can be asked for in bulk.
var offeredCodecs = []string{"H264", "H265", "JPEG"}

// consent writes down, or strikes out, that sound may be recorded at a view.
func (pg *Page) consent(c *echo.Context) error {
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	me := shell.VisitorOf(c)
	text, act, says := "", "struck out the consent to record sound", "No sound may be recorded at "+of.Place+" any more: read its streams again."
	if c.FormValue("off") != "1" {
		if text, err = stream.ParseConsent(c.FormValue("text")); err != nil {
			return pg.Refuse(c, "text", err.Error())
		}
		act, says = "wrote down consent to record sound", "Sound may be recorded at "+of.Place+": read its streams again to hear whether it is there."
	}
	if err := pg.Store.SetConsent(c.Request().Context(), me.Member.ID, of.ID, text, me.Person.Name); err != nil {
		return err
	}
	return pg.JudgedBack(c, of, act, ": "+text, says)
}

// plan plans another recorder for a view whose streams the planned one can't take.
func (pg *Page) plan(c *echo.Context) error {
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	id, _ := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	i := slices.IndexFunc(v.Recorders(), func(d store.Device) bool { return d.ID == id })
	if i < 0 {
		return store.ErrNotFound
	}
	rec := v.Recorders()[i]
	if _, slot, _ := v.HolderOf(of); slot != nil {
		return pg.Back(c, of.Place+" is on a channel already: take it off there first.")
	}
	if err := pg.Store.SetPlanned(c.Request().Context(), of.Device.SiteID, of.ID, rec.ID); err != nil {
		return err
	}
	return pg.JudgedBack(c, of, "planned a recorder", ": "+rec.Place, of.Place+" is planned for "+rec.Place+" now.")
}

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

// heard writes down whether what was sent to a speaker was heard there, as a person says.
func (pg *Page) heard(c *echo.Context) error {
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	act := "heard nothing of a speaker"
	if c.FormValue("heard") == "1" {
		act = "heard a speaker"
	}
	if err := pg.Audit(c.Request().Context(), shell.VisitorOf(c), act, of.Place); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
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

package api

import (
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// Entry is one line of what people and programs did.
type Entry struct {
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Did    string    `json:"did"`
	Detail string    `json:"detail,omitempty"`
}

// log answers with a window of what people and programs did.
func (pg *Page) log(c *echo.Context) error {
	after, limit, err := pageOf(c)
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	all, err := pg.Store.AuditLines(c.Request().Context(), shell.TokenOf(c).SiteID, after, limit)
	if err != nil {
		return err
	}
	out := make([]Entry, len(all))
	for i, l := range all {
		out[i] = Entry{l.At, l.Who, l.Act, l.Detail}
	}
	return c.JSON(http.StatusOK, map[string]any{"log": out})
}

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

// Preview is what will be written, before anything is: making it makes this and nothing else.
type Preview struct {
	ID       int64      `json:"id"`
	Stage    string     `json:"stage"`
	Title    string     `json:"title"`
	Of       string     `json:"of,omitempty"`
	Changes  []Proposal `json:"changes"`
	Idle     int        `json:"nothing_proposed"` // selected, and nothing is proposed for them
	UnderWay int        `json:"under_way"`        // selected, and being changed just now
	Cant     []string   `json:"cant,omitempty"`   // whose of the selection it is and why it can't be, a sentence each
	Makes    []string   `json:"makes,omitempty"`  // what it makes of the recorders that it touches, a sentence each
}

func sendPreview(c *echo.Context, p store.Preview) error {
	out := Preview{ID: p.ID, Stage: p.Stage.Slug(), Title: p.Title, Of: p.AskedOf, Idle: p.Idle, UnderWay: p.UnderWay, Cant: p.Cant, Makes: p.Makes}
	for _, l := range p.Lines {
		out.Changes = append(out.Changes, proposals(l.Source, l.Device, l.Place, l.Changes)...)
	}
	return c.JSON(http.StatusCreated, out)
}

// preview shows what a stage would change of a selection, and keeps it to be made.
func (pg *Page) preview(c *echo.Context) error {
	st, sel, words, then, err := pg.readAsked(c)
	if err == nil && len(then) > 0 {
		err = errors.New("changes are shown for one stage: then is for runs")
	}
	if err != nil {
		return shell.Problem(c, http.StatusBadRequest, err.Error())
	}
	p, err := pg.ProposePreview(c.Request().Context(), shell.ByToken(c), st, sel, words)
	if err != nil {
		return err
	}
	return sendPreview(c, p)
}

// undo shows what takes a change back, and keeps it to be made.
func (pg *Page) undo(c *echo.Context) error {
	id, err := shell.Number(c, "change")
	if err != nil {
		return err
	}
	p, err := pg.UndoPreview(c.Request().Context(), shell.ByToken(c), id)
	if err != nil {
		return err
	}
	return sendPreview(c, p)
}

// make has made what a preview showed to this program.
func (pg *Page) make(c *echo.Context) error {
	id, err := shell.Number(c, "preview")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	run, err := pg.MakePreview(ctx, shell.ByToken(c), id)
	if err != nil {
		return err
	}
	if run == 0 {
		return shell.Problem(c, http.StatusConflict, "It is being begun just now: ask for the runs.")
	}
	return pg.sendRun(ctx, c, http.StatusAccepted, run)
}

package shell

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Preview is what will be written, device by device, before anything is: it opens in the
// side sheet's place.
type Preview struct {
	store.Preview
	Close   string // the page without it
	Button  string // what it does to how many
	Confirm string // what is asked once more; empty: nothing
	Old     bool   // it was shown too long ago: what is true may be otherwise
	Taken   bool   // it was made already
	Lines   []previewLine
}

type previewLine struct {
	store.PreviewLine
	Changes []previewChange
}

// previewChange is a change with what is said of it.
type previewChange struct{ finding.Change }

// Risky says whether the change asks once more.
func (c previewChange) Risky() bool { return c.Risk != finding.NoRisk }

// Whose is who asks, as whose previews are told.
func (a Actor) Whose() store.Whose { return store.Whose{Person: a.Person, Token: a.Token} }

// ErrNothing says that nothing is to be changed.
var ErrNothing = trouble.UserError("There is nothing to change: everything reads as it should.")

// Left is what of a selection isn't changed.
type Left struct {
	Idle     int      // nothing is proposed for them
	UnderWay int      // they are being changed just now
	Cant     []string // whose it is and why it can't be, a sentence each
	Makes    []string // of what is changed: what it makes of recorders
}

// KeepPreview keeps what is to be changed, as it is shown to who asks; ask says whose it is and
// of what. Where nothing is to be changed it answers why.
func (s *Server) KeepPreview(ctx context.Context, me Actor, ask engine.Ask, picks []engine.Pick, left Left) (store.Preview, error) {
	p := store.Preview{SiteID: me.Site, Stage: ask.Stage, Title: ask.Title, AskedOf: ask.AskedOf, Idle: left.Idle, UnderWay: left.UnderWay, Cant: left.Cant, Makes: left.Makes}
	for _, x := range picks {
		if len(x.Changes) == 0 {
			continue
		}
		line := store.PreviewLine{Source: x.Source.ID, Device: x.Source.Device.ID, Place: x.Source.Place,
			Address: AddressText(x.Source.Device.Address), Changes: x.Changes, UndoOf: x.UndoOf}
		if x.UndoOf == nil && !x.Ordered {
			line.Changes = finding.Arrange(x.Changes)
		}
		p.Lines = append(p.Lines, line)
	}
	switch {
	case len(p.Lines) == 0 && left.UnderWay > 0:
		return p, engine.ErrUnderWay
	case len(p.Lines) == 0 && len(left.Cant) > 0:
		return p, trouble.UserError("Nothing is changed. " + first(left.Cant))
	case len(p.Lines) == 0:
		return p, ErrNothing
	}
	var err error
	p.ID, err = s.Store.KeepPreview(ctx, me.Whose(), p)
	return p, err
}

// first words a few of what can't be, and how many more there are.
func first(cant []string) string {
	const shown = 4
	says := strings.Join(cant[:min(shown, len(cant))], " ")
	if more := len(cant) - shown; more > 0 {
		says += fmt.Sprintf(" And %d more.", more)
	}
	return says
}

// toPreview opens a preview over a page of the site; empty: the one that the person came from.
func (s *Server) toPreview(c *echo.Context, p store.Preview, page string) error {
	to := backOf(c)
	if page != "" {
		to = fmt.Sprintf("/sites/%d/%s", VisitorOf(c).Member.ID, page)
	}
	u, err := url.Parse(to)
	if err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, WithQuery(u, "preview", strconv.FormatInt(p.ID, 10)))
}

// openPreview puts the preview that the address names into the frame.
func (s *Server) openPreview(ctx context.Context, p *Request) error {
	id, err := strconv.ParseInt(p.URL.Query().Get("preview"), 10, 64)
	if err != nil || !p.MayChange {
		return nil
	}
	kept, err := s.Store.PreviewOf(ctx, p.Site.ID, store.Whose{Person: p.Me.ID}, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	v := &Preview{Preview: kept, Close: p.With("preview", ""), Taken: kept.TakenAt != nil, Old: p.Now.Sub(kept.MadeAt) > store.PreviewFor}
	changes, away, gone := 0, 0, 0
	for _, l := range kept.Lines {
		line := previewLine{PreviewLine: l}
		moves := false
		for _, c := range l.Changes {
			line.Changes = append(line.Changes, previewChange{c})
			moves = moves || c.Risk == finding.Address || c.Risk == finding.Restart
			changes++
			gone += Int(c.Removes)
		}
		away += Int(moves)
		v.Lines = append(v.Lines, line)
	}
	on := Plural(len(kept.Lines), "device")
	if len(kept.Lines) == 1 {
		on = kept.Lines[0].Place
	}
	v.Button = fmt.Sprintf("Make %s on %s", Plural(changes, "change"), on)
	if away > 0 {
		v.Confirm = fmt.Sprintf("%s restarts or changes its address, and is away for a moment: what is recorded of it has a hole. It is looked for afterwards.", Plural(away, "device"))
	}
	if gone > 0 {
		v.Confirm = strings.TrimSpace(v.Confirm + " " + fmt.Sprintf("%s takes something away for good: no undo brings it back.", Plural(gone, "change")))
	}
	p.Preview = v
	return nil
}

// Heading is what the run will be called, with the selection that it was asked of.
func (p Preview) Heading() string {
	if p.AskedOf == "" {
		return p.Title
	}
	return p.Title + ", of " + p.AskedOf
}

// LeftOut says what of the selection isn't changed, and why; empty: nothing is left out.
func (p Preview) LeftOut() string {
	var parts []string
	if p.Idle > 0 {
		parts = append(parts, fmt.Sprintf("%s of the selection, for which nothing is proposed", stage.Thousands(p.Idle)))
	}
	if p.UnderWay > 0 {
		parts = append(parts, fmt.Sprintf("%s that are being changed just now", stage.Thousands(p.UnderWay)))
	}
	if len(parts) == 0 {
		return ""
	}
	return "Left out: " + strings.Join(parts, "; ") + "."
}

// makePreview makes what a preview showed, and nothing else.
func (s *Server) makePreview(c *echo.Context) error {
	id, err := Number(c, "preview")
	if err != nil {
		return err
	}
	if _, err := s.MakePreview(c.Request().Context(), VisitorOf(c).Actor(), id); err != nil {
		return s.Told(c, err)
	}
	return s.Back(c, "")
}

// errShownLongAgo says that what was shown may not be true any more.
var errShownLongAgo = trouble.UserError("That was shown more than half an hour ago: look at it anew. Nothing was changed.")

// MakePreview makes what a preview showed, and nothing else, and answers with the run that
// does. Asked twice, or in two tabs, it is one run; 0 where the other is just beginning it.
func (s *Server) MakePreview(ctx context.Context, me Actor, id int64) (int64, error) {
	p, err := s.Store.TakePreview(ctx, me.Site, me.Whose(), id)
	if errors.Is(err, store.ErrNotFound) {
		if p, err = s.Store.PreviewOf(ctx, me.Site, me.Whose(), id); err != nil {
			return 0, err
		}
		switch {
		case p.TakenAt == nil:
			return 0, errShownLongAgo
		case p.RunID == nil:
			return 0, nil
		}
		return *p.RunID, nil
	}
	if err != nil {
		return 0, err
	}
	run, err := s.begins(ctx, me, p)
	if kerr := s.Store.PreviewMade(context.WithoutCancel(ctx), id, run); kerr != nil {
		return 0, errors.Join(err, kerr)
	}
	if err != nil {
		return 0, err
	}
	return run, s.Store.Audit(ctx, store.AuditEntry{Site: me.Site, Person: me.Person, Token: me.Token, Act: "asked for changes", Detail: p.Title})
}

// begins starts the run of a preview.
func (s *Server) begins(ctx context.Context, me Actor, p store.Preview) (int64, error) {
	devices := make([]int64, len(p.Lines))
	for i, l := range p.Lines {
		devices[i] = l.Device
	}
	v, err := site.Load(ctx, s.Store, p.SiteID, devices)
	if err != nil {
		return 0, err
	}
	var picks []engine.Pick
	for _, l := range p.Lines {
		of, ok := v.Source(l.Source)
		if l.Source == 0 {
			var d store.Device
			if d, ok = v.Device(l.Device); ok {
				of = v.Of(d)
			}
		}
		if ok { // one that was removed meanwhile is left out
			picks = append(picks, engine.Pick{Source: of, Changes: l.Changes, Ordered: true, UndoOf: l.UndoOf})
		}
	}
	return s.Engine.Apply(ctx, engine.Ask{Site: p.SiteID, Stage: p.Stage, Title: p.Title, Person: me.Person, Token: me.Token, AskedOf: p.AskedOf}, picks)
}

// backOf is where a form returns to.
func backOf(c *echo.Context) string {
	to := c.FormValue("back")
	if !strings.HasPrefix(to, "/sites/") || strings.ContainsAny(to, "\\\r\n") || strings.HasPrefix(to, "//") {
		to = fmt.Sprintf("/sites/%d/board", VisitorOf(c).Member.ID)
	}
	return to
}

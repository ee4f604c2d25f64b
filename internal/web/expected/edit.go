package expected

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// listed is one row of the list as the page shows and edits it.
type listed struct {
	expected.Entry
	Told     bool // the device said what its MAC is: that isn't edited
	Editing  bool
	Recorder int64
}

// Act is where the row's form is sent.
func (l listed) Act() string {
	if l.ID == 0 {
		return "expected/row"
	}
	return fmt.Sprintf("expected/row/%d", l.ID)
}

// Goes says what taking the row off the list means.
func (l listed) Goes() string {
	if !l.First {
		return l.Place + " goes from this site, with what was read of it, its changes and proofs; the other views of its device stay. Nothing is written to it."
	}
	return l.Place + " is expected no more. Where it was never found nothing of it is left; where it was, it stays on Find and gets no account before it is on the list again. Nothing is written to it."
}

// InputText is empty where nobody said which input it is.
func (l listed) InputText() string {
	if l.Input == 0 {
		return ""
	}
	return strconv.Itoa(l.Input)
}

// AddressText is empty where the list gives none.
func (l listed) AddressText() string {
	if !l.Address.IsValid() {
		return ""
	}
	return l.Address.String()
}

// ChannelText is empty where any channel will do.
func (l listed) ChannelText() string {
	if l.Channel == 0 {
		return ""
	}
	return strconv.Itoa(l.Channel)
}

// rowsOf are the rows of the list in the page's window.
func (pg *Page) rowsOf(ctx context.Context, p *shell.Request, d *expectedData) error {
	editing, _ := strconv.ParseInt(p.URL.Query().Get("edit"), 10, 64)
	skip, _ := strconv.Atoi(p.URL.Query().Get("from"))
	skip = max(0, skip-1)
	sel := p.Selection
	sel.Expected = true
	all, total, err := pg.Store.Window(ctx, sel, store.Sort{}, skip, shell.MaxRows)
	if err != nil {
		return err
	}
	if d.Recorders, err = pg.Store.RecorderNames(ctx, p.Site.ID); err != nil {
		return err
	}
	names := map[int64]string{}
	for _, r := range d.Recorders {
		names[r.ID] = r.Place
	}
	for _, of := range all {
		l := listed{Entry: of.Entry(names), Told: of.Device.UUID != "" || of.Device.Serial != "", Editing: of.ID == editing && p.MayChange}
		if of.RecorderID != nil {
			l.Recorder = *of.RecorderID
		}
		l.Editing = l.Editing || p.Refuses(l.Act())
		d.List = append(d.List, l)
	}
	d.Window.From, d.Window.To, d.Window.Total = min(skip+1, total), skip+len(all), total
	if skip > 0 {
		d.Window.Back = p.With("from", fmt.Sprint(max(1, skip+1-shell.MaxRows)))
	}
	if d.Window.To < total {
		d.Window.Next = p.With("from", fmt.Sprint(d.Window.To+1))
	}
	return nil
}

// rowFrom reads a row that a person typed, beside the list's other rows; done: they were
// answered. but is the row that is edited; 0: none.
func (pg *Page) rowFrom(c *echo.Context, but store.Source) (r expected.Row, recorder int64, done bool, err error) {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	recorders, err := pg.recorderNames(ctx, me.Member.ID)
	if err != nil {
		return r, 0, true, err
	}
	typed := expected.Typed{}
	for _, f := range expected.Fields() {
		typed[f] = c.FormValue(string(f))
	}
	var names []string
	for name, id := range recorders {
		names = append(names, name)
		if typed[expected.Recorder] == strconv.FormatInt(id, 10) { // a form picks it by number
			typed[expected.Recorder] = name
		}
	}
	sources, _, err := pg.Store.Window(ctx, store.Selection{Site: me.Member.ID}, store.Sort{}, 0, shell.MaxSelected)
	if err != nil {
		return r, 0, true, err
	}
	byID := map[int64]string{}
	for name, id := range recorders {
		byID[id] = name
	}
	list := make([]expected.Entry, len(sources))
	for i, o := range sources {
		list[i] = o.Entry(byID)
	}
	var edited expected.Entry
	if but.ID != 0 {
		edited = but.Entry(byID)
	}
	r, bad := expected.ReadOne(typed, names, list, edited)
	if bad != nil {
		return r, 0, true, pg.Refuse(c, string(bad.Field), bad.Says)
	}
	if r.Address.IsValid() && (but.Device.ExpectedAt == nil || *but.Device.ExpectedAt != r.Address) {
		if done, err := pg.AskOutside(c, string(expected.Address), r.Address, "Expect it there all the same"); done {
			return r, 0, true, err
		}
	}
	return r, recorders[r.Recorder], false, nil
}

// addRow puts one camera on the list.
func (pg *Page) addRow(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	r, recorder, done, err := pg.rowFrom(c, store.Source{})
	if done {
		return err
	}
	added, _, touched, err := pg.Store.Expect(ctx, me.Member.ID, []expected.Row{r}, map[string]int64{r.Recorder: recorder})
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "put a camera on the list", describe(r)); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, touched); err != nil {
		return err
	}
	if added == 0 {
		return pg.Back(c, r.Place+" is on the list: it is what was found there already.")
	}
	return pg.Back(c, r.Place+" is on the list: look for it on Find.")
}

// setRow keeps a row as it was edited.
func (pg *Page) setRow(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	of, err := pg.row(c)
	if err != nil {
		return err
	}
	r, recorder, done, err := pg.rowFrom(c, of)
	if done {
		return err
	}
	was := of.Entry(nil).Row
	if err := pg.Store.SetExpected(ctx, me.Member.ID, of.ID, r, recorder); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "changed a row of the list", describe(was)+" → "+describe(r)); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, []int64{of.Device.ID}); err != nil {
		return err
	}
	return pg.Back(c, r.Place+" is kept. Nothing was written to it.")
}

// unlist takes a camera off the list.
func (pg *Page) unlist(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	of, err := pg.row(c)
	if err != nil {
		return err
	}
	if !of.First() {
		return pg.dropView(c, of)
	}
	stays, err := pg.Store.Unlist(ctx, me.Member.ID, of.Device.ID)
	switch {
	case errors.Is(err, store.ErrBusy):
		return pg.Back(c, "A change of "+of.Place+" is being made: let it end, or stop its run first.")
	case err != nil:
		return err
	}
	if err := pg.Audit(ctx, me, "took a camera off the list", of.Place); err != nil {
		return err
	}
	if !stays {
		return pg.Back(c, of.Place+" is off the list. It was never found, so nothing of it is left.")
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, []int64{of.Device.ID}); err != nil {
		return err
	}
	return pg.Back(c, of.Place+" is off the list. What was found stays on Find, and gets no account before it is on the list again.")
}

// dropView takes a row off the list that is a further view of a device.
func (pg *Page) dropView(c *echo.Context, of store.Source) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	switch err := pg.Store.DropView(ctx, me.Member.ID, of.ID); {
	case errors.Is(err, store.ErrBusy):
		return pg.Back(c, "A change of "+of.Device.Place+" is being made: let it end, or stop its run first.")
	case err != nil:
		return err
	}
	if err := pg.Audit(ctx, me, "took a view off the list", of.Place); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, []int64{of.Device.ID}); err != nil {
		return err
	}
	return pg.Back(c, of.Place+" is off the list; the other views of its device stay.")
}

// row is the row of the visitor's site that the path names.
func (pg *Page) row(c *echo.Context) (store.Source, error) {
	id, err := shell.Number(c, "row")
	if err != nil {
		return store.Source{}, err
	}
	of, err := pg.Store.SourceByID(c.Request().Context(), id)
	if err == nil && (of.Device.SiteID != shell.VisitorOf(c).Member.ID || of.Device.Kind != identity.Camera) {
		err = store.ErrNotFound
	}
	return of, err
}

// paste keeps rows that were pasted for the preview, as a file's are.
func (pg *Page) paste(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	t, err := expected.ParseCSV([]byte(c.FormValue("rows")))
	if errors.Is(err, expected.ErrEmpty) && len(t.Head) > 0 {
		err = nil // a single line without a heading
	}
	if err == nil {
		if t = t.Headed(); len(t.Lines) == 0 {
			err = expected.ErrEmpty
		}
	}
	if err != nil {
		if derr := pg.Store.DropUpload(ctx, me.Member.ID, me.Person.ID); derr != nil {
			return derr
		}
		return pg.Refuse(c, "rows", fmt.Sprintf("That can't be taken: %v.", err))
	}
	if err := pg.Store.KeepUpload(ctx, me.Member.ID, me.Person.ID, "Pasted rows", t); err != nil {
		return err
	}
	return pg.Back(c, "")
}

// describe is a row in one line, for the log.
func describe(r expected.Row) string {
	parts := []string{r.Place}
	if r.Address.IsValid() {
		parts = append(parts, r.Address.String())
	}
	for _, s := range []string{r.MAC, strings.TrimSpace(r.Make + " " + r.Model), r.Recorder} {
		if s != "" {
			parts = append(parts, s)
		}
	}
	if r.Input > 0 {
		parts = append(parts, fmt.Sprintf("input %d", r.Input))
	}
	return strings.Join(parts, ", ")
}

// outside lists the addresses of rows that are in none of the networks.
func outside(p *shell.Request, rows []expected.Row) []netip.Addr {
	var networks []netplan.Network
	for _, n := range p.Networks {
		networks = append(networks, n.Core())
	}
	var all []netip.Addr
	for _, r := range rows {
		all = append(all, r.Address)
	}
	return netplan.Outside(networks, all)
}

// Package expected shows the expected list and takes files of it.
package expected

import (
	"context"
	"embed"
	"errors"
	"io/fs"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/setup"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
}

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "expected" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {
	r.Site.GET("/expected.:form", pg.exportExpected)
}

// expectedData is the expected list: what is uploaded and not taken yet, as it would be
// understood.
type expectedData struct {
	Expected int
	Name     string // of the file; empty: none is uploaded
	Head     []string
	Fields   []fieldChoice
	Rows     []expected.Taking // the first ones, those that change something first
	Taken    int
	New      int      // rows that are new cameras
	Changed  int      // rows that change something of a known one
	Same     int      // rows that change nothing
	Gone     []string // expected, and no row is about them
	Messages []expected.Message
	Bad      int
	NoPlace  bool
	Outside  []netip.Addr // that rows name and no network holds

	List      []listed // the list as it is, where none is uploaded
	Fresh     listed   // the row that is added
	Recorders []store.RecorderName
	Window    shell.Window
}

// namedMost is how many cameras or addresses a sentence names.
const namedMost = 12

// listText lists the first of some names with commas.
func listText(names []string) string {
	text := strings.Join(names[:min(len(names), namedMost)], ", ")
	if len(names) > namedMost {
		text += " and more"
	}
	return text
}

// GoneText names cameras that no row is about.
func (d *expectedData) GoneText() string { return listText(d.Gone) }

// OutsideText names addresses that no network holds.
func (d *expectedData) OutsideText() string {
	names := make([]string, len(d.Outside))
	for i, a := range d.Outside {
		names[i] = a.String()
	}
	return listText(names)
}

// fieldChoice is a field with the column it is read from; −1: from none.
type fieldChoice struct {
	Field  expected.Field
	Column int
}

// Value is the column as the form sends it.
func (f fieldChoice) Value() string {
	if f.Column < 0 {
		return "none"
	}
	return strconv.Itoa(f.Column)
}

// Name is the field as people write it.
func (f fieldChoice) Name() string {
	if f.Field == expected.MAC {
		return "MAC"
	}
	return strings.ToUpper(string(f.Field)[:1]) + string(f.Field)[1:]
}

const (
	previewRows     = 200
	previewMessages = 100
)

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	p.Title = "Expected list"
	known, err := pg.Store.Expected(ctx, p.Site.ID)
	if err != nil {
		return nil, err
	}
	d := expectedData{Expected: len(known)}
	u, err := pg.Store.Upload(ctx, p.Site.ID, p.Me.ID)
	if errors.Is(err, store.ErrNotFound) {
		return &d, pg.rowsOf(ctx, p, &d)
	}
	if err != nil {
		return nil, err
	}
	recorders, err := setup.RecorderNames(ctx, pg.Store, p.Site.ID)
	if err != nil {
		return nil, err
	}
	chosen := map[expected.Field]string{}
	for _, f := range expected.Fields() {
		chosen[f] = p.URL.Query().Get("col-" + string(f))
	}
	m := expected.Choose(u.Lines.Head, chosen)
	rows, messages, err := setup.Understood(ctx, pg.Store, p.Site.Site, u.Lines, m, recorders, p.MayLead)
	if err != nil {
		return nil, err
	}
	d.Outside = outside(p, rows)
	d.Name, d.Head, d.Taken, d.Bad = u.Name, u.Lines.Head, len(rows), len(messages)
	d.Messages = messages[:min(len(messages), previewMessages)]
	if err := pg.compare(ctx, p.Site.ID, &d, rows, recorders); err != nil {
		return nil, err
	}
	for _, f := range expected.Fields() {
		i, ok := m[f]
		if !ok {
			i = -1
		}
		d.Fields = append(d.Fields, fieldChoice{f, i})
	}
	_, place := m[expected.Place]
	d.NoPlace = !place
	return &d, nil
}

// compare tells what taking the rows would mean: what is new, what changes, what stays.
func (pg *Page) compare(ctx context.Context, site int64, d *expectedData, rows []expected.Row, recorders map[string]int64) error {
	lines, gone, err := pg.Store.Compare(ctx, site, rows, setup.ByID(recorders))
	if err != nil {
		return err
	}
	rank := func(l expected.Taking) int {
		switch {
		case !l.Changes():
			return 2
		case l.New:
			return 1
		}
		return 0
	}
	for _, l := range lines {
		switch rank(l) {
		case 0:
			d.Changed++
		case 1:
			d.New++
		case 2:
			d.Same++
		}
	}
	slices.SortStableFunc(lines, func(a, b expected.Taking) int { return rank(a) - rank(b) })
	d.Rows, d.Gone = lines[:min(len(lines), previewRows)], gone
	return nil
}

// exportExpected sends the expected list in the shape that is taken.
func (pg *Page) exportExpected(c *echo.Context) error {
	rows, err := pg.Store.Expected(c.Request().Context(), shell.VisitorOf(c).Member.ID)
	if err != nil {
		return err
	}
	return shell.SendTable(c, "expected", c.Param("form"), expected.Cells(rows))
}

// Package inventory gives what is known of cameras away: as a table in the columns that a person chose, as a file, and
// as labels to print.
package inventory

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"net/url"
	"slices"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/inventory"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html page.css page.js
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
}

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "inventory" }

// Files are its template, script and style.
func (*Page) Files() fs.FS { return files }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {
	r.Site.GET("/inventory.:form", pg.export)
}

// most is how many views a file holds: all of the largest site.
const most = 10000

// data is the inventory as the page shows it.
type data struct {
	Columns []choice
	Head    []string
	Rows    [][]string
	Labels  []label // nil: the table is shown
	Query   string  // of the address of its files
	Table   string  // address of the table, where labels are shown
}

// choice is a column with whether it is chosen.
type choice struct {
	inventory.Column
	On bool
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	p.Title = "Inventory"
	sources := make([]site.Source, len(p.Rows))
	for i, r := range p.Rows {
		sources[i] = r.Source
	}
	items, err := pg.items(ctx, p.Site.ID, sources)
	if err != nil {
		return nil, err
	}
	q := p.URL.Query()
	of := inventory.Chosen(q["col"])
	d := data{Rows: inventory.Rows(items, of), Query: passed(q).Encode(), Table: p.With("labels", "")}
	for _, c := range of {
		d.Head = append(d.Head, c.Title)
	}
	for _, c := range inventory.Columns() {
		d.Columns = append(d.Columns, choice{c, slices.ContainsFunc(of, func(x inventory.Column) bool { return x.Key == c.Key })})
	}
	if q.Get("labels") == "1" {
		d.Labels, err = labels(p, sources, items)
	}
	return d, err
}

// passed is what of an address its files are made by: filter, order and columns.
func passed(q url.Values) url.Values {
	out := url.Values{}
	for _, name := range []string{"q", "sort", "col"} {
		if len(q[name]) > 0 {
			out[name] = q[name]
		}
	}
	return out
}

// export sends all that match, as filtered and sorted, in the chosen columns.
func (pg *Page) export(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	sel := store.Selection{Site: me.Member.ID, Filter: filter.Parse(c.QueryParam("q"))}
	sources, _, err := pg.Store.Window(ctx, sel, store.ParseSort(c.QueryParam("sort")), 0, most)
	if err != nil {
		return err
	}
	items, err := pg.items(ctx, me.Member.ID, sources)
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "exported the inventory", fmt.Sprintf("%d rows", len(items))); err != nil {
		return err
	}
	return shell.SendTable(c, "inventory", c.Param("form"), inventory.Cells(items, inventory.Chosen(c.QueryParams()["col"])))
}

// readWhole is from how many devices on the whole site is read at once.
const readWhole = 500

func (pg *Page) items(ctx context.Context, siteID int64, sources []site.Source) ([]inventory.Item, error) {
	devices := []int64{}
	for _, of := range sources {
		devices = append(devices, of.Device.ID)
	}
	if len(devices) > readWhole {
		devices = nil
	}
	s, err := site.Load(ctx, pg.Store, siteID, devices)
	if err != nil {
		return nil, err
	}
	found, err := pg.Store.Findings(ctx, siteID, 0, 0, 4*most)
	if err != nil {
		return nil, err
	}
	words, sentences := map[int64][]string{}, map[int64][]string{}
	for _, f := range found {
		if f.Severity > finding.Note && !f.Accepted {
			words[f.SourceID] = append(words[f.SourceID], f.Words)
			sentences[f.SourceID] = append(sentences[f.SourceID], f.Sentence)
		}
	}
	out := make([]inventory.Item, len(sources))
	for i, of := range sources {
		out[i] = itemOf(s, of)
		out[i].Words, out[i].Sentences = words[of.ID], sentences[of.ID]
	}
	return out, nil
}

func itemOf(s *site.Snapshot, of site.Source) inventory.Item {
	d := of.Device
	x := inventory.Item{Place: of.Place, Make: d.Make, Model: d.Model, Serial: d.Serial,
		Address: shell.AddressText(d.Address), MAC: d.MAC, UUID: d.UUID}
	info, _ := facts.Info.Of(s, d.ID)
	x.Firmware = info.Firmware
	if rec, slot, ok := s.HolderOf(of); ok {
		x.Recorder, x.Planned = rec.Place, slot == nil
		if slot != nil {
			x.Channel = slot.Number
		}
	}
	f, w := facts.ForStreams(s, of)
	record, _ := stream.Roles(f.Profiles, w.Codecs)
	if p, _, ok := f.Find(record); ok && record != "" {
		x.Stream = p.Set().Text()
	}
	return x
}

// Package find shows what is on a site's networks.
package find

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html page.css sheet.html
var files embed.FS

// Page is its page.
type Page struct{ *shell.Server }

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "find" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Stage is stage.Find.
func (*Page) Stage() stage.Stage { return stage.Find }

// Routes adds nothing besides its page: its acts are the stage's.
func (*Page) Routes(*shell.Routes) {}

// cell is one address of an address field.
type cell struct {
	X, Y   int
	Kind   string // "free", "reserved", "found", "unexpected", "trouble", "silent", "recorder"
	Label  string
	Source int64 // 0: no camera
}

// field is one network: the addresses of a /24 or smaller, and of a larger one its parts
// as tiles, of which one is unfolded beside it.
type field struct {
	Network store.Network
	Cells   []cell
	Found   int
	Tiles   []tile
	Part    *field
}

// tile is one part of a larger network, a /24 or a /20.
type tile struct {
	X, Y          int // which place it has, in tiles
	Prefix        netip.Prefix
	Up            netip.Prefix // the part that it is part of, where it is open; invalid: none
	Found, Silent int
	Stand         int    // devices that stand out
	Kind          string // as the worst of its cells
	Open          bool
}

// Label tells a tile to who can't see it.
func (t tile) Label() string {
	s := fmt.Sprintf("%s: %d found", t.Prefix, t.Found)
	if t.Stand > 0 {
		s += fmt.Sprintf(", %d of them stand out", t.Stand)
	}
	if t.Silent > 0 {
		s += fmt.Sprintf(", %d expected and silent", t.Silent)
	}
	return s
}

// Unfolds is the part that pressing it shows: itself, or where it is open what it is part of.
func (t tile) Unfolds() string {
	switch {
	case !t.Open:
		return t.Prefix.String()
	case t.Up.IsValid():
		return t.Up.String()
	}
	return ""
}

// Third names a part by the third number of its addresses, ".7" or ".16–31".
func (t tile) Third() string {
	third := int(t.Prefix.Addr().As4()[2])
	if t.Prefix.Bits() < 24 {
		return fmt.Sprintf(".%d–%d", third, third+15)
	}
	return fmt.Sprintf(".%d", third)
}

type findRow struct {
	store.Source
	Mark     stage.Mark
	Heard    string
	Worst    string
	WayOut   string
	Recorder bool // or an analyser: it has no row of the Board
}

type findData struct {
	Fields  []field
	Singles []store.Network // single addresses that are looked at besides
	Rows    []findRow
	Looked  bool
	Sum     store.Summary
	News    []store.Notice
	Since   time.Time
	Moves   []moveRow
	Reach   []netplan.Laptop
	// Claims and Strangers wait for a person's word on who they are.
	Claims    []claimRow
	Strangers []strangerRow
	NoList    bool // nothing of this site is on a list yet: putting it there is what comes next
	Changes   int  // proposed
	Cams      int
}

// Key tells the row from the others, recorders among them.
func (f findRow) Key() string {
	if f.Recorder {
		return "r" + strconv.FormatInt(f.Device.ID, 10)
	}
	return strconv.FormatInt(f.ID, 10)
}

// moveRow is one line of the address plan.
type moveRow struct {
	Of store.Source
	netplan.Move
	Open bool // an account opens it: its address can be written
	Busy bool
}

// Others names what answers and is neither camera nor recorder.
func (d findData) Others() string {
	says := make([]string, len(d.Sum.Others))
	for i, o := range d.Sum.Others {
		if says[i] = o.Address.String(); o.Title != "" {
			says[i] = o.Title + " at " + says[i]
		}
	}
	return strings.Join(says, ", ")
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	var d findData
	marks := map[int64]shell.Row{}
	for _, r := range p.Rows {
		marks[r.Device.ID] = r
	}
	for _, dev := range p.Snapshot.Devices {
		f := findRow{Source: p.Snapshot.Of(dev), Recorder: dev.Kind != identity.Camera}
		if f.Recorder && p.Query != "" {
			continue
		}
		if seen, heard := facts.Seen.Of(p.Snapshot, dev.ID); heard {
			f.Heard = seen.WaysText()
		}
		f.judge(p, marks)
		d.Rows = append(d.Rows, f)
	}
	if p.Window.Sort.By == "" {
		slices.SortStableFunc(d.Rows, func(a, b findRow) int { return weight(b) - weight(a) })
	} else {
		order := map[int64]int{}
		for i, r := range p.Rows {
			order[r.ID] = i
		}
		slices.SortStableFunc(d.Rows, func(a, b findRow) int { return order[a.ID] - order[b.ID] })
	}
	if err := pg.fields(ctx, p, &d); err != nil {
		return nil, err
	}
	if err := pg.plan(ctx, p, &d); err != nil {
		return nil, err
	}
	pg.unsettled(p, &d)
	var err error
	if d.Changes, d.Cams, err = pg.Store.Proposed(ctx, p.Selection, stage.Find); err != nil {
		return nil, err
	}
	d.News, err = pg.Store.Notices(ctx, p.Site.ID, d.Since, 12)
	return d, err
}

// plan proposes where each device goes that is outside the site's networks or not where
// it is expected, and how a laptop reaches those that nothing here does.
func (pg *Page) plan(ctx context.Context, p *shell.Request, d *findData) error {
	rows := map[int64]store.Source{}
	var movers []netplan.Mover
	for _, r := range p.Rows {
		f, w := facts.ForIdentity(p.Snapshot, r.Device)
		if f.Seen == nil || f.Behind != nil || f.Inside && f.Outcome != identity.Moved || !f.Inside && !w.Expected && len(p.Snapshot.Networks()) == 0 {
			continue
		}
		rows[r.Device.ID] = r.Source
		movers = append(movers, netplan.Mover{ID: r.Device.ID, From: f.Seen.Address, Want: w.Address})
	}
	if len(movers) == 0 {
		return nil
	}
	used, expected, err := pg.Store.AddressesUsed(ctx, p.Site.ID)
	if err != nil {
		return err
	}
	taken := func(a netip.Addr) bool { return used[a] }
	for _, m := range netplan.Plan(p.Snapshot.Networks(), taken, func(a netip.Addr) bool { return expected[a] }, movers) {
		_, open := facts.Account.Of(p.Snapshot, m.ID)
		d.Moves = append(d.Moves, moveRow{Of: rows[m.ID], Move: m, Open: open})
		if _, in := netplan.Of(p.Snapshot.Networks(), m.From); !in {
			if b, ok := netplan.ReachFrom(m.From, taken); ok {
				d.Reach = append(d.Reach, b)
			}
		}
	}
	return nil
}

// fields draws the address field of each network; larger ones are folded.
func (pg *Page) fields(ctx context.Context, p *shell.Request, d *findData) error {
	var drawn []netip.Prefix
	for _, n := range p.Networks {
		if !n.Single {
			drawn = append(drawn, n.Prefix)
		}
	}
	dots, err := pg.Store.Dots(ctx, p.Site.ID, stage.Find, drawn)
	if err != nil {
		return err
	}
	by := make(map[netip.Addr]store.Dot, len(dots))
	for _, x := range dots {
		by[x.Address] = x
	}
	heard, err := pg.Store.HeardIn(ctx, p.Site.ID)
	if err != nil {
		return err
	}
	for _, n := range p.Networks {
		if n.Single {
			d.Singles = append(d.Singles, n)
			continue
		}
		f := makeField(n, n.Prefix, by)
		if n.Prefix.Bits() < 24 {
			part, _ := netip.ParsePrefix(p.URL.Query().Get("part"))
			f = foldedField(n, part, by)
		}
		f.Found = heard[n.ID]
		d.Fields = append(d.Fields, f)
		if n.LookedAt != nil && n.Look != nil {
			d.Looked = true
			d.Sum.Others = append(d.Sum.Others, n.Look.Others...)
			if at := n.LookedAt.Add(-time.Duration(n.Look.Seconds*float64(time.Second)) - 5*time.Second); d.Since.IsZero() || at.Before(d.Since) {
				d.Since = at
			}
			d.Sum.Addresses += n.Look.Addresses
			d.Sum.Multicast += n.Look.Multicast
			d.Sum.Directed += n.Look.Directed
			d.Sum.Time += n.Look.Time
			d.Sum.RTSP += n.Look.RTSP
			d.Sum.Recorders += n.Look.Recorders
			d.Sum.Seconds = max(d.Sum.Seconds, n.Look.Seconds)
		}
	}
	return nil
}

// judge gives a device of the Find table its mark and what stands out. Recorders
// have no shell.Row on the Board; Find's rules judge them the same way.
func (f *findRow) judge(p *shell.Request, marks map[int64]shell.Row) {
	found := p.Engine.Findings(p.Now, p.Snapshot, f.Source, stage.Find)
	f.Mark = p.Engine.Mark(p.Now, p.Snapshot, f.Device, stage.Find)
	if r, ok := marks[f.Device.ID]; ok {
		f.Mark = r.Mark(stage.Find)
	}
	if worst, ok := finding.Worst(found); ok {
		f.Worst, f.WayOut = worst.Sentence, worst.WayOut
	}
}

func weight(f findRow) int {
	return -3*f.Mark.State.Urgency() + shell.Int(f.Worst != "") + shell.Int(f.Heard != "")
}

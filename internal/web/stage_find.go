package web

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// cell is one address of an address field.
type cell struct {
	X, Y   int
	Kind   string // "free", "reserved", "found", "unexpected", "trouble", "silent", "recorder"
	Label  string
	Device int64
}

// field is one network: the addresses of a /24 or smaller, and of a larger one its
// /24s, of which one is unfolded beside it.
type field struct {
	Network store.Network
	Cells   []cell
	Found   int
	Tiles   []tile
	Part    *field
}

// tile is one /24 of a larger network.
type tile struct {
	X, Y          int // which place it has, in tiles
	Prefix        netip.Prefix
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

// Third is the third number of its addresses.
func (t tile) Third() int { return int(t.Prefix.Addr().As4()[2]) }

type findRow struct {
	Device   store.Device
	Mark     stage.Mark
	Heard    string
	Worst    string
	WayOut   string
	Recorder bool
}

type findData struct {
	Fields  []field
	Benches []store.Network // single addresses that are looked at besides
	Rows    []findRow
	Looked  bool
	Sum     store.Summary
	News    []store.Happening
	Since   time.Time
	Moves   []moveRow
	Reach   []netplan.Laptop
	Changes int // proposed
	Cams    int
}

// moveRow is one line of the address plan.
type moveRow struct {
	Device store.Device
	netplan.Move
	Open bool // an account opens it: its address can be written
	Busy bool
}

func (s *Server) findPage(ctx context.Context, p *scenePage) (string, error) {
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
	var d findData
	marks := map[int64]row{}
	for _, r := range p.rows {
		marks[r.Device.ID] = r
	}
	for _, dev := range p.view.Devices {
		f := findRow{Device: dev, Recorder: dev.Kind == identity.Recorder}
		if f.Recorder && p.Query != "" {
			continue
		}
		if seen, heard := site.Seen.Of(p.view, dev.ID); heard {
			f.Heard = seen.WaysText()
		}
		f.judge(p, marks)
		d.Rows = append(d.Rows, f)
	}
	if p.Window.Sort.By == "" {
		slices.SortStableFunc(d.Rows, func(a, b findRow) int { return weight(b) - weight(a) })
	} else {
		order := map[int64]int{}
		for i, r := range p.rows {
			order[r.Device.ID] = i
		}
		slices.SortStableFunc(d.Rows, func(a, b findRow) int { return order[a.Device.ID] - order[b.Device.ID] })
	}
	if err := s.fields(ctx, p, &d); err != nil {
		return "", err
	}
	if err := s.plan(ctx, p, &d); err != nil {
		return "", err
	}
	var err error
	if d.Changes, d.Cams, err = s.store.Proposed(ctx, p.sel, stage.Find); err != nil {
		return "", err
	}
	d.News, err = s.store.Happenings(ctx, p.Site.ID, d.Since, 12)
	p.Data = d
	return "find", err
}

// plan proposes where each device goes that is outside the site's networks or not where
// it is expected, and how a laptop reaches those that nothing here does.
func (s *Server) plan(ctx context.Context, p *scenePage, d *findData) error {
	rows := map[int64]store.Device{}
	var movers []netplan.Mover
	for _, r := range p.rows {
		f, w := p.view.Find(r.Device)
		if f.Seen == nil || f.Behind != nil || f.Inside && f.Outcome != identity.Moved || !f.Inside && !w.Expected && len(p.view.Networks()) == 0 {
			continue
		}
		rows[r.Device.ID] = r.Device
		movers = append(movers, netplan.Mover{ID: r.Device.ID, From: f.Seen.Address, Want: w.Address})
	}
	if len(movers) == 0 {
		return nil
	}
	used, expected, err := s.store.AddressesUsed(ctx, p.Site.ID)
	if err != nil {
		return err
	}
	taken := func(a netip.Addr) bool { return used[a] }
	for _, m := range netplan.Plan(p.view.Networks(), taken, func(a netip.Addr) bool { return expected[a] }, movers) {
		dev := rows[m.ID]
		_, open := site.Account.Of(p.view, m.ID)
		d.Moves = append(d.Moves, moveRow{Device: dev, Move: m, Open: open})
		if _, in := netplan.Of(p.view.Networks(), m.From); !in {
			if b, ok := netplan.ReachFrom(m.From, taken); ok {
				d.Reach = append(d.Reach, b)
			}
		}
	}
	return nil
}

// fields draws the address field of each network; larger ones are folded.
func (s *Server) fields(ctx context.Context, p *scenePage, d *findData) error {
	var drawn []netip.Prefix
	for _, n := range p.networks {
		if !n.Single {
			drawn = append(drawn, n.Prefix)
		}
	}
	dots, err := s.store.Dots(ctx, p.Site.ID, drawn)
	if err != nil {
		return err
	}
	by := make(map[netip.Addr]store.Dot, len(dots))
	for _, x := range dots {
		by[x.Address] = x
	}
	heard, err := s.store.HeardIn(ctx, p.Site.ID)
	if err != nil {
		return err
	}
	for _, n := range p.networks {
		if n.Single {
			d.Benches = append(d.Benches, n)
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
// have no row on the Board; Find's rules judge them the same way.
func (f *findRow) judge(p *scenePage, marks map[int64]row) {
	found := p.engine.Findings(p.Now, p.view, f.Device, stage.Find)
	f.Mark = p.engine.Mark(p.Now, p.view, f.Device, stage.Find)
	if r, ok := marks[f.Device.ID]; ok {
		f.Mark = r.Mark(stage.Find)
	}
	if worst, ok := finding.Worst(found); ok {
		f.Worst, f.WayOut = worst.Sentence, worst.WayOut
	}
}

func weight(f findRow) int {
	switch {
	case f.Heard != "" && (f.Mark.State == stage.Blocked || f.Mark.State == stage.Needs):
		return 4
	case f.Heard != "" && f.Worst != "":
		return 3
	case f.Heard != "":
		return 2
	case f.Mark.State == stage.Blocked:
		return 1
	}
	return 0
}

// foldedField draws a network of several /24s, with one of them unfolded where part
// names it.
func foldedField(n store.Network, part netip.Prefix, by map[netip.Addr]store.Dot) field {
	f := field{Network: n}
	wide := 2 // tiles beside each other; a /20 has sixteen
	if n.Prefix.Bits() < 22 {
		wide = 4
	}
	at := map[int]int{}
	a := n.Prefix.Addr().As4()
	for i := range 1 << (24 - n.Prefix.Bits()) {
		t := tile{X: i % wide, Y: i / wide, Kind: "free", Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{a[0], a[1], a[2] + byte(i), 0}), 24)}
		if t.Open = t.Prefix == part; t.Open {
			p := makeField(n, part, by)
			f.Part = &p
		}
		at[t.Third()] = i
		f.Tiles = append(f.Tiles, t)
	}
	for addr, x := range by {
		if n.Prefix.Contains(addr) {
			f.Tiles[at[int(addr.As4()[2])]].count(kindOf(x))
		}
	}
	if f.Part != nil {
		f.Part.Network.Prefix, f.Part.Network.Name = part, "of "+n.Name
		for _, t := range f.Tiles {
			if t.Open {
				f.Part.Found = t.Found
			}
		}
	}
	return f
}

// count adds a device to a tile; what stands out gives it its mark.
func (t *tile) count(kind string) {
	rank := func(k string) int {
		return slices.Index([]string{"free", "found", "silent", "unexpected", "trouble"}, k)
	}
	switch kind {
	case "silent", "silent-recorder":
		t.Silent++
		kind = "silent"
	case "trouble", "unexpected":
		t.Stand++
		t.Found++
	default:
		t.Found++
		kind = "found"
	}
	if rank(kind) > rank(t.Kind) {
		t.Kind = kind
	}
}

// makeField draws the addresses of a network, or of a /24 of it.
func makeField(n store.Network, part netip.Prefix, by map[netip.Addr]store.Dot) field {
	f := field{Network: n}
	a := part.Addr()
	for i := 0; i < 256 && part.Contains(a); i++ {
		last := int(a.As4()[3])
		c := cell{X: last % 16, Y: last / 16, Kind: "free", Label: a.String()}
		if netplan.Reserved(n.Prefix, a) {
			c.Kind, c.Label = "reserved", a.String()+", reserved"
		}
		if n.Look != nil && slices.ContainsFunc(n.Look.Others, func(o store.Other) bool { return o.Address == a }) {
			c.Kind, c.Label = "other", a.String()+", answers, neither camera nor recorder"
		}
		if x, ok := by[a]; ok {
			if x.Kind == identity.Camera {
				c.Device = x.ID
			}
			c.Kind, c.Label = kindOf(x), a.String()+", "+x.Place+labelOf(x)
		}
		f.Cells = append(f.Cells, c)
		a = a.Next()
	}
	return f
}

func labelOf(x store.Dot) string {
	switch {
	case x.Kind == identity.Camera:
		return ": " + x.State.Label()
	case x.Heard:
		return ": answers"
	}
	return ": not heard"
}

func kindOf(x store.Dot) string {
	recorder := x.Kind == identity.Recorder
	switch {
	case !x.Heard && recorder:
		return "silent-recorder"
	case !x.Heard:
		return "silent"
	case recorder:
		return "recorder"
	case !x.Expected:
		return "unexpected"
	case x.State == stage.Blocked || x.State == stage.Needs:
		return "trouble"
	}
	return "found"
}

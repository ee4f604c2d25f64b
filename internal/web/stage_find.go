package web

import (
	"context"
	"net/netip"
	"slices"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// cell is one address of an address field.
type cell struct {
	X, Y   int
	Kind   string // "free", "reserved", "found", "unexpected", "trouble", "silent", "recorder"
	Label  string
	Device int64
}

type field struct {
	Network store.Network
	Cells   []cell
	Found   int
	Folded  bool // larger than a /24: told in words
}

type findRow struct {
	Device   store.Device
	Mark     stage.Mark
	Heard    string
	Worst    string
	WayOut   string
	Recorder bool
}

type findData struct {
	Fields []field
	Rows   []findRow
	Looked bool
	Sum    store.Look
	Seen   int
}

func (s *Server) findPage(_ context.Context, p *scenePage) (string, error) {
	var d findData
	by := map[netip.Addr]findRow{}
	marks := map[int64]row{}
	for _, r := range p.rows {
		marks[r.Device.ID] = r
	}
	for _, dev := range p.view.Devices {
		f := findRow{Device: dev, Recorder: dev.Kind == identity.Recorder}
		seen, heard := p.view.Seen(dev.ID)
		if heard {
			d.Seen++
			f.Heard = seen.WaysText()
		}
		f.judge(p, marks)
		if dev.Address != nil {
			by[*dev.Address] = f
		}
		if _, shown := marks[dev.ID]; shown || f.Recorder && p.Query == "" {
			d.Rows = append(d.Rows, f)
		}
	}
	slices.SortStableFunc(d.Rows, func(a, b findRow) int { return weight(b) - weight(a) })
	d.Rows = d.Rows[:min(len(d.Rows), maxRows)]
	for _, n := range p.networks {
		d.Fields = append(d.Fields, makeField(n, by))
		if n.LookedAt != nil && n.Look != nil {
			d.Looked = true
			d.Sum.Addresses += n.Look.Addresses
			d.Sum.Multicast += n.Look.Multicast
			d.Sum.Directed += n.Look.Directed
			d.Sum.Time += n.Look.Time
			d.Sum.RTSP += n.Look.RTSP
			d.Sum.Recorders += n.Look.Recorders
			d.Sum.Seconds = max(d.Sum.Seconds, n.Look.Seconds)
		}
	}
	p.Data = d
	return "find", nil
}

// judge gives a device of the Find table its mark and what stands out. Recorders
// have no row on the Board; Find's rules judge them the same way.
func (f *findRow) judge(p *scenePage, marks map[int64]row) {
	facts, known := p.view.Find(f.Device)
	found := identity.Judge(p.Now, facts, known)
	f.Mark = stage.Derive(stage.Find, stage.Case{Read: facts.Seen != nil, Findings: found, Done: "It answers where it is expected."}, func(stage.Stage) stage.State { return stage.NotYet })
	if r, ok := marks[f.Device.ID]; ok {
		f.Mark = r.Mark(stage.Find)
	}
	if worst, ok := finding.Worst(found); ok {
		f.Worst, f.WayOut = worst.Sentence, worst.WayOut
	}
}

func weight(f findRow) int {
	switch {
	case f.Heard != "" && f.Mark.State != stage.Ready:
		return 3
	case f.Heard != "":
		return 2
	case f.Mark.State == stage.Blocked:
		return 1
	}
	return 0
}

func makeField(n store.Network, by map[netip.Addr]findRow) field {
	f := field{Network: n}
	if n.Prefix.Bits() < 24 {
		f.Folded = true
		for a, r := range by {
			if n.Prefix.Contains(a) && r.Heard != "" {
				f.Found++
			}
		}
		return f
	}
	a := n.Prefix.Addr()
	for i := 0; i < 256 && n.Prefix.Contains(a); i++ {
		last := int(a.As4()[3])
		c := cell{X: last % 16, Y: last / 16, Kind: "free", Label: a.String()}
		if netplan.Reserved(n.Prefix, a) {
			c.Kind, c.Label = "reserved", a.String()+", reserved"
		}
		if r, ok := by[a]; ok {
			c.Device = r.Device.ID
			c.Kind, c.Label = kindOf(r), a.String()+", "+r.Device.Place+": "+r.Mark.State.Label()
			if r.Heard != "" {
				f.Found++
			}
		}
		f.Cells = append(f.Cells, c)
		a = a.Next()
	}
	return f
}

func kindOf(r findRow) string {
	switch {
	case r.Heard == "" && r.Recorder:
		return "silent-recorder"
	case r.Heard == "":
		return "silent"
	case r.Recorder:
		return "recorder"
	case !r.Device.Expected:
		return "unexpected"
	case r.Mark.State == stage.Blocked || r.Mark.State == stage.Needs:
		return "trouble"
	}
	return "found"
}

package web

import (
	"context"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/channels"
	"duskyharbor/internal/store"
)

// channelsData is a recorder's face with the tray beside it.
type channelsData struct {
	Recorders []store.Device
	Chosen    store.Device
	Status    *channel.Recorder
	Trouble   string
	Slots     []slotView
	Gauges    []gauge
	Tray      []trayItem
	Changes   int
	Can       int
	Proposed  int
}

type slotView struct {
	Number  int
	Slot    *channel.Slot
	Camera  *row
	Receive string
	Coming  string // who is proposed here
}

type gauge struct {
	Name  string
	Text  string
	W     float64
	Class string
}

type trayItem struct {
	Row  row
	Text string
	To   string
	Why  string
}

func received(s channel.Slot) string {
	if s.State != "receiving" {
		return ""
	}
	return fmt.Sprintf("%s %d × %d, %.1f/s, %.0f kbit/s, key frame %s UTC", stream.Pretty(s.Codec), s.Width, s.Height, s.FPS, s.Kbps, s.LastKey.Format("15:04:05"))
}

func (s *Server) channelsPage(ctx context.Context, p *scenePage) (string, error) {
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
	heard, err := s.store.RecordersHeard(ctx, p.Site.ID)
	if err != nil {
		return "", err
	}
	d := channelsData{Recorders: p.view.Recorders(), Can: len(heard)}
	want, _ := strconv.ParseInt(p.URL.Query().Get("recorder"), 10, 64)
	for _, r := range d.Recorders {
		_, known := site.Recorder.Of(p.view, r.ID)
		if d.Chosen.ID == 0 || r.ID == want || want == 0 && known && d.Status == nil {
			d.Chosen = r
			if st, ok := site.Recorder.Of(p.view, r.ID); ok {
				d.Status = &st
			}
		}
	}
	if st, ok := site.Recorder.Of(p.view, d.Chosen.ID); ok {
		d.Status = &st
	} else {
		d.Status = nil
	}
	d.Trouble = p.view.RecorderTrouble(d.Chosen.ID)
	coming := map[string]string{}
	for _, r := range p.rows {
		rec, slot, ok := p.view.HolderOf(r.Device)
		if slot != nil || ok && rec.ID != d.Chosen.ID {
			continue
		}
		d.Tray = append(d.Tray, trayOf(p, r))
		for _, c := range r.Proposals {
			coming[c.Args["channel"]] = r.Device.Place
		}
	}
	slices.SortStableFunc(d.Tray, func(a, b trayItem) int { return truth(b.To != "") - truth(a.To != "") })
	if d.Status != nil {
		if err := s.face(ctx, p, &d, coming); err != nil {
			return "", err
		}
	}
	_, d.Changes, err = s.store.Proposed(ctx, p.sel, stage.Channels)
	p.Data = d
	return "channels", err
}

func trayOf(p *scenePage, r row) trayItem {
	f, w := channels.Facts(p.view, r.Device)
	t := trayItem{Row: r}
	if w.Stream != "" {
		t.Text = fmt.Sprintf("%d × %d · ≤ %.1f Mbit/s", w.Width, w.Height, float64(w.Kbps)/1000)
	}
	switch c := r.Proposals; {
	case len(c) > 0:
		t.To = "channel " + c[0].Args["channel"]
	case r.Mark(stage.Find).State == stage.Blocked:
		t.Why = "not found yet"
	case f.Planned == "":
		t.Why = "no recorder planned"
	case w.Stream == "":
		t.Why = "streams not read yet"
	case f.Recorder == nil:
		t.Why = "recorder not read yet"
	default:
		t.Why = f.Recorder.Binds(w.Kbps)
	}
	return t
}

// face draws the recorder's channels with the cameras that they hold.
func (s *Server) face(ctx context.Context, p *scenePage, d *channelsData, coming map[string]string) error {
	var at []netip.Addr
	for _, x := range d.Status.Slots {
		if a, err := netip.ParseAddr(x.Address); err == nil {
			at = append(at, a)
		}
	}
	held, err := s.store.CamerasAt(ctx, p.Site.ID, at)
	if err != nil {
		return err
	}
	rows, err := s.rowsOf(ctx, held)
	if err != nil {
		return err
	}
	d.fill(rows, coming)
	return nil
}

func (d *channelsData) fill(held []row, coming map[string]string) {
	used, mbit := d.Status.Used()
	l := d.Status.Limits
	add := func(name string, v, most float64, format string) {
		if most <= 0 {
			return
		}
		class := "ready"
		if v/most > 0.9 {
			class = "needs"
		}
		d.Gauges = append(d.Gauges, gauge{name, fmt.Sprintf(format+" / %.0f", v, most), math.Min(100, 100*v/most), class})
	}
	add("IP channels", float64(used), float64(l.Channels), "%.0f")
	add("Mbit/s in", mbit, l.MbitIn, "%.1f")
	add("Licences", float64(used), float64(l.Licences), "%.0f")
	for n := 1; n <= min(l.Channels, 64); n++ {
		v := slotView{Number: n, Coming: coming[strconv.Itoa(n)]}
		for i := range d.Status.Slots {
			if d.Status.Slots[i].Number != n {
				continue
			}
			v.Slot = &d.Status.Slots[i]
			v.Receive = received(*v.Slot)
			for j := range held {
				if held[j].Address() == v.Slot.Address {
					v.Camera = &held[j]
				}
			}
		}
		d.Slots = append(d.Slots, v)
	}
}

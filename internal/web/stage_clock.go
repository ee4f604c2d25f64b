package web

import (
	"context"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// clockData is the strip and its table.
type clockData struct {
	Dots    []dot
	Bands   []band
	Ticks   []tick
	Rows    []clockRow
	Can     int
	Changes int
	Cams    int
	Quiet   int // dots without a label
	Crowd   int // cameras on the strip, where its marks stand for several each
	Unread  int
	Height  float64
	Own     []ownClock // the recorders'
	Drifts  bool       // some clock shown does
	Trail   []dot      // earlier readings of the clock whose sheet is open
	labels  [lanes][]span
}

// ownClock is a recorder's own clock, against this server's.
type ownClock struct {
	Device        store.Device
	Mark          stage.Mark
	Offset, Error string
	Serves        bool // NTP
	Cameras       int  // that are held against it, of those shown
	Mends         bool // its clock can be set from here, and needs it
}

type clockRow struct {
	Row               row
	Offset, Error     string
	Against, Cause    string
	Source, Matters   string
	Drift             string
	Changes           []finding.Change
	HasChange, Judged bool
}

func (s *Server) clockPage(ctx context.Context, p *scenePage) (string, error) {
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
	d := clockData{Height: 150}
	d.scale()
	// What stands out chooses its place on the strip first.
	rows := slices.Clone(p.rows)
	slices.SortStableFunc(rows, func(a, b row) int {
		return truth(a.Mark(stage.Clock).State == stage.Ready) - truth(b.Mark(stage.Clock).State == stage.Ready)
	})
	whole := !p.Window.Part()
	for _, r := range rows {
		d.add(p, r, whole)
	}
	slices.SortStableFunc(d.Rows, func(a, b clockRow) int {
		return 2*(truth(b.HasChange)-truth(a.HasChange)) + truth(b.Judged) - truth(a.Judged)
	})
	d.own(p)
	var err error
	if !whole { // the strip shows all that match, the table a window of them
		if err := s.crowd(ctx, p, &d); err != nil {
			return "", err
		}
	}
	if err := s.trail(ctx, p, &d); err != nil {
		return "", err
	}
	if d.Can, err = s.can(ctx, p, stage.Clock); err != nil {
		return "", err
	}
	d.Changes, d.Cams, err = s.store.Proposed(ctx, p.sel, stage.Clock)
	p.Data = d
	return "clock", err
}

// own lists the recorders' clocks.
func (d *clockData) own(p *scenePage) {
	against := map[string]int{}
	for _, r := range d.Rows {
		against[r.Against]++
	}
	for _, rec := range p.view.Recorders() {
		r, ok := site.Clock.Of(p.view, rec.ID)
		if !ok {
			continue
		}
		serves, _ := site.ServesNTP.Of(p.view, rec.ID)
		d.Own = append(d.Own, ownClock{Device: rec, Offset: r.Offset.Seconds(), Error: r.Offset.ErrorSeconds(), Serves: serves, Cameras: against[rec.Place],
			Mark:  p.engine.Mark(p.Now, p.view, rec, stage.Clock),
			Mends: len(p.engine.Proposals(p.Now, p.view, rec, stage.Clock)) > 0})
	}
}

func (d *clockData) add(p *scenePage, r row, draw bool) {
	f, _ := p.view.Clock(r.Device)
	c := clockRow{Row: r, Changes: r.Proposals, HasChange: len(r.Proposals) > 0, Judged: f.Camera != nil}
	if f.Camera != nil {
		o := f.Offset()
		m := r.Mark(stage.Clock)
		c.Offset, c.Error, c.Against, c.Source = o.Seconds(), o.ErrorSeconds(), f.Reference.Name, f.Camera.Source()
		if o.Mid().Abs() >= 48*time.Hour {
			c.Offset = clock.Brief(o.Mid())
		}
		c.Cause = string(clock.CauseOf(*f.Camera, o))
		if dr := f.Camera.Drift; dr != nil && dr.Sure() && !f.Camera.NTP {
			c.Drift, d.Drifts = dr.String(), true
			if leaves := dr.Leaves(p.Now, o.Mid(), clock.UsableWithin); !leaves.IsZero() {
				c.Matters = "from " + leaves.In(p.Zone).Format("02 Jan 15:04")
			}
		}
		b := clock.BandOf(o, f.Window)
		if b == clock.Refused || b == clock.AtRisk {
			c.Matters = "now: " + string(b)
		}
		if draw {
			d.place(dot{X: clockX(o.Mid()), Mark: m, ID: r.Device.ID, Name: r.Device.Place, Href: p.With("sheet", strconv.FormatInt(r.Device.ID, 10)), Says: r.Device.Place + ": " + m.Sentence})
		}
		d.Rows = append(d.Rows, c)
	} else {
		d.Unread++
	}
}

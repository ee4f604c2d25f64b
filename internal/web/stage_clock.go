package web

import (
	"context"
	"math"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
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

type dot struct {
	X, Y  float64
	Mark  stage.Mark
	Name  string
	Label string // empty where there is no room for one
	ID    int64
	Left  bool // label to the left
}

type band struct {
	X, W  float64
	Class string
	Name  string
}

type tick struct {
	X     float64
	Label string
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

// clockX places an offset on the strip: symmetric, logarithmic, ±10 h at its ends.
func clockX(d time.Duration) float64 {
	const half, end = 470.0, 36000.0
	v := math.Log1p(min(math.Abs(d.Seconds()), end)/0.8) / math.Log1p(end/0.8) * half
	if d < 0 {
		v = -v
	}
	return 520 + v
}

func (s *Server) clockPage(ctx context.Context, p *scenePage) (string, error) {
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
	d := clockData{Height: 150}
	edges := []struct {
		to    time.Duration
		class string
		name  string
	}{{clock.InStepWithin, "in-step", "in step"}, {clock.UsableWithin, "usable", "usable"}, {clock.DefaultWindow, "at-risk", "at risk"}, {10 * time.Hour, "refused", "refused"}}
	from := time.Duration(0)
	for _, e := range edges {
		if from == 0 {
			d.Bands = append(d.Bands, band{clockX(-e.to), clockX(e.to) - clockX(-e.to), e.class, e.name})
		} else {
			d.Bands = append(d.Bands, band{clockX(from), clockX(e.to) - clockX(from), e.class, e.name}, band{clockX(-e.to), clockX(-from) - clockX(-e.to), e.class, e.name})
		}
		from = e.to
	}
	for label, at := range map[string]time.Duration{"1 s": time.Second, "5 s": 5 * time.Second, "30 s": 30 * time.Second, "5 min": 5 * time.Minute, "1 h": time.Hour, "10 h": 10 * time.Hour} {
		d.Ticks = append(d.Ticks, tick{clockX(at), "+" + label}, tick{clockX(-at), "−" + label})
	}
	d.Ticks = append(d.Ticks, tick{clockX(0), "0"})
	// What stands out chooses its place on the strip first.
	rows := slices.Clone(p.rows)
	slices.SortStableFunc(rows, func(a, b row) int {
		return truth(a.Mark(stage.Clock).State == stage.Ready) - truth(b.Mark(stage.Clock).State == stage.Ready)
	})
	for _, r := range rows {
		d.add(p, r)
	}
	slices.SortStableFunc(d.Rows, func(a, b clockRow) int {
		return 2*(truth(b.HasChange)-truth(a.HasChange)) + truth(b.Judged) - truth(a.Judged)
	})
	d.own(p)
	var err error
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

// trail shows on the strip where the clock stood before whose sheet is open, against
// what it is held against now.
func (s *Server) trail(ctx context.Context, p *scenePage, d *clockData) error {
	id, err := strconv.ParseInt(p.URL.Query().Get("sheet"), 10, 64)
	i := slices.IndexFunc(d.Dots, func(x dot) bool { return x.ID == id })
	dev, ok := p.view.Device(id)
	if err != nil || i < 0 || !ok {
		return nil
	}
	readings, err := s.office.ClockHistory(ctx, id, 40)
	if err != nil {
		return err
	}
	f, _ := p.view.Clock(dev)
	for _, r := range readings {
		o := r.Offset.Minus(f.Reference.Offset)
		d.Trail = append(d.Trail, dot{X: clockX(o.Mid()), Y: d.Dots[i].Y, Label: r.At.In(p.Zone).Format("02 Jan 15:04:05") + ": " + o.String()})
	}
	return nil
}

// own lists the recorders' clocks.
func (d *clockData) own(p *scenePage) {
	against := map[string]int{}
	for _, r := range d.Rows {
		against[r.Against]++
	}
	for _, rec := range p.view.Recorders() {
		r, ok := p.view.Reading(rec.ID)
		if !ok {
			continue
		}
		found := p.view.Found(p.Now, rec, stage.Clock)
		d.Own = append(d.Own, ownClock{Device: rec, Offset: r.Offset.Seconds(), Error: r.Offset.ErrorSeconds(), Serves: p.view.ServesNTP(rec.ID), Cameras: against[rec.Place],
			Mark:  stage.Derive(stage.Clock, stage.Case{Read: true, Findings: found, Done: "In step with this server."}, func(stage.Stage) stage.State { return stage.Ready }),
			Mends: len(p.view.Proposals(p.Now, rec, stage.Clock)) > 0})
	}
}

// lanes is how many rows of dots the strip has.
const lanes = 4

// place puts a dot in the lane where its label fits, what stands out first choosing;
// where it fits in none the dot goes without.
func (d *clockData) place(x dot) {
	lane := len(d.Dots) % lanes
	x.Left = x.X > 800
	from, to := x.X-10, x.X+22+6.6*float64(len([]rune(x.Name)))
	if x.Left {
		from, to = x.X-22-6.6*float64(len([]rune(x.Name))), x.X+10
	}
	fits := func(l int) bool {
		return !slices.ContainsFunc(d.labels[l], func(s span) bool { return from < s.to && to > s.from })
	}
	if x.Mark.State != stage.Ready || len(d.Dots) < 12 {
		for i := range lanes {
			if l := (lane + i) % lanes; fits(l) {
				lane, x.Label = l, x.Name
				d.labels[l] = append(d.labels[l], span{from, to})
				break
			}
		}
	}
	if x.Label == "" {
		d.Quiet++
		for i := range lanes { // where it covers no label, if there is such a lane
			if l := (lane + i) % lanes; !slices.ContainsFunc(d.labels[l], func(s span) bool { return x.X+8 > s.from+18 && x.X-8 < s.to }) {
				lane = l
				break
			}
		}
	}
	x.Y = 24 + float64(lane)*32
	d.Dots = append(d.Dots, x)
}

type span struct{ from, to float64 }

func (d *clockData) add(p *scenePage, r row) {
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
		d.place(dot{X: clockX(o.Mid()), Mark: m, ID: r.Device.ID, Name: r.Device.Place})
		d.Rows = append(d.Rows, c)
	} else {
		d.Unread++
	}
}

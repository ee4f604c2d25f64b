package web

import (
	"context"
	"math"
	"slices"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
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
}

type dot struct {
	X, Y  float64
	Mark  stage.Mark
	Label string
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

func (s *Server) clockPage(_ context.Context, p *scenePage) (string, error) {
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
	for _, r := range p.rows[:min(len(p.rows), maxRows)] {
		d.add(p, r)
	}
	slices.SortStableFunc(d.Rows, func(a, b clockRow) int {
		return 2*(truth(b.HasChange)-truth(a.HasChange)) + truth(b.Judged) - truth(a.Judged)
	})
	for _, x := range readable(p.view, stage.Clock) {
		d.Can += truth(x.Kind == identity.Camera)
	}
	p.Data = d
	return "clock", nil
}

func (d *clockData) add(p *scenePage, r row) {
	f, _ := p.view.Clock(r.Device)
	c := clockRow{Row: r, Changes: r.Proposals[stage.Clock], HasChange: len(r.Proposals[stage.Clock]) > 0, Judged: f.Camera != nil}
	d.Changes += len(c.Changes)
	d.Cams += truth(c.HasChange)
	if f.Camera != nil {
		o := f.Offset()
		m := r.Mark(stage.Clock)
		c.Offset, c.Error, c.Against, c.Source = o.Seconds(), o.ErrorSeconds(), f.Reference.Name, f.Camera.Source()
		c.Cause = string(clock.CauseOf(*f.Camera, o))
		b := clock.BandOf(o, f.Window)
		if b == clock.Refused || b == clock.AtRisk {
			c.Matters = "now: " + string(b)
		}
		dt := dot{X: clockX(o.Mid()), Y: 24 + float64(len(d.Dots)%4)*32, Mark: m, ID: r.Device.ID}
		if m.State != stage.Ready || len(d.Rows) < 12 {
			dt.Label = r.Device.Place
		} else {
			d.Quiet++
		}
		dt.Left = dt.X > 800
		d.Dots = append(d.Dots, dt)
		d.Rows = append(d.Rows, c)
	} else {
		d.Unread++
	}
}

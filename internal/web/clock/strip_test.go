package clock

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// The strip is symmetric, grows with the offset and ends at ten hours.
func TestTheClockStrip(t *testing.T) {
	if clockX(0) != 520 {
		t.Errorf("zero is at %g", clockX(0))
	}
	last := clockX(0)
	for _, d := range []time.Duration{100 * time.Millisecond, time.Second, 5 * time.Second, 30 * time.Second, time.Hour, 10 * time.Hour} {
		x := clockX(d)
		if x <= last || math.Abs((x-520)+(clockX(-d)-520)) > 1e-9 {
			t.Errorf("%v is at %g, its opposite at %g", d, x, clockX(-d))
		}
		last = x
	}
	if clockX(26*8766*time.Hour) != clockX(10*time.Hour) {
		t.Error("26 years run off the strip")
	}
}

// A crowd on the strip: every camera is in one group, groups of one state stand apart,
// and none mixes states or bands.
func TestACrowdOnTheStrip(t *testing.T) {
	var all []store.ClockDot
	offsets := []time.Duration{-26 * 8766 * time.Hour, -time.Hour, -20 * time.Second, -3 * time.Second,
		-900 * time.Millisecond, -200 * time.Millisecond, 0, 100 * time.Millisecond, 700 * time.Millisecond, 1100 * time.Millisecond, 4 * time.Second, 22 * time.Second, time.Hour, 26 * time.Hour}
	for i := range 3000 {
		st := []stage.State{stage.Ready, stage.Ready, stage.Needs, stage.Blocked}[i%4]
		all = append(all, store.ClockDot{ID: int64(i + 1), Low: offsets[i%len(offsets)] - time.Second/2,
			High: offsets[i%len(offsets)] + time.Second/2, State: st})
	}
	offset := func(x store.ClockDot) clock.Offset { return clock.Offset{Low: x.Low, High: x.High} }
	groups := groupsOf(all, offset)
	in, last := map[int64]int{}, map[[2]string]float64{}
	for _, g := range groups {
		for _, x := range g.of {
			in[x.ID]++
			if x.State != g.state || clock.BandOf(clock.Offset{Low: offset(x).Mid(), High: offset(x).Mid()}, 0) != g.band {
				t.Errorf("%+v is in a group of %s, %s", x, g.state, g.band)
			}
		}
		// The two sides of a band are far apart from each other.
		k := [2]string{string(g.state), string(g.band)}
		if was, ok := last[k]; ok && g.from-was <= apart {
			t.Errorf("groups of %v begin at %g and %g", k, was, g.from)
		}
		last[k] = g.from
		if x := g.x(); x < clockX(g.least)-1e-6 || x > clockX(g.most)+1e-6 {
			t.Errorf("a group from %v to %v stands at %g", g.least, g.most, x)
		}
	}
	if len(in) != len(all) || len(groups) > 60 {
		t.Errorf("%d of %d cameras in %d groups", len(in), len(all), len(groups))
	}
	for id, n := range in {
		if n != 1 {
			t.Errorf("camera %d is in %d groups", id, n)
		}
	}
	if got := someOf(all[:7]); got != ", , , ,  and 2 more" {
		t.Errorf("%q", got)
	}
}

// The bands drawn are the core's: they meet, mirror each other, and end where the rule says
// that another begins, also for a window that a camera has shown.
func TestTheStripsBandsAreTheRules(t *testing.T) {
	for _, window := range []time.Duration{0, 6 * time.Second, 40 * time.Second, 10 * time.Minute} {
		var d clockData
		d.scale(window)
		for o := 200 * time.Millisecond; o < 5*time.Hour; o = o*11/10 + time.Millisecond {
			for _, at := range []time.Duration{o, -o} {
				want := strings.ReplaceAll(string(clock.BandOf(clock.Offset{Low: at, High: at}, window)), " ", "-")
				x, in := clockX(at), ""
				for _, b := range d.Bands {
					if x >= b.X && x <= b.X+b.W {
						in += b.Class + " "
					}
				}
				if !strings.Contains(in, want) || strings.Count(in, " ") > 2 {
					t.Fatalf("window %v: %v is drawn in %q, and is %s", window, at, in, want)
				}
			}
		}
	}
}

// No label covers a mark, whatever stands where; what is beyond an end says so.
func TestNoLabelCoversAMark(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 5))
	for range 300 {
		var d clockData
		for range 5 + rnd.IntN(120) {
			at := time.Duration((rnd.Float64() - 0.5) * math.Pow(10, rnd.Float64()*7) * float64(time.Second))
			d.place(dot{X: clockX(at), Off: offStrip(at), Name: strings.Repeat("n", 4+rnd.IntN(20)), Mark: stage.Mark{State: []stage.State{stage.Ready, stage.Needs, stage.Blocked}[rnd.IntN(3)]}})
			if x := d.Dots[len(d.Dots)-1]; x.Off != 0 && (x.X > 520) != (x.Off > 0) || x.Off == 0 && at.Abs() > 10*time.Hour {
				t.Errorf("%v stands at %g and points %d", at, x.X, x.Off)
			}
		}
		for i, x := range d.Dots {
			if x.Label == "" {
				continue
			}
			from, to := x.X+9, x.X+11+6.6*float64(len(x.Label))
			if x.Left {
				from, to = x.X-11-6.6*float64(len(x.Label)), x.X-9
			}
			for j, o := range d.Dots {
				if i != j && math.Abs(o.Y-x.Y) < 12 && o.X+7 > from && o.X-7 < to {
					t.Fatalf("the label of %+v covers %+v", x, o)
				}
			}
		}
	}
}

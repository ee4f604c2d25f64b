package clock

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

type dot struct {
	X, Y  float64
	Mark  stage.Mark
	Name  string
	Label string // empty where there is no room for one
	Href  string
	Says  string
	ID    int64 // 0: several cameras
	Left  bool  // label to the left
	Under bool  // label under it
	Open  bool  // its sheet is open
	Off   int   // beyond an end of the strip: −1 the left one, 1 the right one
}

// stripEnd is the offset at the strip's ends: what is beyond stands there, with an arrow.
const stripEnd = 10 * time.Hour

// offStrip says beyond which end of the strip an offset is; 0: it is on it.
func offStrip(d time.Duration) int {
	switch {
	case d > stripEnd:
		return 1
	case d < -stripEnd:
		return -1
	}
	return 0
}

// Title tells a mark to who can't see it.
func (d dot) Title() string {
	if d.ID == 0 {
		return d.Says
	}
	return d.Name + ": " + d.Mark.State.Label()
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

// clockX places an offset on the strip: symmetric, logarithmic, ±10 h at its ends.
func clockX(d time.Duration) float64 {
	const half = 470.0
	end := stripEnd.Seconds()
	v := math.Log1p(min(math.Abs(d.Seconds()), end)/0.8) / math.Log1p(end/0.8) * half
	if d < 0 {
		v = -v
	}
	return 520 + v
}

// narrowest is the width of a band that still holds its name.
const narrowest = 44.0

// scale draws the bands, for a sign-in window (zero: the usual one), and the ticks.
func (d *clockData) scale(window time.Duration) {
	from := time.Duration(0)
	for _, e := range append(clock.Bands(window), clock.Edge{Band: clock.Refused, To: stripEnd}) {
		class, name := strings.ReplaceAll(string(e.Band), " ", "-"), string(e.Band)
		if from == 0 {
			d.Bands = append(d.Bands, band{clockX(-e.To), clockX(e.To) - clockX(-e.To), class, name})
		} else {
			if clockX(e.To)-clockX(from) < narrowest {
				name = ""
			}
			d.Bands = append(d.Bands, band{clockX(from), clockX(e.To) - clockX(from), class, name},
				band{clockX(-e.To), clockX(-from) - clockX(-e.To), class, name})
		}
		from = e.To
	}
	for label, at := range map[string]time.Duration{"1 s": time.Second, "5 s": 5 * time.Second,
		"30 s": 30 * time.Second, "5 min": 5 * time.Minute, "1 h": time.Hour, "10 h": 10 * time.Hour} {
		d.Ticks = append(d.Ticks, tick{clockX(at), "+" + label}, tick{clockX(-at), "−" + label})
	}
	d.Ticks = append(d.Ticks, tick{clockX(0), "0"})
}

// shown is the sign-in window of the camera whose sheet is open, where it has shown one:
// the strip's bands are then that camera's.
func (d *clockData) shown(p *shell.Request) time.Duration {
	id, err := strconv.ParseInt(p.URL.Query().Get("sheet"), 10, 64)
	of, ok := p.Snapshot.Source(id)
	if err != nil || !ok {
		return 0
	}
	f, _ := facts.ForClock(p.Snapshot, of.Device)
	if f.Window > 0 {
		d.Window = fmt.Sprintf("%s has shown a sign-in window of %s", of.Place, finding.Spoken(f.Window.Round(time.Second)))
	}
	return f.Window
}

// trail shows on the strip where the clock stood before whose sheet is open, against
// what it is held against now.
func (pg *Page) trail(ctx context.Context, p *shell.Request, d *clockData) error {
	id, err := strconv.ParseInt(p.URL.Query().Get("sheet"), 10, 64)
	i := slices.IndexFunc(d.Dots, func(x dot) bool { return x.ID == id && id != 0 })
	of, ok := p.Snapshot.Source(id)
	if err != nil || i < 0 || !ok {
		return nil
	}
	readings, err := pg.stage.History(ctx, of.Device.ID, 40)
	if err != nil {
		return err
	}
	f, _ := facts.ForClock(p.Snapshot, of.Device)
	for _, r := range readings {
		o := r.Offset.Minus(f.Reference.Offset)
		d.Trail = append(d.Trail, dot{X: clockX(o.Mid()), Y: d.Dots[i].Y,
			Label: r.At.In(p.Zone).Format("02 Jan 15:04:05") + ": " + o.String()})
	}
	return nil
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
	x.Y = laneY(lane)
	if x.Label == "" {
		d.Quiet++
		x.Y += laneHeight / 2 // between two rows of labels, where no lane has room
		for i := range lanes {
			if l := (lane + i) % lanes; !slices.ContainsFunc(d.labels[l], func(s span) bool { return x.X+8 > s.from && x.X-8 < s.to }) {
				x.Y = laneY(l)
				d.labels[l] = append(d.labels[l], span{x.X - 8, x.X + 8}) // no later label covers it
				break
			}
		}
	}
	d.Dots = append(d.Dots, x)
}

// laneHeight is how far lanes stand from each other: a label of one and a mark between two
// don't meet.
const laneHeight = 32.0

func laneY(lane int) float64 { return 24 + float64(lane)*laneHeight }

type span struct{ from, to float64 }

// apart is how far a crowd's marks stand from each other on the strip, so that the
// figures under them can be read.
const apart = 34.0

// group is cameras that stand near each other on the strip, and stand alike.
type group struct {
	state stage.State
	band  clock.Band
	sum   float64
	from  float64
	least time.Duration
	most  time.Duration
	of    []store.ClockDot
}

func (g *group) x() float64 { return g.sum / float64(len(g.of)) }

// groupsOf gathers cameras by state and band, in the order of their offsets: each group
// reaches as far as its figure needs room.
func groupsOf(all []store.ClockDot, offset func(store.ClockDot) clock.Offset) []*group {
	type placed struct {
		store.ClockDot
		o time.Duration
	}
	sorted := make([]placed, len(all))
	for i, x := range all {
		sorted[i] = placed{x, offset(x).Mid()}
	}
	slices.SortStableFunc(sorted, func(a, b placed) int { return cmp.Compare(a.o, b.o) })
	type key struct {
		state stage.State
		band  clock.Band
	}
	last := map[key]*group{}
	var out []*group
	for _, x := range sorted {
		at := clockX(x.o)
		k := key{x.State, clock.BandOf(clock.Offset{Low: x.o, High: x.o}, 0)}
		g := last[k]
		if g == nil || at-g.from > apart {
			g = &group{state: k.state, band: k.band, from: at, least: x.o}
			last[k] = g
			out = append(out, g)
		}
		g.sum, g.most, g.of = g.sum+at, x.o, append(g.of, x.ClockDot)
	}
	return out
}

// laneOf is the shell.Row of the strip that a crowd's marks of one state share.
func laneOf(st stage.State) int {
	switch st {
	case stage.Blocked:
		return 0
	case stage.Needs:
		return 1
	case stage.Ready:
		return 3
	}
	return 2
}

// crowd draws all cameras that match where they are more than the table shows: those
// that stand near each other and stand alike share a mark, which says how many they are.
func (pg *Page) crowd(ctx context.Context, p *shell.Request, d *clockData) error {
	all, err := pg.Store.ClockDots(ctx, stage.Clock, p.Selection)
	if err != nil {
		return err
	}
	against := map[int64]clock.Offset{}
	for _, rec := range p.Snapshot.Recorders() {
		if r, ok := facts.Clock.Of(p.Snapshot, rec.ID); ok {
			against[rec.ID] = r.Offset
		}
	}
	d.Crowd, d.Unread = len(all), p.Window.Total-len(all)
	held := map[string]int{}
	ends := [lanes]float64{}
	for _, g := range groupsOf(all, func(x store.ClockDot) clock.Offset {
		o := clock.Offset{Low: x.Low, High: x.High}
		if rec, _, ok := p.Snapshot.HolderOf(site.Source{Nth: 1, RecorderID: x.RecorderID, Device: store.Device{Address: x.Address}}); ok {
			if ref, read := against[rec.ID]; read {
				o = o.Minus(ref)
				held[rec.Place]++
			}
		}
		return o
	}) {
		n, lane := len(g.of), laneOf(g.state)
		x := dot{X: g.x(), Y: laneY(lane), Off: offStrip(g.least) + offStrip(g.most), Mark: stage.Mark{State: g.state}, Under: true, Label: stage.Thousands(n)}
		if n == 1 {
			one := g.of[0]
			x.ID, x.Name, x.Says, x.Href = one.ID, one.Place, one.Place+": "+one.Sentence, p.With("sheet", strconv.FormatInt(one.ID, 10))
			x.Label = one.Place
		} else {
			x.Says = fmt.Sprintf("%s cameras, %s, %s to %s: %s", stage.Thousands(n), g.state.Label(),
				clock.Brief(g.least), clock.Brief(g.most), someOf(g.of))
			x.Href = shell.WithQuery(p.URL, "q", strings.TrimSpace(p.Query+" stage:clock state:"+string(g.state)))
		}
		x.Off = max(-1, min(1, x.Off))
		half := 3.6 * float64(len([]rune(x.Label)))
		if x.X-half < ends[lane]-2 || x.X+half > 1040 {
			x.Label = ""
		} else {
			ends[lane] = x.X + half
		}
		d.Dots = append(d.Dots, x)
	}
	d.opened(p)
	for i := range d.Own {
		d.Own[i].Cameras = held[d.Own[i].Device.Place]
	}
	return nil
}

// opened draws the camera whose sheet is open where a crowd's marks stand for several: it is
// always drawn by itself, with its name, over them.
func (d *clockData) opened(p *shell.Request) {
	id, err := strconv.ParseInt(p.URL.Query().Get("sheet"), 10, 64)
	of, ok := p.Snapshot.Source(id)
	if err != nil || !ok || slices.ContainsFunc(d.Dots, func(x dot) bool { return x.ID == id }) {
		return
	}
	f, _ := facts.ForClock(p.Snapshot, of.Device)
	if f.Camera == nil {
		return
	}
	o := f.Offset().Mid()
	m := p.Engine.Mark(p.Now, p.Snapshot, of.Device, stage.Clock)
	d.Dots = append(d.Dots, dot{X: clockX(o), Y: laneY(1) + laneHeight/2, Mark: m, ID: id, Name: of.Place, Label: of.Place, Left: clockX(o) > 800, Open: true, Off: offStrip(o),
		Href: p.With("sheet", strconv.FormatInt(id, 10)), Says: of.Place + ": " + m.Sentence})
}

// someOf names a few of many.
func someOf(all []store.ClockDot) string {
	var names []string
	for _, x := range all[:min(len(all), 5)] {
		names = append(names, x.Place)
	}
	s := strings.Join(names, ", ")
	if n := len(all) - len(names); n > 0 {
		s += fmt.Sprintf(" and %s more", stage.Thousands(n))
	}
	return s
}

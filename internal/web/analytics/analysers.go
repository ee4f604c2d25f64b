package analytics

import (
	"fmt"
	"math"
	"strings"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/stages/analytics"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// looking is an analyser in the list under the picture.
type looking struct {
	ID       int64
	Place    string
	Model    string
	Trouble  string
	Known    bool
	ReadAt   time.Time
	Views    string // "2 of 4"
	Rate     string // "4 of 8"
	Waiting  int
	Behind   string // empty: it doesn't fall behind
	Clock    string
	Load     string
	Strange  int    // views that it looks at for somebody else
	Has      string // names of this site's
	Firmware string
}

// paired is how an analyser looks at the camera in hand.
type paired struct {
	Name string
	Wish string
	View *pairing.Queue // nil: it doesn't know it

	ID       int64
	Findings []finding.Finding
	Again    bool // it isn't looked at as was asked
	Rate     string
	Score    string
	Within   string // the area that is looked at; empty: the whole picture
	Areas    []area // it, and those of the drawn rules
}

// area is one that may be looked at alone.
type area struct{ Name, Points string }

// analysers fills in which analysers there are, and which cameras have nobody who looks at them.
func (d *data) analysers(p *shell.Request, ours []store.Looked, drawn []rule.Drawn) {
	names := map[string]string{}
	for _, of := range ours {
		names[of.Key] = of.Name
	}
	for _, dev := range p.Snapshot.Analysers() {
		x := looking{ID: dev.ID, Place: dev.Place, Model: dev.Make + " " + dev.Model, Trouble: p.Snapshot.RecorderTrouble(dev.ID)}
		told, known := facts.Analyser.Of(p.Snapshot, dev.ID)
		if known {
			x.fill(told, names)
		}
		d.Analysers = append(d.Analysers, x)
	}
	for _, r := range p.Rows {
		if analytics.Looked(p.Snapshot, r.Source).Blind() {
			d.Without = append(d.Without, r)
		}
	}
	if d.Chosen == nil || d.Chosen.Source.Paired == nil {
		return
	}
	of := d.Chosen.Source
	dev, ok := p.Snapshot.Device(of.Paired.Analyser)
	if !ok {
		return
	}
	f := analytics.Looked(p.Snapshot, of)
	d.Paired = &paired{Name: dev.Place, Wish: of.Paired.Wish.Text(), ID: dev.ID, Findings: pairing.Judge(p.Now, f), Again: f.Otherwise(),
		Rate: short2(of.Paired.PerSecond), Score: short2(of.Paired.LeastScore), Within: of.Paired.Within}
	d.Paired.offer(drawn)
	if told, known := facts.Analyser.Of(p.Snapshot, dev.ID); known {
		if q, there := told.Running.Views[of.Key]; there {
			d.Paired.View = &q
		}
	}
}

// offer lists the areas that may be looked at alone: of each drawn rule that has one.
func (x *paired) offer(drawn []rule.Drawn) {
	had := x.Within == ""
	for _, r := range drawn {
		if points := rule.FormatPoints(r.Area); points != "" {
			x.Areas, had = append(x.Areas, area{"the area of " + r.Name, points}), had || points == x.Within
		}
	}
	if !had {
		x.Areas = append(x.Areas, area{"the area that it looks at now", x.Within})
	}
}

func (x *looking) fill(a pairing.Analyser, names map[string]string) {
	x.Known, x.ReadAt, x.Firmware = true, a.At, a.Firmware
	x.Views = ofMost(float64(len(a.Views)), float64(a.Limits.Most()))
	x.Rate = ofMost(a.Rate(), a.Limits.PerSecond)
	x.Load = fmt.Sprintf("%.0f %%", 100*a.Running.Load)
	waiting, behind := a.Behind()
	var has []string
	x.Waiting = waiting
	for _, v := range a.Views {
		if name, ours := names[v.ID]; ours {
			has = append(has, name)
		} else {
			x.Strange++
		}
	}
	x.Has = strings.Join(has, ", ")
	if behind >= time.Second {
		x.Behind = fmt.Sprintf("%.0f s", behind.Seconds())
	}
	x.Clock = "not told"
	if off := a.Running.Ahead; a.Running.Timed && clock.BandOf(clock.Offset{Low: off, High: off}, 0) == clock.InStep {
		x.Clock = "in step"
	} else if a.Running.Timed {
		x.Clock = clock.Brief(off)
	}
}

// ofMost words how much of a limit is used; 0 is none.
func ofMost(used, most float64) string {
	if most == 0 {
		return short2(used)
	}
	return short2(used) + " of " + short2(most)
}

func short2(x float64) string { return fmt.Sprintf("%g", math.Round(100*x)/100) }

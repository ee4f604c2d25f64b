package recording

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/store"
)

// bar is one recorder's days against the least and the most.
type bar struct {
	Recorder store.Device
	Status   channel.Recorder
	Channels []recording.Channel // as they would keep by what is chosen and in hand
	Now      recording.Sum       // as they keep
	Then     recording.Sum
	Says     string
	Days     string
	Was      string // days now, where they would be others
	Kept     string // what it really kept
	Class    string
	W        float64
	Parts    []part
	Marks    []limit
	Finding  string
	Age      int // days after which it is to delete; 0: nothing is offered
}

// part is one camera's share of a bar.
type part struct {
	X, W  float64
	Title string
	Odd   bool
}

type limit struct {
	X, Text float64
	Anchor  string
	Says    string
}

type stepView struct {
	recording.Step
	Gain string
	Href string // tries it; empty: it is made elsewhere
	Else string // where
}

type eater struct {
	Name  string
	Row   int64
	Mbit  float64
	Share float64
}

// draw lays out the bars on one scale: that of the most days that anyone keeps or is allowed to.
func (d *pageData) draw(t recording.Term) {
	scale := math.Max(10, 1.35*float64(max(t.Least, t.Most)))
	for _, b := range d.Bars {
		for _, days := range []float64{b.Now.Days, b.Then.Days} {
			if !math.IsInf(days, 1) {
				scale = math.Max(scale, math.Min(days, 4*math.Max(30, float64(max(t.Least, t.Most))))*1.1)
			}
		}
	}
	for _, b := range d.Bars {
		b.lay(t, scale)
	}
}

func (b *bar) lay(t recording.Term, scale float64) {
	st := b.Status.Storage
	if st.Usable <= 0 {
		b.Says, b.Days = "it doesn't say how much it can hold", ""
		return
	}
	kept := b.Then.Days
	if st.Deletes > 0 {
		kept = min(kept, float64(st.Deletes))
	}
	shown := b.Then
	shown.Days = kept
	b.Days = shown.DaysText()
	if now := b.Now.DaysText(); b.Then.DaysText() != now {
		b.Was = now
	}
	b.Says = fmt.Sprintf("%s usable · %s a day%s", recording.Size(st.Usable), recording.Size(b.Then.Bytes), b.Then.Basis())
	if st.KeptDays > 0 && b.Then.Lived == 0 {
		b.Kept = fmt.Sprintf("As it is set now it kept %s a day over %s.", recording.Size(st.Kept), recording.DaysText(st.KeptDays))
	}
	b.Class = "ready"
	if fi, bad := recording.JudgeTerm(b.Recorder.Place, b.Status.At, st, b.Then, t); bad {
		b.Finding, b.Class = fi.Sentence, "needs"
		if t.Of(b.Then, st) == recording.TooMany && !b.Status.Lacks(channel.ActAge) {
			b.Age = t.Most
		}
	}
	b.W = barWidth * math.Min(1, kept/scale)
	x := 0.0
	for k, e := range b.eaters() {
		w := b.W * e.Share / 100
		b.Parts = append(b.Parts, part{x, w, fmt.Sprintf("%s: %s a day, %.0f %%", e.Name, recording.Size(e.Mbit*1e6/8*86400), e.Share), k%2 == 1})
		x += w
	}
	for _, l := range []struct {
		days int
		says string
	}{{t.Least, "contract, least"}, {t.Most, "privacy, most"}} {
		if l.days > 0 {
			m := limit{X: barWidth * float64(l.days) / scale, Anchor: "start", Says: fmt.Sprintf("%s %d", l.says, l.days)}
			m.Text = m.X + 3
			if l.days == t.Least {
				m.Text, m.Anchor = m.X-3, "end"
			}
			b.Marks = append(b.Marks, m)
		}
	}
}

// eaters are the channels by what they make a day, the most first; what isn't on channels is one
// of them.
func (b *bar) eaters() (out []eater) {
	add := func(name string, row int64, bytes float64) {
		if bytes > 0 {
			out = append(out, eater{name, row, bytes * 8 / 86400 / 1e6, 100 * bytes / b.Then.Bytes})
		}
	}
	for _, i := range b.Then.Eaters() {
		add(b.Channels[i].Name, b.Channels[i].Source, b.Then.Loads[i].Bytes)
	}
	add("Analog inputs", 0, b.Status.Storage.Other)
	slices.SortStableFunc(out, func(a, b eater) int { return cmp.Compare(b.Mbit, a.Mbit) })
	return out
}

// choose takes the recorder that is asked for, else the one that is worst off.
func (d *pageData) choose(want int64) {
	for _, b := range d.Bars {
		switch {
		case b.Recorder.ID == want:
			d.Chosen = b
			return
		case d.Chosen == nil || b.Then.Days > 0 && len(b.Then.Eaters()) > 0 && (len(d.Chosen.Then.Eaters()) == 0 || b.Then.Days < d.Chosen.Then.Days):
			d.Chosen = b
		}
	}
}

package rule

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
)

// Habit is what of a box an engine looks at. A rule means its foot, and its share in an area; makes differ.
type Habit string

// Habits of engines.
const (
	ByFoot   Habit = ""       // the middle of the bottom edge crosses, a share of the box is in
	ByMiddle Habit = "middle" // the middle of the box does both
)

// Within is how far a firing that was foretold and one that happened may lie from one another and be the same: a camera
// says it up to two seconds after, and its clock is known to a part of one.
const Within = 3 * time.Second

// Compared are the firings of a time beside each other: what the rule would have fired on by its meaning, and what the camera
// said. Each is paired with one of the other at the most.
type Compared struct {
	Foretold int `json:"foretold"`
	Fired    int `json:"fired"`
	Both     int `json:"both"`
}

// Off is the part of all firings, foretold or not, that one side alone knows: 0 they are the same, 1 none is. Of none it is 0.
func (c Compared) Off() float64 {
	all := c.Foretold + c.Fired - c.Both
	if all == 0 {
		return 0
	}
	return float64(all-c.Both) / float64(all)
}

// Compare pairs as many firings with those that happened as can be, within Within.
func Compare(foretold, fired []time.Duration) Compared {
	a, b := slices.Sorted(slices.Values(foretold)), slices.Sorted(slices.Values(fired))
	c := Compared{Foretold: len(a), Fired: len(b)}
	// In the order of time the earliest of each side that can still be paired are: no other pairing has more pairs.
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case (a[i] - b[j]).Abs() <= Within:
			c.Both++
			i++
			j++
		case a[i] < b[j]:
			i++
		default:
			j++
		}
	}
	return c
}

// Beginnings are the moments of hits at which something began. Of Inside, which a camera tells as one state, those at which
// nobody was in before.
func Beginnings(r Rule, all []Hit) (out []time.Duration) {
	in := map[string]bool{}
	for _, h := range all {
		switch {
		case r.Kind != Inside:
			out = append(out, h.At)
		case !h.On:
			delete(in, h.Object)
		default:
			if len(in) == 0 {
				out = append(out, h.At)
			}
			in[h.Object] = true
		}
	}
	return out
}

// Day is one day of a comparison, as it is where the site is.
type Day struct {
	Date string `json:"date"` // 2006-01-02
	Compared
}

// ByDay compares day by day, oldest first; days on which nothing fired are left out. A firing is of the day of its own side.
func ByDay(foretold, fired []time.Duration, zone *time.Location) (out []Day) {
	split := func(all []time.Duration) map[string][]time.Duration {
		by := map[string][]time.Duration{}
		for _, at := range all {
			date := time.Unix(0, int64(at)).In(zone).Format(time.DateOnly)
			by[date] = append(by[date], at)
		}
		return by
	}
	a, b := split(foretold), split(fired)
	dates := map[string]bool{}
	for d := range a {
		dates[d] = true
	}
	for d := range b {
		dates[d] = true
	}
	for d := range dates {
		out = append(out, Day{d, Compare(a[d], b[d])})
	}
	slices.SortFunc(out, func(a, b Day) int { return cmp.Compare(a.Date, b.Date) })
	return out
}

// Bounds of telling that an engine differs.
const (
	Enough     = 5    // firings, foretold or not, from which on it is told
	MostOff    = 0.25 // what is left to chance: the part of them that one side alone knows
	muchNearer = 0.5  // what explains it halves what is off, at least
)

// Explanation is what in an engine, or in its setting, would have it fire as it did.
type Explanation struct {
	Says string `json:"says"` // "it looks at the middle of a box, not at its foot"
	Compared
}

// Explain looks for what would explain that an engine fired otherwise than a rule says: the one of a few that comes nearest,
// and halves what is off at least. ok is false where none does.
func Explain(r Rule, tracks []scene.Track, over Span, fired []time.Duration) (best Explanation, ok bool) {
	is := Compare(Beginnings(r, Rehearse(r, tracks, over)), fired)
	best.Compared = is
	for _, x := range r.others() {
		if c := Compare(Beginnings(x.rule, Rehearse(x.rule, tracks, over)), fired); c.Off() < best.Off() {
			best, ok = Explanation{x.says, c}, true
		}
	}
	return best, ok && best.Off() <= muchNearer*is.Off()
}

type other struct {
	says string
	rule Rule
}

// others are what engines are known to do otherwise, the likeliest first.
func (r Rule) others() (out []other) {
	add := func(says string, change func(*Rule)) {
		x := r
		change(&x)
		if x.Check() == nil {
			out = append(out, other{says, x})
		}
	}
	add("it looks at the middle of a box, not at its foot", func(x *Rule) { x.By = ByMiddle })
	if r.Kind != Crosses {
		add("a tenth of a box is enough for it to be in", func(x *Rule) { x.Share = 0.1 })
		add("the whole of a box must be in", func(x *Rule) { x.Share = 0.98 })
	}
	if r.Kind == Crosses && r.Direction != Either && r.Direction != "" {
		turned := map[Direction]Direction{LeftToRight: RightToLeft, RightToLeft: LeftToRight}
		add("it takes the line's direction the other way round", func(x *Rule) { x.Direction = turned[r.Direction] })
		add("it fires whichever way the line is crossed", func(x *Rule) { x.Direction = Either })
	}
	if len(r.Classes) > 0 {
		add("it fires on anything, whatever its class", func(x *Rule) { x.Classes = nil })
	}
	if r.Traits.Any() {
		add("it fires whatever the colour, and whatever is carried or worn", func(x *Rule) { x.Traits = Traits{} })
	}
	if r.For > 0 {
		add("it waits for half of the time", func(x *Rule) { x.For = r.For / 2 })
		add("it waits for twice the time", func(x *Rule) { x.For = 2 * r.For })
	}
	for _, score := range []float64{0.5, 0.7, 0.9} {
		if score > r.MinScore {
			add(fmt.Sprintf("it wants a score of %g of its own", score), func(x *Rule) { x.MinScore = score })
		}
	}
	for _, low := range []float64{0.05, 0.1, 0.2} {
		if low > r.Lowest {
			add(fmt.Sprintf("it leaves out what is less than %g %% of the picture high", 100*low), func(x *Rule) { x.Lowest = low })
		}
	}
	return out
}

// Held is how a rule that a camera has was held against what it fired, over the time in which both are known.
type Held struct {
	Rule     string    `json:"rule"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	Explains string    `json:"explains,omitempty"` // empty: nothing that is known of does
	Compared
}

// differs is what Judge says of it.
func (h Held) differs() (f finding.Finding, ok bool) {
	if h.Foretold+h.Fired-h.Both < Enough || h.Off() <= MostOff {
		return f, false
	}
	says := fmt.Sprintf("%q would have fired %d times by its meaning, and the camera fired %d times: %d are the same, %.0f %% of all are not.",
		h.Rule, h.Foretold, h.Fired, h.Both, math.Round(100*h.Off()))
	out := "Look at what it fired on beside what was foretold, and draw the rule for the camera as it is."
	if h.Explains != "" {
		says += " That is so if " + h.Explains + "."
		out = "Draw it for that: what its engine does can't be set."
	}
	return finding.Finding{Code: "analytics.differs", Severity: finding.Needs, Words: "fires otherwise", Sentence: says, WayOut: out}, true
}

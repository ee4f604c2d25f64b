package rule

import (
	"fmt"
	"math"
	"time"

	"duskyharbor/internal/core/scene"
)

// Checked is what a person said of a firing: whether it was right to fire on that object then.
type Checked struct {
	Object string        `json:"object"`
	At     time.Duration `json:"-"` // as tracks count
	Right  bool          `json:"right"`
}

// of says whether a hit is the one that was judged.
func (j Checked) of(h Hit) bool { return h.Object == j.Object && (h.At-j.At).Abs() <= Within }

// Setting is one figure of a rule set otherwise, and what that makes of the firings that were judged.
type Setting struct {
	Part  string  `json:"part"`  // "score", "share", "for", "lowest", "margin"
	Value float64 `json:"value"` // as the rule takes it: seconds, or 0…1
	Says  string  `json:"says"`  // "a score of 0.6 at least"
	Wrong int     `json:"wrong_avoided"`
	Lost  int     `json:"right_lost"`
}

// Weighed is what was judged of what a rule fires on now, and what other settings would make of it.
type Weighed struct {
	Right    int       `json:"right"`
	Wrong    int       `json:"wrong"`
	Settings []Setting `json:"settings"`
	Best     *Setting  `json:"suggested,omitempty"` // nil: none of them avoids more wrong ones than it loses right ones
	Says     string    `json:"says"`                // why that, and how sure it is
}

// Weigh sets each figure of a rule otherwise, and counts the wrong ones that are avoided against the right ones that are lost,
// of those that were judged and that the rule fires on as it is. The tracks of what was judged are enough, but for Crowd.
func Weigh(r Rule, tracks []scene.Track, over Span, checked []Checked) (w Weighed) {
	w.Settings = []Setting{}
	fires := func(x Rule) []bool { return firesOn(x, tracks, over, checked) }
	now := fires(r)
	for i, on := range now {
		switch {
		case on && checked[i].Right:
			w.Right++
		case on:
			w.Wrong++
		}
	}
	if w.Right+w.Wrong == 0 {
		w.Says = "None of what it fires on was judged."
		return w
	}
	for _, x := range r.settings() {
		on := fires(x.rule)
		for i := range now {
			if gone := now[i] && !on[i]; gone && checked[i].Right {
				x.Lost++
			} else if gone {
				x.Wrong++
			}
		}
		if x.Wrong+x.Lost > 0 {
			w.Settings = append(w.Settings, x.Setting)
		}
	}
	w.suggest()
	return w
}

func firesOn(r Rule, tracks []scene.Track, over Span, checked []Checked) []bool {
	out := make([]bool, len(checked))
	by := map[string][]int{}
	for i, j := range checked {
		by[j.Object] = append(by[j.Object], i)
	}
	for _, h := range Rehearse(r, tracks, over) {
		for _, i := range by[h.Object] {
			out[i] = out[i] || h.On && checked[i].of(h)
		}
	}
	return out
}

// suggest picks the setting that leaves the fewest errors; of equals the one that loses the fewest right ones, then the first,
// which is the nearest to what is set.
func (w *Weighed) suggest() {
	for i, x := range w.Settings {
		if x.Wrong <= x.Lost {
			continue
		}
		if b := w.Best; b == nil || x.Wrong-x.Lost > b.Wrong-b.Lost || x.Wrong-x.Lost == b.Wrong-b.Lost && x.Lost < b.Lost {
			w.Best = &w.Settings[i]
		}
	}
	switch b := w.Best; {
	case w.Wrong == 0:
		w.Says = fmt.Sprintf("All %d that were judged are right: nothing is to be avoided.", w.Right)
	case b == nil:
		w.Says = fmt.Sprintf("%d right and %d wrong were judged: no figure set otherwise avoids more wrong ones than it loses right ones. Draw it otherwise.", w.Right, w.Wrong)
	default:
		w.Says = fmt.Sprintf("%s would have avoided %d of %d wrong ones and lost %d of %d right ones. With so many judged, up to %.0f %% of right ones could be lost.",
			b.Says, b.Wrong, w.Wrong, b.Lost, w.Right, math.Ceil(100*mostLost(b.Lost, w.Right)))
	}
}

// mostLost is how large the part that is lost could well be where lost of all were: the upper end of the interval of Wilson
// at 95 % on that side. Of none that were judged it is all.
func mostLost(lost, all int) float64 {
	if all == 0 {
		return 1
	}
	const z = 1.645
	n, p := float64(all), float64(lost)/float64(all)
	return min(1, (p+z*z/(2*n)+z*math.Sqrt(p*(1-p)/n+z*z/(4*n*n)))/(1+z*z/n))
}

type settingOf struct {
	Setting
	rule Rule
}

// settings are a rule's figures set otherwise, each stricter than it is, the nearest first.
func (r Rule) settings() (out []settingOf) {
	add := func(part, says string, value float64, x Rule) {
		if x.Check() == nil {
			out = append(out, settingOf{Setting{Part: part, Value: value, Says: fmt.Sprintf(says, value)}, x})
		}
	}
	for v := 0.05; v < 1; v += 0.05 {
		v := math.Round(100*v) / 100
		if x := r; v > r.MinScore+0.001 {
			x.MinScore = v
			add("score", "A score of %g at least", v, x)
		}
	}
	if r.Kind.Lasts() {
		for _, by := range []float64{1.25, 1.5, 2, 3, 4, 6} {
			x := r
			x.For = time.Duration(by * float64(max(r.For, time.Second))).Round(100 * time.Millisecond)
			add("for", "%g s at least", x.For.Seconds(), x)
		}
	}
	if r.Kind != Crosses {
		for _, v := range []float64{0.6, 0.7, 0.8, 0.9, 0.98} {
			if x := r; v > r.share()+0.001 {
				x.Share = v
				add("share", "A share of %g of the box that is in", v, x)
			}
		}
	} else {
		for _, v := range []float64{0.04, 0.06, 0.1, 0.15, 0.2} {
			if x := r; v > r.margin()+0.001 {
				x.Margin = v
				add("margin", "A margin of %g", v, x)
			}
		}
	}
	for _, v := range []float64{0.02, 0.04, 0.06, 0.08, 0.1, 0.12, 0.15, 0.2, 0.25, 0.3, 0.4} {
		if x := r; v > r.Lowest+0.001 {
			x.Lowest = v
			add("lowest", "A height of %g of the picture at least", v, x)
		}
	}
	return out
}

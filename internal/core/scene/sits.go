package scene

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// Glimpse is a picture of a moment in greys, row by row from the top: GlimpseWide × GlimpseHigh of them.
type Glimpse struct {
	At   time.Duration
	Grey []uint8
}

// Size of a glimpse.
const (
	GlimpseWide = 160
	GlimpseHigh = 90
)

// Moment is what analytics told of one moment: the boxes in it.
type Moment struct {
	At    time.Duration
	Boxes []Box
}

// Sits is how boxes lie on what moves in the picture.
type Sits struct {
	Right    float64       `json:"right"`  // they lie so much to the right of it, as a share of the picture's width
	Up       float64       `json:"up"`     // and so much above, of its height
	Late     time.Duration `json:"late"`   // they are where it was so long before
	Least    time.Duration `json:"least"`  // with what was seen it could be as little as that,
	Most     time.Duration `json:"most"`   // and as much
	Beside   float64       `json:"beside"` // how far beside it they lie at the least, as a share of the picture
	Glimpses int           `json:"glimpses"`
	Turned   Turned        `json:"turned,omitempty"` // they lie on it once they are taken to be of a picture turned so
}

// Bounds of looking for how boxes sit.
const (
	contrast     = 24  // greys that a place differs by where something is that isn't always there
	swaying      = 4   // places that differ in more than one of so many glimpses sway
	fewestMoved  = 12  // places of a glimpse
	mostMoved    = 0.3 // of them all: else the whole picture changed
	fewestBoth   = 6   // glimpses in which something moved and one box was told of
	earliest     = -time.Second
	latest       = 4 * time.Second
	lateStep     = 50 * time.Millisecond
	alone        = 0.02                   // frame units squared: what it costs that one side alone has something
	mostCost     = alone / 4              // boxes that lie worse than that are about something else
	mostGap      = 400 * time.Millisecond // between two moments, within which a box is where it went to
	flat         = 1.5                    // lateness whose cost is less than so many times the least could be as well
	flatLeast    = 0.0003
	worthTelling = 0.03
	farBeside    = 0.15 // boxes that go as what moves does and lie further from it may be of a picture that is turned
)

// Sit looks for the shift and lateness by which one box at a time lies best on the one thing that moves, and for the way in which
// the picture would have to be turned for it: as it is wherever boxes go as that does. ok is false where too little moved, or
// too much at once, to tell.
func Sit(all []Glimpse, told []Moment) (best Sits, ok bool) {
	seen := movers(all)
	if len(seen) == 0 || len(told) == 0 {
		return best, false
	}
	best, _, ok = sit(seen, told)
	if ok && best.Beside <= farBeside {
		return best, true
	}
	least := math.Inf(1)
	for _, t := range AllTurned[1:] {
		turned := make([]Moment, len(told))
		for i, m := range told {
			turned[i].At = m.At
			for _, b := range m.Boxes {
				turned[i].Boxes = append(turned[i].Boxes, t.BoxFrom(b))
			}
		}
		s, cost, fits := sit(seen, turned)
		if cost += s.Beside * s.Beside; fits && !s.Off() && cost < least {
			best, least, ok = s, cost, true
			best.Turned = t
		}
	}
	return best, ok
}

// sit is Sit of boxes that are taken as they are, with how badly they lie.
func sit(seen []place, told []Moment) (best Sits, worst float64, ok bool) {
	type fit struct {
		late time.Duration
		cost float64
		dx   float64
		dy   float64
		both int
	}
	var fits []fit
	for late := earliest; late <= latest; late += lateStep {
		f := fit{late: late}
		f.cost, f.dx, f.dy, f.both = cost(seen, told, late)
		if f.both >= fewestBoth {
			fits = append(fits, f)
		}
	}
	if len(fits) == 0 {
		return best, 0, false
	}
	least := slices.MinFunc(fits, func(a, b fit) int {
		switch {
		case a.cost < b.cost:
			return -1
		case a.cost > b.cost:
			return 1
		}
		return 0
	})
	if least.cost > mostCost {
		return best, 0, false
	}
	best = Sits{Right: least.dx / 2, Up: least.dy / 2, Late: least.late, Least: least.late, Most: least.late, Beside: math.Hypot(least.dx, least.dy) / 2, Glimpses: least.both}
	for _, f := range fits {
		if f.cost <= least.cost*flat+flatLeast {
			best.Least, best.Most = min(best.Least, f.late), max(best.Most, f.late)
			best.Beside = min(best.Beside, math.Hypot(f.dx, f.dy)/2)
		}
	}
	return best, least.cost, true
}

// Off says whether boxes lie beside what they are about by more than is worth telling, however late they may be: of what goes
// at one pace a shift along its way and a lateness look the same.
func (s Sits) Off() bool { return s.Beside > worthTelling }

// Words say it for people: "they lie 6 % to the right and 4 % below of it, of the picture's size, and come 0.6 s late".
func (s Sits) Words() string {
	side := func(v float64, more, less string) string {
		if math.Abs(v) < worthTelling/3 {
			return ""
		}
		if v < 0 {
			more = less
		}
		return fmt.Sprintf("%.0f %% %s", math.Abs(100*v), more)
	}
	var parts []string
	for _, p := range []string{side(s.Right, "to the right", "to the left"), side(s.Up, "above", "below")} {
		if p != "" {
			parts = append(parts, p)
		}
	}
	says := "they lie on it"
	if s.Turned != 0 {
		says = "they lie on it once the picture is taken to be " + s.Turned.Words()
	}
	if len(parts) > 0 {
		says += ", "
		if s.Turned == 0 {
			says = "they lie "
		}
		says += strings.Join(parts, " and ") + " of it, of the picture's size"
	}
	switch {
	case s.Most-s.Least > time.Second:
		return says + "; how late they come can't be told from it"
	case s.Late <= -200*time.Millisecond:
		return says + fmt.Sprintf(", and come %.1f s early", -s.Late.Seconds())
	case s.Late >= 200*time.Millisecond:
		return says + fmt.Sprintf(", and come %.1f s late", s.Late.Seconds())
	}
	return says
}

// place is where something moved at a moment; nothing did where there is none.
type place struct {
	at    time.Duration
	moves bool
	p     Point
}

// cost is how badly boxes of so much later lie on what moved, once the mean shift is taken off.
func cost(seen []place, told []Moment, late time.Duration) (mean, dx, dy float64, both int) {
	var xs, ys []float64
	one, all := 0, 0
	for _, s := range seen {
		b, there, known := boxAt(told, s.at+late)
		if !known {
			continue
		}
		all++
		switch {
		case there && s.moves:
			xs, ys = append(xs, (b.Left+b.Right)/2-s.p.X), append(ys, (b.Bottom+b.Top)/2-s.p.Y)
		case there != s.moves:
			one++
		}
	}
	both = len(xs)
	if both == 0 {
		return math.Inf(1), 0, 0, 0
	}
	dx, dy = median(xs), median(ys)
	sum := alone * float64(one)
	for i := range xs {
		sum += min(alone, (xs[i]-dx)*(xs[i]-dx)+(ys[i]-dy)*(ys[i]-dy))
	}
	return sum / float64(all), dx, dy, both
}

func median(all []float64) float64 {
	sorted := slices.Sorted(slices.Values(all))
	return (sorted[(len(sorted)-1)/2] + sorted[len(sorted)/2]) / 2
}

// boxAt is the one box that was told of at a moment, between the two moments around it; known is false where more than one was,
// or nothing was told of around it.
func boxAt(told []Moment, at time.Duration) (b Box, there, known bool) {
	i, _ := slices.BinarySearchFunc(told, at, func(m Moment, at time.Duration) int {
		switch {
		case m.At < at:
			return -1
		case m.At > at:
			return 1
		}
		return 0
	})
	if i >= len(told) || i == 0 && told[0].At != at {
		return b, false, false
	}
	after, before := told[i], told[max(0, i-1)]
	if after.At-before.At > mostGap || len(before.Boxes) > 1 || len(after.Boxes) > 1 {
		return b, false, false
	}
	near := before
	if after.At-at < at-before.At {
		near = after
	}
	if len(near.Boxes) == 0 {
		return b, false, true
	}
	if len(before.Boxes) == 0 || len(after.Boxes) == 0 || after.At == before.At {
		return near.Boxes[0], true, true
	}
	part := float64(at-before.At) / float64(after.At-before.At)
	mix := func(x, y float64) float64 { return x + part*(y-x) }
	p, q := before.Boxes[0], after.Boxes[0]
	return Box{Left: mix(p.Left, q.Left), Right: mix(p.Right, q.Right), Bottom: mix(p.Bottom, q.Bottom), Top: mix(p.Top, q.Top)}, true, true
}

// movers are where something is that isn't there most of the time: the middle of its largest part.
func movers(all []Glimpse) (out []place) {
	all = slices.DeleteFunc(slices.Clone(all), func(g Glimpse) bool { return len(g.Grey) != GlimpseWide*GlimpseHigh })
	if len(all) < fewestBoth {
		return nil
	}
	usual := make([]uint8, GlimpseWide*GlimpseHigh)
	column := make([]uint8, len(all))
	for i := range usual {
		for j := range all {
			column[j] = all[j].Grey[i]
		}
		slices.Sort(column)
		usual[i] = column[len(column)/2]
	}
	// Places at which something is again and again are of what sways there.
	often := make([]int, len(usual))
	for _, g := range all {
		for i := range often {
			if differs(g.Grey[i], usual[i]) {
				often[i]++
			}
		}
	}
	moved := make([]bool, len(usual))
	for _, g := range all {
		n := 0
		for i := range moved {
			is := differs(g.Grey[i], usual[i])
			moved[i] = is && often[i]*swaying <= len(all)
			if is {
				n++
			}
		}
		if n > mostMoved*GlimpseWide*GlimpseHigh {
			continue
		}
		middle, size := largest(moved)
		out = append(out, place{at: g.At, moves: size >= fewestMoved, p: middle})
	}
	return out
}

func differs(a, b uint8) bool { return max(a, b)-min(a, b) > contrast }

// largest is the middle of the largest connected part, in the frame, and how many places it has. It takes the parts off moved.
func largest(moved []bool) (middle Point, size int) {
	var queue []int
	for start := range moved {
		if !moved[start] {
			continue
		}
		left, right, top, bottom := GlimpseWide, 0, GlimpseHigh, 0
		queue, moved[start] = append(queue[:0], start), false
		for k := 0; k < len(queue); k++ {
			x, y := queue[k]%GlimpseWide, queue[k]/GlimpseWide
			left, right, top, bottom = min(left, x), max(right, x), min(top, y), max(bottom, y)
			for dy := -1; dy <= 1; dy++ {
				for dx := -1; dx <= 1; dx++ {
					u, v := x+dx, y+dy
					if u >= 0 && u < GlimpseWide && v >= 0 && v < GlimpseHigh && moved[v*GlimpseWide+u] {
						moved[v*GlimpseWide+u] = false
						queue = append(queue, v*GlimpseWide+u)
					}
				}
			}
		}
		if len(queue) > size {
			size = len(queue)
			middle = Point{X: float64(left+right+1)/GlimpseWide - 1, Y: 1 - float64(top+bottom+1)/GlimpseHigh}
		}
	}
	return middle, size
}

package rule

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
)

// ofObjects are the kinds that are about what analytics tell: all but motion in cells.
var ofObjects = slices.DeleteFunc(slices.Clone(Kinds), func(k Kind) bool { return k == Moves })

// What rules mean, written once more from the definitions and not from the code, without a thought of speed: every point
// looks back over all that came before it. Areas are upright rectangles and lines upright, so that geometry is arithmetic.
type naive struct {
	r            Rule
	area, out    *scene.Box // nil: none
	x, low, high float64    // of the line, from low to high
	since        time.Duration
}

func shared(a, b scene.Box) float64 {
	return max(0, min(a.Right, b.Right)-max(a.Left, b.Left)) * max(0, min(a.Top, b.Top)-max(a.Bottom, b.Bottom))
}

func (n naive) in(p scene.TrackPoint) bool {
	share := n.r.Share
	if share == 0 {
		share = 0.5
	}
	size := p.Box.Area()
	return size > 0 && shared(p.Box, *n.area) >= share*size && (n.out == nil || shared(p.Box, *n.out) < share*size)
}

func sign(v float64) int { return cmp.Compare(v, 0) }

// crosses says whether the step meets the line where nothing is left out, in the direction that is asked.
func (n naive) crosses(p, q scene.Point) bool {
	from, to := -sign(p.X-n.x), -sign(q.X-n.x) // left of a line that goes up is +1
	if from == to {
		return false
	}
	y := p.Y + (n.x-p.X)/(q.X-p.X)*(q.Y-p.Y)
	if y < n.low || y > n.high {
		return false
	}
	if o := n.out; o != nil && n.x >= o.Left && n.x <= o.Right && y >= o.Bottom && y <= o.Top {
		return false
	}
	return n.r.Direction != LeftToRight && n.r.Direction != RightToLeft || n.r.Direction == LeftToRight && from > to || n.r.Direction == RightToLeft && from < to
}

func (n naive) far(p scene.Point) bool {
	dy := max(n.low-p.Y, p.Y-n.high, 0)
	return math.Hypot(p.X-n.x, dy) > 0.02
}

// about says whether the rule is about a track by what was told of it.
func (n naive) about(tr scene.Track) bool {
	if len(n.r.Classes) > 0 && tr.Class != n.r.Classes[0] && (len(n.r.Classes) == 1 || tr.Class != n.r.Classes[1]) {
		return false
	}
	coloured := len(n.r.Colours) == 0
	for _, c := range n.r.Colours {
		coloured = coloured || c == tr.Traits.Colour
	}
	for _, c := range scene.Carrieds {
		if slices.Contains(n.r.Has, c) && !slices.Contains(tr.Traits.Has, c) || slices.Contains(n.r.Lacks, c) && !slices.Contains(tr.Traits.Lacks, c) {
			return false
		}
	}
	return coloured
}

// tall says whether what a box is about is as tall as is asked for.
func (n naive) tall(b scene.Box) bool {
	if n.r.Shortest == 0 && n.r.Tallest == 0 {
		return true
	}
	metre := n.r.Upright.Middle + n.r.Upright.Rise*b.Bottom
	return metre > 0 && b.Top-b.Bottom >= n.r.Shortest*metre && (n.r.Tallest == 0 || b.Top-b.Bottom <= n.r.Tallest*metre)
}

// pieces are the points of a track that count, parted where it wasn't seen for too long.
func (n naive) pieces(tr scene.Track) (out [][]scene.TrackPoint) {
	if !n.about(tr) {
		return nil
	}
	var piece []scene.TrackPoint
	for _, p := range tr.Points {
		high := (p.Box.Top - p.Box.Bottom) / 2
		if p.Score < n.r.MinScore || high < n.r.Lowest || n.r.Highest > 0 && high > n.r.Highest {
			continue
		}
		if !n.tall(p.Box) {
			continue
		}
		if len(piece) > 0 {
			last := piece[len(piece)-1].At
			if p.At < last {
				continue
			}
			if p.At-last > 5*time.Second {
				out, piece = append(out, piece), nil
			}
		}
		piece = append(piece, p)
	}
	if len(piece) > 0 {
		out = append(out, piece)
	}
	return out
}

// stay says whether a stay reaches its time at i, of moments of which some count.
func stay(at []time.Duration, counts []bool, i int, long, pause time.Duration) bool {
	begin := func(i int) time.Duration {
		for j := i - 1; j >= 0; j-- {
			if counts[j] {
				if at[i]-at[j] > pause {
					break
				}
				i = j
			}
		}
		return at[i]
	}
	if !counts[i] || at[i]-begin(i) < long {
		return false
	}
	for j := range i {
		if counts[j] && begin(j) == begin(i) && at[j]-begin(j) >= long && (at[j] < at[i] || at[j] == at[i]) {
			return false
		}
	}
	return true
}

// fires says at which points of a piece the rule fires, and whether at its end.
func (n naive) fires(pts []scene.TrackPoint) (at []bool, end bool) {
	at = make([]bool, len(pts))
	in, anchors, times := make([]bool, len(pts)), make([]scene.Point, len(pts)), make([]time.Duration, len(pts))
	for i, p := range pts {
		in[i], anchors[i], times[i] = n.area != nil && n.in(p), scene.Point{X: (p.Box.Left + p.Box.Right) / 2, Y: p.Box.Bottom}, p.At
	}
	var still func(i int) int // where it came to where it is at i
	still = func(i int) int {
		if i == 0 || !in[i-1] {
			return i
		}
		if s := still(i - 1); math.Hypot(anchors[i].X-anchors[s].X, anchors[i].Y-anchors[s].Y) <= 0.02 {
			return s
		}
		return i
	}
	settled := func(i int) bool { // before i it was still for long enough, and not out since
		for k := i - 1; k >= 0 && in[k]; k-- {
			if times[k]-times[still(k)] >= n.r.For {
				return true
			}
		}
		return false
	}
	fast := func(i int) bool {
		for j := range i {
			if dt := times[i] - times[j]; dt <= time.Second {
				gone := math.Hypot((anchors[i].X-anchors[j].X)/2, (anchors[i].Y-anchors[j].Y)/2)
				return dt >= time.Second/2 && gone/dt.Seconds() > n.r.Speed
			}
		}
		return false
	}
	pause := n.r.Break
	if pause == 0 {
		pause = time.Second
	}
	for i := range pts {
		armed := true // since it fired last, something of it was otherwise
		for j := i - 1; j >= 0; j-- {
			if at[j] {
				armed = false
				for k := j; k < i; k++ {
					armed = armed || n.r.Kind == Crosses && n.far(anchors[k]) || n.r.Kind == Faster && k > j && !fast(k)
				}
				break
			}
		}
		switch n.r.Kind {
		case Crosses:
			at[i] = i > 0 && armed && n.crosses(anchors[i-1], anchors[i])
		case Inside:
			at[i] = in[i] != (i > 0 && in[i-1])
		case ComesInto:
			at[i] = i > 0 && in[i] && !in[i-1]
		case GoesOut:
			at[i] = i > 0 && !in[i] && in[i-1]
		case FirstSeen:
			at[i] = i == 0 && in[i]
		case Stays:
			at[i] = stay(times, in, i, n.r.For, pause)
		case Left:
			at[i] = in[i] && times[0] > n.since && times[i]-times[still(i)] >= n.r.For
			for k := still(i); k < i; k++ {
				at[i] = at[i] && !at[k]
			}
		case Taken:
			at[i] = !in[i] && settled(i)
		case Faster:
			at[i] = in[i] && armed && fast(i)
		}
	}
	last := len(pts) - 1
	return at, (n.r.Kind == Inside || n.r.Kind == LastSeen) && in[last] || n.r.Kind == Taken && settled(len(pts))
}

func (n naive) hits(tracks []scene.Track) (out []Hit) {
	if n.r.Kind == Crowd {
		return n.crowd(tracks)
	}
	for _, tr := range tracks {
		for _, pts := range n.pieces(tr) {
			at, end := n.fires(pts)
			for i, p := range pts {
				if at[i] {
					out = append(out, Hit{Object: tr.ID, At: p.At, On: n.r.Kind != Inside || n.in(p)})
				}
			}
			if end {
				out = append(out, Hit{Object: tr.ID, At: pts[len(pts)-1].At, On: n.r.Kind != Inside})
			}
		}
	}
	return out
}

func (n naive) crowd(tracks []scene.Track) (out []Hit) {
	type moment struct {
		scene.TrackPoint
		id string
	}
	var all []moment
	for _, tr := range tracks {
		for _, p := range tr.Points {
			if n.about(tr) {
				if p.Score >= n.r.MinScore && n.tall(p.Box) {
					all = append(all, moment{p, tr.ID})
				}
			}
		}
	}
	slices.SortStableFunc(all, func(a, b moment) int { return cmp.Compare(a.At, b.At) })
	at, enough := make([]time.Duration, len(all)), make([]bool, len(all))
	for i, m := range all {
		latest := map[string]moment{}
		for _, x := range all[:i+1] {
			latest[x.id] = x
		}
		count := 0
		for _, x := range latest {
			if m.At-x.At <= time.Second && n.in(x.TrackPoint) {
				count++
			}
		}
		at[i], enough[i] = m.At, count >= max(n.r.Count, 1)
	}
	for i, m := range all {
		if stay(at, enough, i, n.r.For, time.Second) {
			out = append(out, Hit{Object: m.id, At: m.At, On: true})
		}
	}
	return out
}

// Thousands of tracks with edges, reversals, gaps, ids that come again, boxes cut by the frame, equal times and time that
// goes back, on a raster so coarse that things lie exactly on lines and edges: the rules and the definitions agree.
func TestRulesAreAsTheyAreDefined(t *testing.T) {
	r := rand.New(rand.NewPCG(24, 7))
	raster := func() float64 { return float64(r.IntN(17)-8) / 8 }
	rect := func() scene.Box {
		x0, y0 := float64(r.IntN(10)-8)/8, float64(r.IntN(10)-8)/8
		return scene.Box{Left: x0, Bottom: y0, Right: x0 + float64(1+r.IntN(8))/8, Top: y0 + float64(1+r.IntN(8))/8}
	}
	corners := func(b scene.Box) scene.Polygon {
		return scene.Polygon{{X: b.Left, Y: b.Bottom}, {X: b.Right, Y: b.Bottom}, {X: b.Right, Y: b.Top}, {X: b.Left, Y: b.Top}}
	}
	fired := map[Kind]int{}
	for round := range 6000 {
		var tracks []scene.Track
		for id := range 1 + r.IntN(4) {
			tr := scene.Track{ID: string(rune('a' + id)), Class: []string{"Human", "Vehicle"}[r.IntN(2)]}
			tr.Traits.Colour = []scene.Colour{"", scene.Red, scene.Blue}[r.IntN(3)]
			for _, c := range scene.Carrieds {
				switch r.IntN(3) {
				case 0:
					tr.Traits.Has = append(tr.Traits.Has, c)
				case 1:
					tr.Traits.Lacks = append(tr.Traits.Lacks, c)
				}
			}
			at := time.Duration(r.IntN(3)) * time.Second
			x, y := raster(), raster()
			for range 1 + r.IntN(24) {
				switch r.IntN(10) {
				case 0:
					at += time.Duration(r.IntN(9)) * time.Second // a gap, or an id that comes again
				case 1:
					at -= 300 * time.Millisecond
				case 2: // the same moment
				default:
					at += time.Duration(1+r.IntN(4)) * 125 * time.Millisecond
				}
				if r.IntN(3) > 0 {
					x, y = x+float64(r.IntN(3)-1)/8, y+float64(r.IntN(3)-1)/8
				}
				x, y = max(-1, min(1, x)), max(-1, min(1, y))
				tr.Points = append(tr.Points, scene.TrackPoint{At: max(0, at), Score: float64(r.IntN(5)) / 4,
					Box: scene.Box{Left: max(-1, x-0.125), Right: min(1, x+0.125), Bottom: y, Top: min(1, y+0.25)}})
			}
			tracks = append(tracks, tr)
		}
		area, out := rect(), rect()
		rule := Rule{Kind: ofObjects[round%len(ofObjects)], Area: corners(area), Direction: []Direction{"", Either, LeftToRight, RightToLeft}[r.IntN(4)],
			For: time.Duration(r.IntN(5)) * 250 * time.Millisecond, Count: 1 + r.IntN(3), Speed: float64(1+r.IntN(4)) / 16,
			MinScore: float64(r.IntN(2)) / 4, Share: []float64{0, 0.25, 1}[r.IntN(3)]}
		n := naive{r: rule, area: &area, x: raster(), since: first(tracks)}
		n.low = raster()
		n.high = n.low + float64(1+r.IntN(8))/8
		if r.IntN(3) == 0 {
			rule.Classes = []string{"Human"}
		}
		if r.IntN(4) == 0 { // a metre is as high everywhere, or has a horizon
			rule.Upright = scene.Upright{Middle: 0.125, Rise: []float64{0, -0.25}[r.IntN(2)]}
			rule.Shortest, rule.Tallest = float64(r.IntN(3)), float64(r.IntN(2)*3)
			n.r = rule
		}
		if r.IntN(4) == 0 {
			rule.Colours = []scene.Colour{scene.Red, scene.Green}[:1+r.IntN(2)]
		}
		if r.IntN(4) == 0 {
			rule.Has = scene.Carrieds[:1+r.IntN(2)]
		} else if r.IntN(4) == 0 {
			rule.Lacks = scene.Carrieds[1 : 2+r.IntN(2)]
		}
		if r.IntN(3) == 0 {
			n.out, rule.Without = &out, []scene.Polygon{corners(out)}
		}
		rule.Line = scene.Line{{X: n.x, Y: n.low}, {X: n.x, Y: n.high}}
		n.r = rule
		want := n.hits(tracks)
		slices.SortStableFunc(want, func(a, b Hit) int { return cmp.Compare(a.At, b.At) })
		got := Rehearse(rule, tracks, Span{})
		if !slices.Equal(got, want) {
			t.Fatalf("round %d: %+v over\n%+v\n%v,\nby definition\n%v", round, rule, tracks, got, want)
		}
		fired[rule.Kind] += len(want)
	}
	for _, k := range ofObjects {
		if fired[k] < 20 {
			t.Errorf("%s fired %d times only", k, fired[k])
		}
	}
}

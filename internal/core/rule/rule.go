// Package rule says what an analytics rule means, exactly, and runs it over tracks: the same meaning for the rehearsal of
// a drawing and for checking what a camera reports. A rule is a sentence over a drawing: when [class, size] [crosses,
// comes into, …] [drawing] [for t], score at least s, during [hours]. Which of the rule types of the ONVIF Analytics
// Service Specification, Annex A, says the same is in config.go.
package rule

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/scene"
)

// Direction of a crossing, seen along the line from its first to its last point.
type Direction string

const (
	Either      Direction = "Any"
	LeftToRight Direction = "Right"
	RightToLeft Direction = "Left"
)

// Kind is what the rule watches for.
type Kind string

// What a rule can watch for. The anchor of a box is the middle of its bottom edge; an object is in an area while at least
// Share of its box is, and in none that is left out.
const (
	Crosses   Kind = "Crosses"   // the anchor's path meets the line; again only after it was further from it than Margin
	Inside    Kind = "Inside"    // it is in, from the first point in to the first one out: on and off
	ComesInto Kind = "ComesInto" // in turns true within a track
	GoesOut   Kind = "GoesOut"   // in turns false within a track
	FirstSeen Kind = "FirstSeen" // the track's first point is in
	LastSeen  Kind = "LastSeen"  // the track's last point is in
	Stays     Kind = "Stays"     // it is in for For, without a break longer than Break
	Left      Kind = "Left"      // it is in and still for For, and was not there when looking began
	Taken     Kind = "Taken"     // it was in and still for For, and then is out, or not seen any more
	Crowd     Kind = "Crowd"     // at least Count are in at once for For, without a break longer than Break
	Faster    Kind = "Faster"    // it is in and goes faster than Speed; again only after it was slower
)

// Kinds in the order in which they are offered.
var Kinds = []Kind{Crosses, ComesInto, GoesOut, Inside, FirstSeen, LastSeen, Stays, Left, Taken, Crowd, Faster, Moves}

// What stands where a rule doesn't say.
const (
	margin     = 0.02            // frame units: how far an anchor leaves a line before it can fire on it again
	Share      = 0.5             // the part of a box that must lie in an area
	shortBreak = time.Second     // that a stay outlasts
	Stillness  = 0.02            // frame units: how far the anchor of what is still moves at the most
	Anew       = 5 * time.Second // an id that wasn't seen for longer is another object's
	tallest    = 20              // metres
	pace       = time.Second     // over which speed is taken, of which at least pace/2 must be seen
)

// Rule is one drawn rule. Line is used by Crosses, Cells by Moves, Area by all others.
type Rule struct {
	Name      string
	Kind      Kind
	Line      scene.Line
	Area      scene.Polygon
	Direction Direction // of Crosses; zero value means Either
	Classes   []string  // empty: every class
	MinScore  float64   // 0…1

	Without []scene.Polygon `json:",omitempty"` // areas left out: what is in one is in no area, and crosses nothing there
	For     time.Duration   `json:",omitempty"` // of Stays, Left, Taken, Crowd
	Break   time.Duration   `json:",omitempty"` // that Stays and Crowd outlast; 0: 1 s
	Count   int             `json:",omitempty"` // of Crowd; 0: 2. Cells of Moves; 0: 1
	Speed   float64         `json:",omitempty"` // of Faster, in pictures a second: of their width across, their height upwards
	Share   float64         `json:",omitempty"` // 0…1; 0: half
	Margin  float64         `json:",omitempty"` // in frame units; 0: 0.02
	Lowest  float64         `json:",omitempty"` // height that a box has at least, as a share of the picture's
	Highest float64         `json:",omitempty"` // and at most; 0: any
	// Shortest and Tallest are how tall what the box is about is at least and at most, in metres; 0: any. Where that isn't
	// known at a spot, the rule doesn't look there.
	Shortest float64       `json:",omitempty"`
	Tallest  float64       `json:",omitempty"`
	Upright  scene.Upright `json:"-"` // of the picture that it is drawn on
	Hours    Hours         `json:",omitzero"`
	Traits
	Cells scene.Cells `json:",omitzero"`  // of Moves
	By    Habit       `json:",omitempty"` // of the engine that runs it; a person draws for ByFoot
}

// Hours of the day in which a rule holds, in minutes from midnight where the site is: From in, To out. The zero Hours
// are all; From after To goes over midnight.
type Hours struct{ From, To int }

// Hold says whether a moment of the day lies in them.
func (h Hours) Hold(minute int) bool {
	switch {
	case h.From == h.To:
		return true
	case h.From < h.To:
		return minute >= h.From && minute < h.To
	}
	return minute >= h.From || minute < h.To
}

// Text of hours: "21:00 – 05:30"; of all it is empty.
func (h Hours) Text() string {
	if h.From == h.To {
		return ""
	}
	return fmt.Sprintf("%02d:%02d – %02d:%02d", h.From/60, h.From%60, h.To/60, h.To%60)
}

// Hit is one firing. For Inside, On tells coming in from going out; any other is always On.
type Hit struct {
	Rule   string
	Object string // of Crowd: who made it enough
	At     time.Duration
	On     bool
}

// ErrRule is returned for a rule that can't fire as it is given, with what is wrong with it.
var ErrRule = errors.New("a rule that can't fire")

// Lasts says whether a kind takes a time.
func (k Kind) Lasts() bool { return k == Stays || k == Left || k == Taken || k == Crowd || k == Moves }

// Check returns scene.ErrShape when the rule's drawing can't fire, and ErrRule when what else it says can't be.
func (r Rule) Check() error {
	bad := func(says string) error { return fmt.Errorf("%w: %s", ErrRule, says) }
	part := func(v float64) bool { return v >= 0 && v <= 1 }
	switch {
	case !slices.Contains(Kinds, r.Kind):
		return bad("it says nothing that is watched for")
	case !part(r.MinScore) || !part(r.Share) || !part(r.Lowest) || !part(r.Highest):
		return bad("score, share and heights are from 0 to 1")
	case r.Highest > 0 && r.Highest < r.Lowest:
		return bad("the greatest height is less than the least")
	case !(r.Shortest >= 0 && r.Shortest <= tallest && r.Tallest >= 0 && r.Tallest <= tallest):
		return bad("heights are 20 m at the most")
	case r.Tallest > 0 && r.Tallest < r.Shortest:
		return bad("the greatest height is less than the least")
	case r.Kind.Lasts() && (r.For <= 0 || r.For > 24*time.Hour) && r.Kind != Crowd && r.Kind != Moves:
		return bad("say for how long: more than nothing, and a day at the most")
	case r.For < 0 || r.For > 24*time.Hour || r.Break < 0 || r.Break > time.Hour:
		return bad("times are a day at the most, breaks an hour")
	case r.Count < 0 || r.Count > 1000:
		return bad("how many at once is 1 to 1,000")
	case r.Kind == Faster && !(r.Speed > 0 && r.Speed <= 20):
		return bad("say how fast: more than nothing, and 20 pictures a second at the most")
	case r.Traits.Wrong() != "":
		return bad(r.Traits.Wrong())
	case r.Margin < 0 || r.Margin > 1:
		return bad("the margin is from 0 to 1")
	case r.Hours.From < 0 || r.Hours.From >= 1440 || r.Hours.To < 0 || r.Hours.To >= 1440:
		return bad("hours are from 00:00 to 23:59")
	}
	for _, w := range r.Without {
		if err := w.Check(); err != nil {
			return err
		}
	}
	switch r.Kind {
	case Moves:
		if wrong := r.checkCells(); wrong != "" {
			return bad(wrong)
		}
		return nil
	case Crosses:
		return r.Line.Check()
	}
	return r.Area.Check()
}

func (r *Rule) share() float64 {
	if r.Share > 0 {
		return r.Share
	}
	return Share
}

func (r *Rule) margin() float64 {
	if r.Margin > 0 {
		return r.Margin
	}
	return margin
}

func (r *Rule) pause() time.Duration {
	if r.Break > 0 {
		return r.Break
	}
	return shortBreak
}

func (r *Rule) count() int {
	switch {
	case r.Count > 0:
		return r.Count
	case r.Kind == Moves:
		return 1
	}
	return 2
}

// place is what of a box crosses.
func (r *Rule) place(b scene.Box) scene.Point {
	if r.By == ByMiddle {
		return scene.Point{X: (b.Left + b.Right) / 2, Y: (b.Bottom + b.Top) / 2}
	}
	return b.Anchor()
}

// in says whether a box is in the rule's area, as its engine takes that.
func (r *Rule) in(b scene.Box) bool {
	if r.By != ByMiddle {
		return In(b, r.Area, r.Without, r.share())
	}
	middle := r.place(b)
	return r.Area.Contains(middle) && !slices.ContainsFunc(r.Without, func(w scene.Polygon) bool { return w.Contains(middle) })
}

// In says whether a box is in an area by a share of it, and in none of those that are left out.
func In(b scene.Box, area scene.Polygon, without []scene.Polygon, share float64) bool {
	size := b.Area()
	if size <= 0 || area.Overlap(b)/size < share {
		return false
	}
	for _, w := range without {
		if w.Overlap(b)/size >= share {
			return false
		}
	}
	return true
}

// about says whether the rule is about an object, whatever it does.
func (r *Rule) about(class string, traits scene.Traits) bool {
	return (len(r.Classes) == 0 || slices.Contains(r.Classes, class)) && (!r.Traits.Any() || r.Traits.Of(traits))
}

// Metres says whether the rule asks how tall something is: what isn't known of its picture then keeps it from firing.
func (r *Rule) Metres() bool { return r.Shortest > 0 || r.Tallest > 0 }

// looks says whether the rule looks at an object as it is at that moment.
func (r *Rule) looks(p *scene.TrackPoint) bool {
	high := (p.Box.Top - p.Box.Bottom) / 2
	if p.Score < r.MinScore || high < r.Lowest || r.Highest > 0 && high > r.Highest {
		return false
	}
	if !r.Metres() {
		return true
	}
	tall, ok := r.Upright.Tall(p.Box)
	return ok && tall >= r.Shortest && !(r.Tallest > 0 && tall > r.Tallest)
}

// track is what a rule remembers of one object.
type track struct {
	last  scene.Point
	at    time.Duration // of the last point that the rule looked at
	first time.Duration
	seen  bool
	armed bool // Crosses and Faster can fire
	in    bool // at the last point

	entered time.Duration // since when it has been in, with short breaks; of Left and Taken: in and still
	lastIn  time.Duration
	stays   bool // that goes on
	fired   bool // in it
	settled bool // of Taken: it was still for long enough, and has not been out since
	spot    scene.Point
	way     []step // of Faster: where it was lately
}

type step struct {
	at time.Duration
	p  scene.Point
}

// step takes a track's next point, and says whether the rule fires on it; of Inside, whether in turns. since is when
// looking began.
func (r *Rule) step(tr *track, p *scene.TrackPoint, since time.Duration) bool {
	here := r.place(p.Box)
	from, was, first := tr.last, tr.in, !tr.seen
	if first {
		tr.first, tr.armed = p.At, true
	}
	tr.last, tr.at, tr.seen = here, p.At, true
	if r.Kind == Crosses {
		return !first && r.crosses(tr, from, here)
	}
	tr.in = r.in(p.Box)
	switch r.Kind {
	case Inside:
		return tr.in != was
	case ComesInto:
		return !first && tr.in && !was
	case GoesOut:
		return !tr.in && was
	case FirstSeen:
		return first && tr.in
	case Stays:
		return r.stays(tr, p.At)
	case Left, Taken:
		return r.still(tr, p.At, here, since)
	case Faster:
		return r.faster(tr, p.At, here)
	}
	return false // LastSeen fires at a track's end, Crowd over all of them, Moves by the picture alone
}

// end says whether the rule fires because a track ends at the last point that was given.
func (r *Rule) end(tr *track) bool {
	switch r.Kind {
	case Inside, LastSeen:
		return tr.in
	case Taken:
		return tr.settled
	}
	return false
}

// crosses fires when the anchor's path meets the line outside of what is left out; not again before the anchor has been
// further than the margin from it.
func (r *Rule) crosses(tr *track, from, here scene.Point) bool {
	fired := false
	for i := 1; i < len(r.Line) && tr.armed && !fired; i++ {
		a, b := r.Line[i-1], r.Line[i]
		if !scene.Meets(a, b, from, here) || !r.wants(scene.Side(a, b, from), scene.Side(a, b, here)) {
			continue
		}
		at := scene.Meeting(a, b, from, here)
		fired = !slices.ContainsFunc(r.Without, func(w scene.Polygon) bool { return w.Contains(at) })
	}
	if fired || !tr.armed {
		tr.armed = r.Line.Distance(here) > r.margin()
	}
	return fired
}

func (r *Rule) wants(from, to int) bool {
	switch r.Direction {
	case LeftToRight:
		return from > to
	case RightToLeft:
		return from < to
	}
	return true
}

// stays fires once a stay has lasted long enough.
func (r *Rule) stays(tr *track, at time.Duration) bool {
	if tr.stays && at-tr.lastIn > r.pause() {
		tr.stays = false
	}
	if !tr.in {
		return false
	}
	if !tr.stays {
		tr.stays, tr.entered, tr.fired = true, at, false
	}
	tr.lastIn = at
	if tr.fired || at-tr.entered < r.For {
		return false
	}
	tr.fired = true
	return true
}

// still follows an object that is in and doesn't move: Left fires once it has been so for long enough, Taken once it is
// out after it was.
func (r *Rule) still(tr *track, at time.Duration, here scene.Point, since time.Duration) bool {
	if !tr.in {
		taken := tr.settled
		tr.stays, tr.settled = false, false
		return r.Kind == Taken && taken
	}
	if !tr.stays || math.Hypot(here.X-tr.spot.X, here.Y-tr.spot.Y) > Stillness {
		tr.stays, tr.entered, tr.spot, tr.fired = true, at, here, false
	}
	if at-tr.entered < r.For {
		return false
	}
	tr.settled = true
	if r.Kind == Taken || tr.fired || tr.first <= since {
		return false
	}
	tr.fired = true
	return true
}

// faster fires when what is in the area goes faster than asked, over the last second of which half must be seen.
func (r *Rule) faster(tr *track, at time.Duration, here scene.Point) bool {
	for len(tr.way) > 0 && at-tr.way[0].at > pace {
		tr.way = tr.way[1:]
	}
	fast := false
	if len(tr.way) > 0 && at-tr.way[0].at >= pace/2 {
		gone := math.Hypot((here.X-tr.way[0].p.X)/2, (here.Y-tr.way[0].p.Y)/2)
		fast = gone/(at-tr.way[0].at).Seconds() > r.Speed
	}
	tr.way = append(tr.way, step{at, here})
	fires := fast && tr.in && tr.armed
	tr.armed = !fast || tr.armed && !fires
	return fires
}

// Ground is what some rules watch for, in words and exactly, in whatever order they are told.
func Ground(all []Rule) (words, exact string) {
	parts := make([]string, len(all))
	for i, r := range all {
		parts[i] = fmt.Sprintf("%+v", r)
	}
	slices.Sort(parts)
	names := make([]string, len(all))
	for i, r := range all {
		names[i] = r.Name
	}
	slices.Sort(names)
	if len(all) == 0 {
		return "none", "none"
	}
	return strings.Join(names, ", "), strings.Join(parts, "\n")
}

package rule

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/scene"
)

// Config is a rule as a camera has it (tt:Config): a type and parameters by name.
type Config struct {
	Name   string            `json:"name"`
	Type   string            `json:"type"`             // local name: "LineDetector"
	Maker  bool              `json:"maker,omitempty"`  // of another namespace than the standard's
	Space  string            `json:"space,omitempty"`  // that one
	Values map[string]string `json:"values,omitempty"` // of its SimpleItems
	Shapes map[string]Shape  `json:"shapes,omitempty"` // of its ElementItems that are lines or areas
	Others []string          `json:"others,omitempty"` // names of its further ElementItems
	Grid   scene.Grid        `json:"grid,omitzero"`    // of the camera's cells, which its values may be of
}

// Shape is a line or an area, in the frame of scene.
type Shape struct {
	Closed bool          `json:"closed,omitempty"` // an area
	Points []scene.Point `json:"points"`
}

// Type is a type of rule that a camera knows (GetSupportedRules and GetRuleOptions, ONVIF Analytics 5.2.3). What it
// doesn't tell is zero.
type Type struct {
	Name    string            `json:"name"`
	Maker   bool              `json:"maker,omitempty"`
	Space   string            `json:"space,omitempty"`   // of a maker's: its namespace
	Most    int               `json:"most,omitempty"`    // rules of it, at the most
	Values  map[string]string `json:"values,omitempty"`  // local names of types by parameter: "Direction", "duration", "StringList"
	Shapes  map[string]string `json:"shapes,omitempty"`  // "Polyline", "Polygon"
	Fewest  int               `json:"fewest,omitempty"`  // points of a shape
	Points  int               `json:"points,omitempty"`  // points of a shape, at the most
	Classes []string          `json:"classes,omitempty"` // that its class filter takes
}

// In is the rule with its shapes as a camera counts them that counts in another frame.
func (c Config) In(f scene.Frame) Config { return c.mapped(f.To) }

// From is a rule of such a camera with its shapes in the standard's frame.
func (c Config) From(f scene.Frame) Config { return c.mapped(f.From) }

// Turned is a rule of the picture as analytics have it that look at one which is turned so, FromTurned such a rule in the picture: the
// sides of a line change places where the picture is mirrored.
func (c Config) Turned(t scene.Turned) Config { return c.turned(t, t.To, t.CellsTo) }

// FromTurned: see Turned.
func (c Config) FromTurned(t scene.Turned) Config { return c.turned(t, t.From, t.CellsFrom) }

func (c Config) turned(t scene.Turned, to func(scene.Point) scene.Point, cells func(scene.Cells) scene.Cells) Config {
	if t == 0 {
		return c
	}
	c = c.mapped(to)
	c.Values = maps.Clone(c.Values)
	if packed, there := c.Values[activeCells]; there && c.Grid.Valid() {
		if of, err := scene.UnpackCells(c.Grid, packed); err == nil {
			of = cells(of)
			c.Values[activeCells], c.Grid = of.Pack(), of.Grid
		}
	}
	if !t.Mirrored() {
		return c
	}
	for name, value := range c.Values {
		if role(name) != direction {
			continue
		}
		switch Direction(value) {
		case LeftToRight:
			c.Values[name] = string(RightToLeft)
		case RightToLeft:
			c.Values[name] = string(LeftToRight)
		}
	}
	return c
}

func (c Config) mapped(to func(scene.Point) scene.Point) Config {
	shapes := make(map[string]Shape, len(c.Shapes))
	for name, s := range c.Shapes {
		out := Shape{Closed: s.Closed, Points: make([]scene.Point, len(s.Points))}
		for i, p := range s.Points {
			out.Points[i] = to(p)
		}
		shapes[name] = out
	}
	c.Shapes = shapes
	return c
}

// FrameOf is the frame in which rules of a camera count, by those of the standard's types: a maker's own may count as they
// like. ok is false where nothing tells, or where it is none that is known.
func FrameOf(all []Config, wide, high int) (f scene.Frame, ok bool) {
	var points []scene.Point
	for _, c := range all {
		for _, s := range c.Shapes {
			if !c.Maker {
				points = append(points, s.Points...)
			}
		}
	}
	if len(points) == 0 {
		return f, false
	}
	return scene.FrameOf(points, wide, high)
}

// Supported is what a view's rule engine knows.
type Supported struct {
	Types []Type     `json:"types,omitempty"`
	Most  int        `json:"most,omitempty"` // rules, at the most
	Grid  scene.Grid `json:"grid,omitzero"`  // of its cells for motion
}

// Types of rules that the standard names (ONVIF Analytics, Annex A), by what they watch for.
const (
	lineDetector      = "LineDetector"      // A.2.1: Crossed
	fieldDetector     = "FieldDetector"     // A.2.2: ObjectsInside, true and false
	loiteringDetector = "LoiteringDetector" // A.2.3: ObjectIsLoitering
)

var typeOf = map[Kind]string{Crosses: lineDetector, Inside: fieldDetector, Stays: loiteringDetector, Moves: cellMotionDetector}

// Says is the rule of a camera as a sentence; ok is false where there is none for it, or where one of its values isn't
// what it should be.
func (c Config) Says() (r Rule, ok bool) {
	r.Name = c.Name
	r.Kind, _ = Type{Name: c.Type, Maker: c.Maker, Space: c.Space, Shapes: c.drawnAs()}.kind()
	if r.Kind == Moves {
		return c.saysCells()
	}
	shape, one := c.shape()
	if r.Kind == "" || !one || len(c.Others) > 0 || shape.Closed != (r.Kind != Crosses) {
		return r, false
	}
	if shape.Closed {
		r.Area = shape.Points
	} else {
		r.Line, r.Direction = shape.Points, Either
	}
	for name, value := range c.Values {
		if !r.take(name, value) {
			return r, false
		}
	}
	if r.Kind == Stays && r.For == 0 {
		return r, false
	}
	return r, r.Check() == nil
}

// drawnAs are the elements of its shapes.
func (c Config) drawnAs() map[string]string {
	out := map[string]string{}
	for name, s := range c.Shapes {
		if out[name] = "Polyline"; s.Closed {
			out[name] = "Polygon"
		}
	}
	return out
}

// shape is its only shape.
func (c Config) shape() (out Shape, ok bool) {
	for _, s := range c.Shapes {
		out = s
	}
	return out, len(c.Shapes) == 1
}

// take takes a parameter's value; ok is false where there are no words for it.
func (r *Rule) take(name, value string) bool {
	switch role(name) {
	case direction:
		r.Direction = Direction(value)
		return r.Direction == Either || r.Direction == LeftToRight || r.Direction == RightToLeft
	case lasting:
		d, ok := parseLasting(value)
		r.For = d
		return ok
	case classes:
		r.Classes = strings.Fields(value)
		return true
	case score:
		v, err := strconv.ParseFloat(value, 64)
		r.MinScore = v
		return err == nil && v >= 0 && v <= 1
	case many:
		n, err := strconv.Atoi(value)
		r.Count = n
		return err == nil && n > 0 && r.Kind == Crowd
	case speed:
		v, ok := speedOf(name, value)
		r.Speed = v
		return ok && r.Kind == Faster
	}
	return false
}

// roles of parameters, by whatever a maker calls them.
type paramRole int

const (
	noRole paramRole = iota
	direction
	lasting
	classes
	score
	many
	speed
)

func role(name string) paramRole {
	switch strings.ToLower(name) {
	case "direction":
		return direction
	case "timethreshold", "threshold", "duration", "time":
		return lasting
	case "classfilter", "objectfilter", "classes":
		return classes
	case "confidencelevel", "minconfidence", "confidence", "score":
		return score
	case "minobjects", "objectcount", "minimumcount":
		return many
	case "speedpercent", "minspeedpercent":
		return speed
	}
	return noRole
}

// parseLasting reads a time as cameras write it: whole or broken seconds, or xs:duration without days ("PT1M30S").
func parseLasting(text string) (time.Duration, bool) {
	if v, err := strconv.ParseFloat(text, 64); err == nil && v >= 0 && v <= 86400 {
		return time.Duration(v * float64(time.Second)), true
	}
	rest, ok := strings.CutPrefix(text, "PT")
	d, err := time.ParseDuration(strings.ToLower(rest))
	return d, ok && err == nil && d >= 0 && d <= 24*time.Hour
}

// Cant is one thing that a camera can't do of a rule.
type Cant struct {
	Part string // of the sentence: "kind", "classes", "score", "height", "hours", "without", "for", "points", "name", "room"
	Why  string
}

// Write is the rule in the camera's own parameters, and what it can't do of it: then it isn't to be written so.
func (s Supported) Write(r Rule) (c Config, cant []Cant) {
	no := func(part, format string, args ...any) { cant = append(cant, Cant{part, fmt.Sprintf(format, args...)}) }
	c.Name = r.Name
	if len(r.Name) == 0 || len(r.Name) > 64 {
		no("name", "a rule's name has 1 to 64 characters")
	}
	t, ok := s.typeFor(r.Kind)
	if !ok {
		no("kind", "%s", s.without(r.Kind))
		return c, cant
	}
	c.Maker, c.Space = t.Maker, t.Space
	c.Type, c.Values, c.Shapes = t.Name, map[string]string{}, map[string]Shape{}
	if r.Kind == Moves {
		c = s.writeCells(r, t, c, no)
		r.Traits = Traits{} // told already
		return c, append(cant, r.unwritable()...)
	}
	shape, want := Shape{Closed: true, Points: r.Area}, r.Kind.drawnAs()
	if r.Kind == Crosses {
		shape = Shape{Points: r.Line}
	}
	for param, of := range t.Shapes {
		if of == want {
			c.Shapes[param] = shape
		}
	}
	if len(c.Shapes) != 1 {
		no("kind", "its %s takes no %s that is known", t.Name, strings.ToLower(want))
	}
	if n := len(shape.Points); t.Points > 0 && n > t.Points || n < t.Fewest {
		no("points", "it takes %d to %d points", max(t.Fewest, 2), t.Points)
	}
	put := func(of paramRole, value string) bool {
		for param := range t.Values {
			if role(param) == of {
				c.Values[param] = value
				return true
			}
		}
		return false
	}
	if r.Kind == Crosses && !put(direction, string(cmp.Or(r.Direction, Either))) && r.Direction != "" && r.Direction != Either {
		no("direction", "it fires whichever way the line is crossed")
	}
	if lasts := r.Kind == Stays || r.Kind == Left || r.Kind == Taken || r.Kind == Crowd && r.For > 0; lasts && !put(lasting, t.lastingText(r.For)) {
		no("for", "it takes no time")
	}
	if r.Kind == Crowd && !put(many, strconv.Itoa(r.count())) {
		no("kind", "its own %s says of its own how many are enough", t.Name)
	}
	if r.Kind == Faster && !put(speed, strconv.FormatFloat(100*r.Speed, 'g', 6, 64)) {
		no("kind", "its own %s takes no speed in pictures a second", t.Name)
	}
	if len(r.Classes) > 0 && !put(classes, strings.Join(r.Classes, " ")) {
		no("classes", "it can't tell %s from other things: it would fire on anything", strings.ToLower(strings.Join(r.Classes, ", ")))
	}
	for _, class := range r.Classes {
		if len(t.Classes) > 0 && !slices.Contains(t.Classes, class) {
			no("classes", "it knows %s, and not %s", strings.Join(t.Classes, ", "), class)
		}
	}
	if r.MinScore > 0 && !put(score, strconv.FormatFloat(r.MinScore, 'g', 3, 64)) {
		no("score", "it takes no least score")
	}
	return c, append(cant, r.unwritable()...)
}

// unwritable is what no camera's rule takes of it.
func (r Rule) unwritable() (cant []Cant) {
	for _, x := range []struct {
		part string
		is   bool
		why  string
	}{{"colours", len(r.Colours) > 0, "it can't tell colours in a rule: it would fire on any"}, {"traits", len(r.Has)+len(r.Lacks) > 0, "it can't tell in a rule what someone carries or wears: it would fire on anyone"},
		{"height", r.Lowest > 0 || r.Highest > 0, "it knows no height"}, {"metres", r.Metres(), "it knows no metres: no type of rule takes them"}, {"hours", r.Hours != Hours{}, "it knows no hours: a route can have them"},
		{"without", len(r.Without) > 0, "it leaves no areas out: draw around them"}, {"share", r.Share > 0 && r.Share != Share, "how much of a box must be in is its own to say"},
		{"margin", r.Kind == Crosses && r.Margin > 0 && r.Margin != margin, "how far something leaves a line before it fires again is its own to say"}} {
		if x.is {
			cant = append(cant, Cant{x.part, x.why})
		}
	}
	return cant
}

// Lacks says why no rule of a kind can be had; empty: it can.
func (s Supported) Lacks(k Kind) string {
	if _, ok := s.typeFor(k); ok && (k != Moves || s.Grid.Valid()) {
		return ""
	}
	return s.without(k)
}

// lastingText writes a time as the type's parameter takes it.
func (t Type) lastingText(d time.Duration) string {
	seconds := strconv.FormatFloat(d.Seconds(), 'f', -1, 64)
	for param, of := range t.Values {
		if role(param) != lasting {
			continue
		}
		if of == "duration" {
			return "PT" + seconds + "S"
		}
		if of == "integer" || of == "int" {
			return strconv.Itoa(int(math.Round(d.Seconds())))
		}
	}
	return seconds
}

// without says why a kind can't be had.
func (s Supported) without(k Kind) string {
	if len(s.Types) == 0 {
		return "it tells of no rules that it knows"
	}
	if slices.ContainsFunc(s.Types, func(t Type) bool { return t.Name == fieldDetector && !t.Maker }) && (k == ComesInto || k == FirstSeen || k == GoesOut) {
		return "it tells of whatever is in, also of what appears there: say \"is in\""
	}
	for _, t := range s.Types {
		if _, why := t.kind(); why != "" && ownKind(t.Name) == k {
			return why
		}
	}
	if k == Moves && !s.Grid.Valid() {
		return "it tells of no cells by which it sees motion"
	}
	names := make([]string, len(s.Types))
	for i, t := range s.Types {
		names[i] = t.Name
	}
	return "it knows " + strings.Join(names, ", ") + " alone"
}

// near is how far points may lie from where they were written, in frame units: one part in a thousand of a side.
const near = 0.002

// Same says whether two rules of a camera watch for the same: it rounds coordinates, and writes values in its own way.
func (c Config) Same(d Config) bool {
	a, ok := c.Says()
	b, ok2 := d.Says()
	if !ok || !ok2 {
		return false
	}
	return Same(a, b)
}

// Same says whether two rules watch for the same, whatever they are called.
func Same(a, b Rule) bool {
	points := func(p, q []scene.Point) bool {
		return slices.EqualFunc(p, q, func(u, v scene.Point) bool { return math.Abs(u.X-v.X) <= near && math.Abs(u.Y-v.Y) <= near })
	}
	return a.Kind == b.Kind && points(a.Line, b.Line) && points(a.Area, b.Area) && cmp.Or(a.Direction, Either) == cmp.Or(b.Direction, Either) &&
		equal(a.Classes, b.Classes) && math.Abs(a.MinScore-b.MinScore) < 0.005 && (a.For-b.For).Abs() < 50*time.Millisecond &&
		a.pause() == b.pause() && a.count() == b.count() && a.Cells.Grid == b.Cells.Grid && slices.Equal(a.Cells.On, b.Cells.On) && a.Speed == b.Speed && a.share() == b.share() && a.margin() == b.margin() && a.Lowest == b.Lowest && a.Highest == b.Highest && a.Shortest == b.Shortest && a.Tallest == b.Tallest && a.Hours == b.Hours && a.Traits.same(b.Traits) &&
		slices.EqualFunc(a.Without, b.Without, func(p, q scene.Polygon) bool { return points(p, q) })
}

func (t Traits) same(o Traits) bool {
	return equal(t.Colours, o.Colours) && equal(t.Has, o.Has) && equal(t.Lacks, o.Lacks)
}

// equal says whether two lists hold the same, in whatever order.
func equal[T ~string](a, b []T) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

package shell

import (
	"fmt"
	"math"
	"strings"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
)

// Picture is a camera's still with what lies over it, as the template "picture" writes it.
type Picture struct {
	Src, Alt string
	Marks    Marks
}

// Marks are what lies over a picture, as the template "overlay" writes them: in parts of the picture, whatever its size and
// aspect, so that static/js/drawing.js finds and draws over them in the same measure.
type Marks struct {
	Says   string // what they tell together, read out; empty: it is said beside them
	Shapes []Shape
}

// Measures of Marks: a picture is so many units wide and high, whatever it is.
const (
	marksWidth  = 1600
	marksHeight = 900
)

// Shape is one mark.
type Shape struct {
	Kind   ShapeKind
	Class  string
	Points string     // of an area or a path: "0.0,0.0 1600.0,0.0"
	X, Y   [2]float64 // of a line or a band: its ends, or its corners
	Label  string     // empty: none is seen
}

// ShapeKind is how a mark is drawn.
type ShapeKind string

// Kinds of marks.
const (
	AsArea ShapeKind = "area" // closed
	AsPath ShapeKind = "path" // open
	AsLine ShapeKind = "line" // of two points, with a label
	AsBand ShapeKind = "band" // as wide as the picture, with a label
)

// AreaMark is an area, and PathMark a line of several points, in ONVIF's normalised frame: −1 to 1, y up.
func AreaMark(class string, all scene.Polygon) Shape {
	return Shape{Kind: AsArea, Class: class, Points: pointsOf(all)}
}

// PathMark is a line of several points, see AreaMark.
func PathMark(class string, all []scene.Point) Shape {
	return Shape{Kind: AsPath, Class: class, Points: pointsOf(all)}
}

func pointsOf(all []scene.Point) string {
	parts := make([]string, len(all))
	for i, p := range all {
		parts[i] = fmt.Sprintf("%.1f,%.1f", (p.X+1)/2*marksWidth, (1-p.Y)/2*marksHeight)
	}
	return strings.Join(parts, " ")
}

// RuleShapes are a rule of analytics on a picture: its line with where it is crossed to, or its area, and what is left out.
// The first carries a label's place.
func RuleShapes(class string, r rule.Rule) (out []Shape) {
	at := func(p scene.Point) (x, y float64) { return (p.X + 1) / 2 * marksWidth, (1 - p.Y) / 2 * marksHeight }
	place := func(s Shape, all []scene.Point) Shape {
		if len(all) > 0 {
			s.X[0], s.Y[0] = at(all[0])
		}
		return s
	}
	switch {
	case r.Kind == rule.Moves:
		for _, b := range r.Cells.Runs() {
			corners := []scene.Point{{X: b.Left, Y: b.Top}, {X: b.Right, Y: b.Top}, {X: b.Right, Y: b.Bottom}, {X: b.Left, Y: b.Bottom}}
			out = append(out, place(AreaMark(class+" cells", corners), corners))
		}
	case r.Kind == rule.Crosses:
		out = append(out, place(PathMark(class, r.Line), r.Line))
		if arrow := arrow(r); arrow != nil {
			out = append(out, PathMark(class+" arrow", arrow))
		}
	default:
		out = append(out, place(AreaMark(class, r.Area), r.Area))
	}
	for _, w := range r.Without {
		out = append(out, AreaMark(class+" leftout", w))
	}
	return out
}

// arrow points from the middle of a rule's longest step to the side that is crossed to; nil: either.
func arrow(r rule.Rule) []scene.Point {
	best, a, b := 0.0, scene.Point{}, scene.Point{}
	for i := 1; i < len(r.Line); i++ {
		if d := math.Hypot(r.Line[i].X-r.Line[i-1].X, r.Line[i].Y-r.Line[i-1].Y); d > best {
			best, a, b = d, r.Line[i-1], r.Line[i]
		}
	}
	if best == 0 || r.Direction != rule.LeftToRight && r.Direction != rule.RightToLeft {
		return nil
	}
	const long, head = 0.14, 0.04
	dx, dy := (b.X-a.X)/best, (b.Y-a.Y)/best
	nx, ny := dy, -dx // to the right of it
	if r.Direction == rule.RightToLeft {
		nx, ny = -nx, -ny
	}
	from := scene.Point{X: (a.X + b.X) / 2, Y: (a.Y + b.Y) / 2}
	tip := scene.Point{X: from.X + long*nx, Y: from.Y + long*ny}
	back := func(side float64) scene.Point {
		return scene.Point{X: tip.X - head*nx + side*head*dx, Y: tip.Y - head*ny + side*head*dy}
	}
	return []scene.Point{from, tip, back(1), tip, back(-1)}
}

// LineMark goes from one place to another, in parts of the picture from its left upper corner.
func LineMark(class, label string, x1, y1, x2, y2 float64) Shape {
	return Shape{Kind: AsLine, Class: class, Label: label, X: [2]float64{x1 * marksWidth, x2 * marksWidth}, Y: [2]float64{y1 * marksHeight, y2 * marksHeight}}
}

// roomy is the least height of a band that carries its label.
const roomy = 56

// BandMark is as wide as the picture, from one height to another in parts of it, from above.
func BandMark(class, label string, top, end float64) Shape {
	s := Shape{Kind: AsBand, Class: class, X: [2]float64{0, marksWidth}, Y: [2]float64{top * marksHeight, end * marksHeight}}
	if math.Round(s.Height()) >= roomy {
		s.Label = label
	}
	return s
}

// Height of a band.
func (s Shape) Height() float64 { return s.Y[1] - s.Y[0] }

// LabelX and LabelY are where its label stands.
func (s Shape) LabelX() float64 { return s.X[0] + 14 }

// LabelY is where its label stands.
func (s Shape) LabelY() float64 {
	if s.Kind == AsBand {
		return s.Y[0] + 48
	}
	return s.Y[0]
}

// Package scene is the plane of a camera's picture: points, boxes, lines and
// areas in the normalised frame of the ONVIF Analytics Service Specification
// (section 5.1.2.2): x and y from −1 to 1, x to the right, y up.
package scene

import (
	"errors"
	"math"
	"time"
)

// Point is a place in the frame.
type Point struct{ X, Y float64 }

// Valid says whether p lies in the frame and is a number.
func (p Point) Valid() bool {
	return !math.IsNaN(p.X) && !math.IsNaN(p.Y) && math.Abs(p.X) <= 1 && math.Abs(p.Y) <= 1
}

// Box is an upright rectangle; Bottom ≤ Top, Left ≤ Right.
type Box struct{ Left, Bottom, Right, Top float64 }

// Anchor is where an object stands: the middle of its bottom edge.
func (b Box) Anchor() Point { return Point{(b.Left + b.Right) / 2, b.Bottom} }

// Area is the size of b in frame units squared (the whole frame is 4).
func (b Box) Area() float64 {
	return math.Max(0, b.Right-b.Left) * math.Max(0, b.Top-b.Bottom)
}

// Line is a polyline of at least two points. Its direction runs from first to last.
type Line []Point

// Polygon is a closed area of at least three points, in either sense of turn.
type Polygon []Point

// ErrShape is returned for a drawing that encloses or divides nothing.
var ErrShape = errors.New("a line needs two different points and an area three that enclose something")

// Check returns ErrShape when l can't be crossed.
func (l Line) Check() error {
	for i, p := range l {
		if !p.Valid() {
			return ErrShape
		}
		if i > 0 && p != l[i-1] {
			if len(l) >= 2 {
				continue
			}
		}
		if i > 0 && p == l[i-1] {
			return ErrShape
		}
	}
	if len(l) < 2 {
		return ErrShape
	}
	return nil
}

// Check returns ErrShape when g encloses nothing.
func (g Polygon) Check() error {
	for _, p := range g {
		if !p.Valid() {
			return ErrShape
		}
	}
	if len(g) < 3 || math.Abs(g.signedArea()) < 1e-9 {
		return ErrShape
	}
	return nil
}

// Simple says whether no two of its edges meet but neighbours at their corner, and those nowhere else.
func (g Polygon) Simple() bool {
	n := len(g)
	for i := range n {
		a, b := g[i], g[(i+1)%n]
		for j := i + 1; j < n; j++ {
			c, d := g[j], g[(j+1)%n]
			switch {
			case j == i+1: // they share b
				if Side(a, b, d) == 0 && between(d, b, a) || Side(a, b, d) == 0 && between(a, b, d) {
					return false
				}
			case (j+1)%n == i: // they share a
				if Side(a, b, c) == 0 && (between(c, a, b) || between(b, a, c)) {
					return false
				}
			case meet(a, b, c, d):
				return false
			}
		}
	}
	return true
}

// between says whether p, in line with a and b, lies from a towards b, b with it and a without.
func between(p, a, b Point) bool {
	along := (p.X-a.X)*(b.X-a.X) + (p.Y-a.Y)*(b.Y-a.Y)
	whole := (b.X-a.X)*(b.X-a.X) + (b.Y-a.Y)*(b.Y-a.Y)
	return along >= 0 && along <= whole && p != a || p == b
}

// meet says whether the segments a→b and c→d have a point in common.
func meet(a, b, c, d Point) bool {
	s1, s2, s3, s4 := Side(a, b, c), Side(a, b, d), Side(c, d, a), Side(c, d, b)
	if s1*s2 < 0 && s3*s4 < 0 {
		return true
	}
	on := func(s int, p, u, v Point) bool { return s == 0 && (p == u || between(p, u, v)) }
	return on(s1, c, a, b) || on(s2, d, a, b) || on(s3, a, c, d) || on(s4, b, c, d)
}

func (g Polygon) signedArea() float64 {
	sum := 0.0
	for i := range g {
		j := (i + 1) % len(g)
		sum += g[i].X*g[j].Y - g[j].X*g[i].Y
	}
	return sum / 2
}

// Side is the sign of the cross product of the segment a→b with a→p: +1 to the
// left of the direction of travel, −1 to the right, 0 on it.
func Side(a, b, p Point) int {
	cross := (b.X-a.X)*(p.Y-a.Y) - (b.Y-a.Y)*(p.X-a.X)
	switch {
	case cross > 1e-12:
		return 1
	case cross < -1e-12:
		return -1
	}
	return 0
}

// Distance is how far p lies from the segment a–b.
func Distance(a, b, p Point) float64 {
	dx, dy := b.X-a.X, b.Y-a.Y
	length := dx*dx + dy*dy
	if length == 0 {
		return math.Hypot(p.X-a.X, p.Y-a.Y)
	}
	t := math.Max(0, math.Min(1, ((p.X-a.X)*dx+(p.Y-a.Y)*dy)/length))
	return math.Hypot(p.X-a.X-t*dx, p.Y-a.Y-t*dy)
}

// Distance is how far p lies from the nearest segment of l.
func (l Line) Distance(p Point) float64 {
	best := math.Inf(1)
	for i := 1; i < len(l); i++ {
		best = math.Min(best, Distance(l[i-1], l[i], p))
	}
	return best
}

// Meets says whether the step from p to q meets the segment a–b in its interior
// or at its ends, coming from one strict side to the other or onto the line.
func Meets(a, b, p, q Point) bool {
	return Side(a, b, p) != Side(a, b, q) && Side(p, q, a)*Side(p, q, b) <= 0
}

// Meeting is where the steps a–b and p–q meet, or p where they run side by side.
func Meeting(a, b, p, q Point) Point {
	dx, dy := q.X-p.X, q.Y-p.Y
	ex, ey := b.X-a.X, b.Y-a.Y
	d := dx*ey - dy*ex
	if math.Abs(d) < 1e-15 {
		return p
	}
	t := math.Max(0, math.Min(1, ((a.X-p.X)*ey-(a.Y-p.Y)*ex)/d))
	return Point{p.X + t*dx, p.Y + t*dy}
}

// Contains says whether p lies in g or on its edge (even–odd).
func (g Polygon) Contains(p Point) bool {
	for i := range g {
		if Distance(g[i], g[(i+1)%len(g)], p) < 1e-9 {
			return true
		}
	}
	return g.encloses(p)
}

// encloses says whether p, which isn't on an edge, lies in g.
func (g Polygon) encloses(p Point) bool {
	in := false
	for i := range g {
		a, b := g[i], g[0]
		if i+1 < len(g) {
			b = g[i+1]
		}
		if (a.Y > p.Y) != (b.Y > p.Y) && p.X < a.X+(p.Y-a.Y)/(b.Y-a.Y)*(b.X-a.X) {
			in = !in
		}
	}
	return in
}

// Overlap is the area that b shares with g, in frame units squared. The polygon
// is clipped to the box edge by edge (Sutherland–Hodgman), which is exact for
// any simple polygon's area because the box is convex. A box that no edge comes into is
// in it as a whole or not at all.
func (g Polygon) Overlap(b Box) float64 {
	if !g.comesInto(b) {
		if len(g) > 2 && g.encloses(Point{(b.Left + b.Right) / 2, (b.Bottom + b.Top) / 2}) {
			return b.Area()
		}
		return 0
	}
	var one, two [64]Point // enough for most: then nothing is allocated
	poly, spare := append(one[:0], g...), two[:0]
	for _, side := range [4]halfPlane{{1, 0, -b.Left}, {-1, 0, b.Right}, {0, 1, -b.Bottom}, {0, -1, b.Top}} {
		poly, spare = side.clip(poly, spare), poly[:0]
	}
	if len(poly) < 3 {
		return 0
	}
	return math.Abs(Polygon(poly).signedArea())
}

// comesInto says whether an edge of g may have a point in b: where it says no, none has.
func (g Polygon) comesInto(b Box) bool {
	for i := range g {
		p, q := g[i], g[0]
		if i+1 < len(g) {
			q = g[i+1]
		}
		if max(p.X, q.X) < b.Left || min(p.X, q.X) > b.Right || max(p.Y, q.Y) < b.Bottom || min(p.Y, q.Y) > b.Top {
			continue
		}
		// All four corners on one side of the edge's line, with room to spare: it passes by.
		dx, dy := q.X-p.X, q.Y-p.Y
		side := func(x, y float64) float64 { return dx*(y-p.Y) - dy*(x-p.X) }
		s1, s2, s3, s4 := side(b.Left, b.Bottom), side(b.Right, b.Bottom), side(b.Right, b.Top), side(b.Left, b.Top)
		const room = 1e-12
		if min(s1, s2, s3, s4) > room || max(s1, s2, s3, s4) < -room {
			continue
		}
		return true
	}
	return false
}

// halfPlane holds the points whose x·X + y·Y + c isn't negative.
type halfPlane struct{ x, y, c float64 }

func (h halfPlane) clip(in, out []Point) []Point {
	for i, cur := range in {
		next := in[0]
		if i+1 < len(in) {
			next = in[i+1]
		}
		dc, dn := h.x*cur.X+h.y*cur.Y+h.c, h.x*next.X+h.y*next.Y+h.c
		if dc >= 0 {
			out = append(out, cur)
		}
		if (dc >= 0) != (dn >= 0) {
			t := dc / (dc - dn)
			out = append(out, Point{cur.X + t*(next.X-cur.X), cur.Y + t*(next.Y-cur.Y)})
		}
	}
	return out
}

// Observation is one object in one frame.
type Observation struct {
	Object string        // the track's id
	Class  string        // "Human", "Vehicle", …: ONVIF tt:ObjectType words
	Score  float64       // 0…1
	At     time.Duration // since the scene's start
	Box    Box
	Traits Traits
}

// Track is one object from where it was first seen to where it was last.
type Track struct {
	ID     string
	Class  string // the likeliest of what it was said to be
	Traits Traits // all that was told of it
	// Pictured says that a picture of it was sent with it.
	Pictured bool
	Points   []TrackPoint
}

// TrackPoint is an object at one moment.
type TrackPoint struct {
	At    time.Duration
	Box   Box
	Score float64 // 0…1
}

// Tracks gathers observations by their objects, in the order in which those were first seen.
func Tracks(all []Observation) []Track {
	var out []Track
	at := map[string]int{}
	for _, o := range all {
		i, there := at[o.Object]
		if !there {
			i = len(out)
			at[o.Object] = i
			out = append(out, Track{ID: o.Object, Class: o.Class})
		}
		out[i].Traits = out[i].Traits.Also(o.Traits)
		out[i].Points = append(out[i].Points, TrackPoint{o.At, o.Box, o.Score})
	}
	return out
}

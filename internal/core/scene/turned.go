package scene

import "fmt"

// Turned is how a camera's analytics lie on the picture that it sends: what looks before the picture is turned or mirrored counts
// places in the picture of before. Its two lowest bits are quarter turns, the next one says that it is mirrored; the zero
// Turned is as the picture is.
type Turned uint8

// AllTurned are the eight ways.
var AllTurned = [8]Turned{0, 1, 2, 3, 4, 5, 6, 7}

// Valid says whether it is one of the eight.
func (t Turned) Valid() bool { return t < 8 }

// Quarters is how many quarter turns clockwise make what the analytics look at of the picture, after mirroring: 0 to 3.
func (t Turned) Quarters() int { return int(t & 3) }

// Mirrored says whether left and right change places before that.
func (t Turned) Mirrored() bool { return t&4 != 0 }

// To is a place in the picture as the analytics count it.
func (t Turned) To(p Point) Point {
	if t.Mirrored() {
		p.X = -p.X
	}
	for range t.Quarters() {
		p.X, p.Y = p.Y, -p.X
	}
	return p
}

// From is a place as the analytics count it in the picture.
func (t Turned) From(p Point) Point {
	for range t.Quarters() {
		p.X, p.Y = -p.Y, p.X
	}
	if t.Mirrored() {
		p.X = -p.X
	}
	return p
}

// BoxFrom is a box of the analytics in the picture.
func (t Turned) BoxFrom(b Box) Box {
	if t == 0 {
		return b
	}
	p, q := t.From(Point{b.Left, b.Bottom}), t.From(Point{b.Right, b.Top})
	return Box{Left: min(p.X, q.X), Right: max(p.X, q.X), Bottom: min(p.Y, q.Y), Top: max(p.Y, q.Y)}
}

// Tracks are tracks of the analytics in the picture; theirs are left as they are.
func (t Turned) Tracks(all []Track) []Track {
	if t == 0 {
		return all
	}
	out := make([]Track, len(all))
	for i, tr := range all {
		points := make([]TrackPoint, len(tr.Points))
		for j, p := range tr.Points {
			p.Box = t.BoxFrom(p.Box)
			points[j] = p
		}
		tr.Points = points
		out[i] = tr
	}
	return out
}

// Grid is the grid of the analytics as it lies on the picture, and the other way round.
func (t Turned) Grid(g Grid) Grid {
	if t.Quarters()%2 == 1 {
		g.Columns, g.Rows = g.Rows, g.Columns
	}
	return g
}

// CellsTo are cells of the picture as the analytics count them, CellsFrom those of the analytics in the picture.
func (t Turned) CellsTo(c Cells) Cells { return c.moved(t.Grid(c.Grid), t.From) }

// CellsFrom: see CellsTo.
func (t Turned) CellsFrom(c Cells) Cells { return c.moved(t.Grid(c.Grid), t.To) }

// moved are cells of another grid: each is as the one from where its middle comes.
func (c Cells) moved(g Grid, back func(Point) Point) Cells {
	if !c.Valid() || len(c.On) != c.Columns*c.Rows {
		return c
	}
	out := Cells{Grid: g, On: make([]bool, len(c.On))}
	for i := range out.On {
		p := back(Point{X: (2*float64(i%g.Columns)+1)/float64(g.Columns) - 1, Y: 1 - (2*float64(i/g.Columns)+1)/float64(g.Rows)})
		column, row := int((p.X+1)/2*float64(c.Columns)), int((1-p.Y)/2*float64(c.Rows))
		out.On[i] = c.On[row*c.Columns+column]
	}
	return out
}

// Words say how the analytics' picture comes from the one that the camera sends: "turned by 180°".
func (t Turned) Words() string {
	switch {
	case t == 0:
		return "as it is sent"
	case t.Quarters() == 0:
		return "mirrored left to right"
	case t == 6:
		return "mirrored top to bottom"
	case t.Mirrored():
		return fmt.Sprintf("mirrored left to right and turned by %d° clockwise", 90*t.Quarters())
	case t.Quarters() == 2:
		return "turned by 180°"
	}
	return fmt.Sprintf("turned by %d° clockwise", 90*t.Quarters())
}

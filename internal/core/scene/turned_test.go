package scene

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// What the corners of a picture become: upper left, upper right, and what a mirrored or turned picture has there.
func TestWhereTurnedPicturesHaveTheirCorners(t *testing.T) {
	ul, ur, ll, lr := Point{-1, 1}, Point{1, 1}, Point{-1, -1}, Point{1, -1}
	for turned, want := range map[Turned][2]Point{ // where upper left and upper right come to lie
		0: {ul, ur}, 1: {ur, lr}, 2: {lr, ll}, 3: {ll, ul}, 4: {ur, ul}, 5: {lr, ur}, 6: {ll, lr}, 7: {ul, ll}} {
		if got := [2]Point{turned.To(ul), turned.To(ur)}; got != want {
			t.Errorf("%s: the upper corners lie at %v, want %v", turned.Words(), got, want)
		}
	}
	if Turned(8).Valid() || !Turned(7).Valid() {
		t.Error("there are eight ways")
	}
	words := map[string]bool{}
	for _, x := range AllTurned {
		words[x.Words()] = true
	}
	if len(words) != 8 {
		t.Errorf("two ways are called alike: %v", words)
	}
}

// Whatever is drawn comes back the same to one part in ten thousand: for every shape of picture, turn and mirroring, and every
// frame that a camera counts in, also where it keeps whole numbers of ten thousandths.
func TestADrawingComesBackHoweverThePictureLies(t *testing.T) {
	r := rand.New(rand.NewPCG(25, 1))
	for range 20000 {
		turned := AllTurned[r.IntN(8)]
		f := []Frame{{}, {10000, 10000}, {1, 1}, {float64(160 + r.IntN(8000)), float64(90 + r.IntN(8000))}}[r.IntN(4)]
		p := Point{2*r.Float64() - 1, 2*r.Float64() - 1}
		there := f.To(turned.To(p))
		if f.Wide == 10000 {
			there = Point{math.Round(there.X), math.Round(there.Y)}
		}
		back := turned.From(f.From(there))
		if math.Abs(back.X-p.X)/2 > 1e-4 || math.Abs(back.Y-p.Y)/2 > 1e-4 {
			t.Fatalf("%s, %+v: %v comes back as %v", turned.Words(), f, p, back)
		}
		b := Box{Left: -0.5, Right: 0.1 + r.Float64()/2, Bottom: -0.7, Top: r.Float64()}
		there2 := Box{}
		p1, p2 := turned.To(Point{b.Left, b.Bottom}), turned.To(Point{b.Right, b.Top})
		there2 = Box{Left: min(p1.X, p2.X), Right: max(p1.X, p2.X), Bottom: min(p1.Y, p2.Y), Top: max(p1.Y, p2.Y)}
		if got := turned.BoxFrom(there2); got != b {
			t.Fatalf("%s: %v comes back as %v", turned.Words(), b, got)
		}
	}
}

// Cells come back, and one lies in the analytics' picture where its middle does.
func TestCellsComeBackHoweverThePictureLies(t *testing.T) {
	r := rand.New(rand.NewPCG(25, 2))
	for range 500 {
		turned := AllTurned[r.IntN(8)]
		c := Cells{Grid: Grid{Columns: 1 + r.IntN(30), Rows: 1 + r.IntN(20)}}
		for range c.Columns * c.Rows {
			c.On = append(c.On, r.IntN(3) == 0)
		}
		there := turned.CellsTo(c)
		if back := turned.CellsFrom(there); back.Grid != c.Grid || !slices.Equal(back.On, c.On) {
			t.Fatalf("%s: cells come back otherwise", turned.Words())
		}
		for i, on := range c.On {
			p := turned.To(Point{X: (2*float64(i%c.Columns)+1)/float64(c.Columns) - 1, Y: 1 - (2*float64(i/c.Columns)+1)/float64(c.Rows)})
			column, row := int((p.X+1)/2*float64(there.Columns)), int((1-p.Y)/2*float64(there.Rows))
			if there.On[row*there.Columns+column] != on {
				t.Fatalf("%s: the cell %d lies elsewhere", turned.Words(), i)
			}
		}
	}
	if got := Turned(1).CellsTo(Cells{}); got.Valid() {
		t.Errorf("of nothing it makes %+v", got)
	}
}

func TestTracksInThePicture(t *testing.T) {
	all := []Track{{ID: "a", Points: []TrackPoint{{Box: Box{Left: -1, Right: -0.5, Bottom: -1, Top: 0}}}}}
	got := Turned(2).Tracks(all)
	if got[0].Points[0].Box != (Box{Left: 0.5, Right: 1, Bottom: 0, Top: 1}) || all[0].Points[0].Box.Left != -1 {
		t.Errorf("%+v, and what it was %+v", got, all)
	}
}

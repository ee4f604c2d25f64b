package scene

import (
	"encoding/base64"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// What other programs pack is read, and packed the same: known texts of the usual grid of 22 by 18.
func TestCellsAreThoseOfTheStandard(t *testing.T) {
	g := Grid{22, 18}
	none := Cells{Grid: g, On: make([]bool, 22*18)}
	whole := Cells{Grid: g, On: slices.Repeat([]bool{true}, 22*18)}
	first := Cells{Grid: g, On: make([]bool, 22*18)}
	first.On[0] = true
	for text, want := range map[string]Cells{"zwA=": none, "0P8A8A==": whole, "AIDQAA==": first} {
		got, err := UnpackCells(g, text)
		if err != nil || !slices.Equal(got.On, want.On) {
			t.Errorf("%s is %s, %v", text, got, err)
		}
		if packed := want.Pack(); packed != text {
			t.Errorf("%s is packed as %s, want %s", want, packed, text)
		}
	}
	// 80 10 F0 …: the highest bit first, and no gap between rows.
	small := Grid{3, 3}
	got, err := UnpackCells(small, base64.StdEncoding.EncodeToString([]byte{1, 0b10100100, 0b10000000}))
	if err != nil || got.String() != "#.#/..#/..#" {
		t.Errorf("%s %v", got, err)
	}
	for name, bad := range map[string]string{"not base64": "!", "nothing": "", "too few": "AAA=", "ends in a run": "zw==", "ends in the rest": "BQA="} {
		if got, err := UnpackCells(g, bad); !errors.Is(err, ErrCells) {
			t.Errorf("%s: %v %v", name, got, err)
		}
	}
	for _, g := range []Grid{{}, {0, 5}, {-1, 5}, {257, 1}} {
		if _, err := UnpackCells(g, "zwA="); !errors.Is(err, ErrCells) {
			t.Errorf("%+v: %v", g, err)
		}
	}
}

func TestCellsComeBack(t *testing.T) {
	r := rand.New(rand.NewPCG(24, 6))
	for range 3000 {
		c := Cells{Grid: Grid{1 + r.IntN(40), 1 + r.IntN(40)}}
		run := 1 + r.IntN(30)
		on := false
		for i := range c.Columns * c.Rows {
			if i%run == 0 {
				on = r.IntN(2) == 0
			}
			c.On = append(c.On, on)
		}
		got, err := UnpackCells(c.Grid, c.Pack())
		if err != nil || !slices.Equal(got.On, c.On) {
			t.Fatalf("%s comes back as %s: %v", c, got, err)
		}
		text, err := ParseCells(c.String())
		if err != nil || text.Grid != c.Grid || !slices.Equal(text.On, c.On) {
			t.Fatalf("%s is read as %s: %v", c, text, err)
		}
	}
	for name, bad := range map[string]string{"other letters": "#x", "rows of other lengths": "##/#", "an empty row": "#//#", "wide": strings.Repeat("#", 257), "long": strings.Repeat("#/", 70000)} {
		if got, err := ParseCells(bad); !errors.Is(err, ErrCells) {
			t.Errorf("%s: %v %v", name, got, err)
		}
	}
	if c, err := ParseCells(" "); err != nil || c.Valid() {
		t.Errorf("%v %v", c, err)
	}
}

func TestABoxTouchesCells(t *testing.T) {
	c, _ := ParseCells("#./.#") // the upper left and the lower right quarter
	for name, x := range map[string]struct {
		b    Box
		want int
	}{
		"upper left":         {Box{-1, 0, 0, 1}, 1},
		"over all":           {Box{-1, -1, 1, 1}, 2},
		"lower left":         {Box{-1, -1, 0, 0}, 0},
		"a corner of each":   {Box{-0.1, -0.1, 0.1, 0.1}, 2},
		"beside at an edge":  {Box{0, 0, 1, 1}, 0},
		"just over the edge": {Box{-0.001, 0.001, 1, 1}, 1},
		"of nothing":         {Box{}, 0},
	} {
		if got := c.Touched(x.b); got != x.want {
			t.Errorf("%s touches %d, want %d", name, got, x.want)
		}
	}
}

func TestCellsOverAnotherGrid(t *testing.T) {
	c, _ := ParseCells("#./.#")
	for want, g := range map[string]Grid{"#./.#": {2, 2}, "##../##../..##/..##": {4, 4}, "#": {1, 1}, "": {}} {
		if got := c.Over(g).String(); got != want && !(want == "#" && got == "#") {
			t.Errorf("over %v it is %q, want %q", g, got, want)
		}
	}
	if got := (Cells{}).Over(Grid{2, 2}).String(); got != "../.." {
		t.Errorf("of no grid: %q", got)
	}
	runs, _ := ParseCells("##.#/....")
	got := runs.Runs()
	if len(got) != 2 || got[0] != (Box{-1, 0, 0, 1}) || got[1] != (Box{0.5, 0, 1, 1}) {
		t.Errorf("%v", got)
	}
}

// Whatever a device says its cells are is read or refused, and read it comes back.
func FuzzUnpackCells(f *testing.F) {
	f.Add(22, 18, "zwA=")
	f.Add(3, 3, "AaSA")
	f.Add(0, 0, "")
	f.Fuzz(func(t *testing.T, columns, rows int, text string) {
		c, err := UnpackCells(Grid{columns, rows}, text)
		if err != nil {
			return
		}
		again, err := UnpackCells(c.Grid, c.Pack())
		if err != nil || !slices.Equal(again.On, c.On) {
			t.Fatalf("%s comes back as %s: %v", c, again, err)
		}
	})
}

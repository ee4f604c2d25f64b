package picture

import (
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/scene"
)

// What is hidden is the same in whatever order a camera tells it, from whichever corner, either way round; what hides
// nothing doesn't count.
func TestTheGroundOfMasks(t *testing.T) {
	a := scene.Polygon{{X: -1, Y: 1}, {X: 0, Y: 1}, {X: 0, Y: 0}, {X: -1, Y: 0}}
	b := scene.Polygon{{X: 0.5, Y: 0.5}, {X: 1, Y: 0.5}, {X: 1, Y: -0.5}}
	turned := scene.Polygon{a[2], a[1], a[0], a[3]}
	exact := func(all ...Mask) string { _, e := Masks{All: all}.Ground(); return e }
	both := exact(Mask{Area: a, On: true}, Mask{Area: b, On: true})
	if exact(Mask{Area: b, On: true}, Mask{Area: turned, On: true, Token: "x"}) != both {
		t.Error("the order counts")
	}
	near := slices.Clone(b)
	near[0].X += 0.0002
	if exact(Mask{Area: a, On: true}, Mask{Area: near, On: true}) != both {
		t.Error("less than a thousandth counts")
	}
	near[0].X += 0.01
	for name, other := range map[string]string{"moved": exact(Mask{Area: a, On: true}, Mask{Area: near, On: true}), "one": exact(Mask{Area: a, On: true}),
		"one off": exact(Mask{Area: a, On: true}, Mask{Area: b}), "none": exact()} {
		if other == both {
			t.Errorf("%s is taken for both", name)
		}
	}
	if exact(Mask{Area: a, On: true}, Mask{Area: b}) != exact(Mask{Area: a, On: true}) {
		t.Error("what hides nothing counts")
	}
	if words, _ := (Masks{}).Ground(); words != "nothing hidden" || exact() == "" {
		t.Errorf("%q: none is something that is known", words)
	}
}

func TestCornersAreRead(t *testing.T) {
	for text, tc := range map[string]struct {
		corners int
		says    string
	}{
		"0 0, 100 0, 50 100":               {3, ""},
		" 20.5 10,40 10 , 40 30,20.5  30 ": {4, ""},
		"":                                 {0, "3 to 64 corners"},
		"1 1, 2 2":                         {0, "3 to 64 corners"},
		"10 10, 20 20, 30 30":              {0, "encloses something"},
		"0 0, 100 100, 100 0, 0 100":       {0, "don't cross"},
		"0 0, 100 0, 50":                   {0, "two figures"},
		"0 0, 100 0, 50 1 2":               {0, "two figures"},
		"0 0, 100 0, 50 100.1":             {0, "between 0 and 100"},
		"0 0, 100 0, 50 -1":                {0, "between 0 and 100"},
		"0 0, 100 0, 50 NaN":               {0, "between 0 and 100"},
		"0 0, 0.5 0, 0.2 50":               {0, "1 % of the picture wide"},
		strings.Repeat("1 1, ", mostCorners) + "1 1": {0, "3 to 64 corners"},
	} {
		a, err := ParseCorners(text)
		if len(a) != tc.corners || (err == nil) != (tc.says == "") || err != nil && !strings.Contains(err.Error(), tc.says) {
			t.Errorf("%q: %v, %v", text, a, err)
		}
	}
	r, err := Rectangle(20, 10, 40, 30)
	if err != nil {
		t.Fatal(err)
	}
	if a, err := ParseCorners("40 30, 40 10, 20 10, 20 30"); err != nil || !SameAreas([]scene.Polygon{a}, []scene.Polygon{r}) {
		t.Errorf("%v, %v", a, err)
	}
}

func FuzzParseCorners(f *testing.F) {
	for _, s := range []string{"0 0, 100 0, 50 100", "20 10, 40 10, 40 30, 20 30", "0 0, 100 100, 100 0, 0 100", "1e2 0x1p3, 5 5, 1 9", ",,"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := ParseCorners(text)
		if err != nil {
			return
		}
		l, top, r, b := bounds(a)
		if len(a) < 3 || a.Check() != nil || !a.Simple() || l < 0 || top < 0 || r > 100 || b > 100 {
			t.Fatalf("%q reads %v", text, a)
		}
	})
}

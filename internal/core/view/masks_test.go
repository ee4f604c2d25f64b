package view

import (
	"slices"
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

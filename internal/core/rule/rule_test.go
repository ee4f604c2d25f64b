package rule

import (
	"math/rand/v2"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
)

// path turns anchors into observations of a small box, one every 100 ms.
func path(anchors ...scene.Point) []scene.Observation {
	var out []scene.Observation
	for i, p := range anchors {
		out = append(out, scene.Observation{Object: "1", Class: "Human", Score: 0.9,
			At:  time.Duration(i) * 100 * time.Millisecond,
			Box: scene.Box{Left: p.X - 0.05, Right: p.X + 0.05, Bottom: p.Y, Top: p.Y + 0.3}})
	}
	return out
}

var upward = scene.Line{{X: 0, Y: -0.5}, {X: 0, Y: 0.5}}

func TestCrosses(t *testing.T) {
	for _, tc := range []struct {
		name string
		dir  Direction
		path []scene.Observation
		want int
	}{
		{"straight over", Either, path(scene.Point{X: -0.3}, scene.Point{X: 0.3}), 1},
		{"wanted direction", LeftToRight, path(scene.Point{X: -0.3}, scene.Point{X: 0.3}), 1},
		{"other direction", RightToLeft, path(scene.Point{X: -0.3}, scene.Point{X: 0.3}), 0},
		{"past its end", Either, path(scene.Point{X: -0.3, Y: 0.8}, scene.Point{X: 0.3, Y: 0.8}), 0},
		{"turns back before it", Either, path(scene.Point{X: -0.3}, scene.Point{X: -0.1}, scene.Point{X: -0.4}), 0},
		{"there and back", Either, path(scene.Point{X: -0.3}, scene.Point{X: 0.3}, scene.Point{X: -0.3}), 2},
		{"sways on the line", Either, path(scene.Point{X: -0.3}, scene.Point{X: 0.01}, scene.Point{X: -0.01},
			scene.Point{X: 0.01}, scene.Point{X: 0.3}), 1},
		{"first seen on the other side", Either, path(scene.Point{X: 0.3}), 0},
	} {
		got := Rehearse(Rule{Name: "l", Kind: Crosses, Line: upward, Direction: tc.dir}, scene.Tracks(tc.path), Span{})
		if len(got) != tc.want {
			t.Errorf("%s: %d hits, want %d (%v)", tc.name, len(got), tc.want, got)
		}
	}
}

// However a straight walk is cut into steps, it crosses a line once.
func TestCrossingDoesNotDependOnTheFrameRate(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 6))
	for range 500 {
		from := scene.Point{X: -0.2 - rnd.Float64()*0.8, Y: rnd.Float64()*0.6 - 0.3}
		to := scene.Point{X: 0.2 + rnd.Float64()*0.8, Y: rnd.Float64()*0.6 - 0.3}
		n := 1 + rnd.IntN(200)
		var steps []scene.Point
		for i := 0; i <= n; i++ {
			f := float64(i) / float64(n)
			steps = append(steps, scene.Point{X: from.X + f*(to.X-from.X), Y: from.Y + f*(to.Y-from.Y)})
		}
		hits := Rehearse(Rule{Kind: Crosses, Line: upward}, scene.Tracks(path(steps...)), Span{})
		if len(hits) != 1 {
			t.Fatalf("%v → %v in %d steps: %d hits, want 1", from, to, n, len(hits))
		}
	}
}

func TestInsideTurnsTrueAndFalseOnce(t *testing.T) {
	area := scene.Polygon{{X: -0.2, Y: -0.9}, {X: 0.2, Y: -0.9}, {X: 0.2, Y: 0.9}, {X: -0.2, Y: 0.9}}
	r := Rule{Name: "a", Kind: Inside, Area: area}
	e := Engine{Rule: r}
	var got []bool
	for _, o := range path(scene.Point{X: -0.5}, scene.Point{X: -0.21}, scene.Point{X: -0.1}, scene.Point{X: 0},
		scene.Point{X: 0.19}, scene.Point{X: 0.3}) {
		for _, h := range e.Feed(o) {
			got = append(got, h.On)
		}
	}
	if len(got) != 2 || !got[0] || got[1] {
		t.Errorf("in and out = %v, want [true false]", got)
	}
	for _, o := range path(scene.Point{X: 0}) {
		o.At = time.Second
		e.Feed(o)
	}
	if out := e.Forget("1", time.Second); len(out) != 1 || out[0].On {
		t.Errorf("an object that vanishes inside goes out: %v", out)
	}
	if out := e.Forget("1", time.Second); out != nil {
		t.Errorf("forgotten twice: %v", out)
	}
}

func TestClassAndScoreGate(t *testing.T) {
	walk := path(scene.Point{X: -0.3}, scene.Point{X: 0.3})
	if n := len(Rehearse(Rule{Kind: Crosses, Line: upward, Classes: []string{"Vehicle"}}, scene.Tracks(walk), Span{})); n != 0 {
		t.Errorf("a person fires a rule for vehicles %d times", n)
	}
	if n := len(Rehearse(Rule{Kind: Crosses, Line: upward, MinScore: 0.95}, scene.Tracks(walk), Span{})); n != 0 {
		t.Errorf("a score below the least fires %d times", n)
	}
	if (Rule{Kind: Crosses}).Check() == nil || (Rule{Kind: Inside}).Check() == nil {
		t.Error("a rule without a drawing passes")
	}
}

// What rules watch for is the same in whatever order they are told, and another wherever one of their values is.
func TestTheGroundOfRules(t *testing.T) {
	a := Rule{Name: "Line", Kind: Crosses, Line: scene.Line{{X: 0, Y: 0}, {X: 1, Y: 0}}, Classes: []string{"Human"}}
	b := Rule{Name: "Area", Kind: Inside, Area: scene.Polygon{{X: 0, Y: 0}, {X: 1, Y: 0}, {X: 1, Y: 1}}, MinScore: 0.5}
	exact := func(all ...Rule) string { _, e := Ground(all); return e }
	if exact(a, b) != exact(b, a) || exact() == "" {
		t.Error("the order counts, or none isn't known")
	}
	seen := map[string]bool{exact(a): true}
	for _, change := range []func(*Rule){func(r *Rule) { r.Line[1].X = 0.9 }, func(r *Rule) { r.Classes = nil }, func(r *Rule) { r.MinScore = 0.1 }, func(r *Rule) { r.Direction = "Left" }, func(r *Rule) { r.Name = "Line 2" }} {
		other := a
		other.Line = scene.Line{a.Line[0], a.Line[1]}
		change(&other)
		if e := exact(other); seen[e] {
			t.Errorf("%+v is taken for another", other)
		} else {
			seen[e] = true
		}
	}
}

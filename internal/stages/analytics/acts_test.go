package analytics

import (
	"errors"
	"math/rand/v2"
	"testing"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
)

// A rule that goes out as a drawing is the same when it comes in again.
func TestADrawingIsTheRuleAgain(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	tried := 0
	for range 2000 {
		x := rule.Rule{Name: "a", Kind: rule.Kinds[r.IntN(len(rule.Kinds))], MinScore: float64(r.IntN(11)) / 10, Lowest: float64(r.IntN(4)) / 100, Speed: float64(1 + r.IntN(4))}
		var points []scene.Point
		for range 3 + r.IntN(3) {
			points = append(points, scene.Point{X: float64(r.IntN(201)-100) / 100, Y: float64(r.IntN(201)-100) / 100})
		}
		if x.Kind == rule.Moves {
			x.Cells = scene.Cells{Grid: scene.Grid{Columns: 5, Rows: 4}}
			for range 20 {
				x.Cells.On = append(x.Cells.On, r.IntN(2) == 0)
			}
			x.Without = nil
		} else if x.Kind == rule.Crosses {
			x.Line, x.Direction = points, []rule.Direction{"", rule.Either, rule.LeftToRight, rule.RightToLeft}[r.IntN(4)]
		} else if x.Area = points; !x.Area.Simple() {
			continue
		}
		if x.Kind.Lasts() {
			x.For = time.Duration(1+r.IntN(100)) * time.Second
		}
		if r.IntN(2) == 0 {
			x.Hours, x.Classes, x.Count = rule.Hours{From: r.IntN(1440), To: r.IntN(1440)}, []string{"Human", "Vehicle"}, r.IntN(5)
		}
		if r.IntN(3) == 0 && x.Kind != rule.Moves {
			x.Without = []scene.Polygon{{{X: -1, Y: -1}, {X: 0, Y: -1}, {X: 0, Y: 0}}, {{X: 1, Y: 1}, {X: 0, Y: 1}, {X: 0, Y: 0.5}}}
		}
		if x.Check() != nil {
			continue
		}
		tried++
		got, err := DrawingOf(7, rule.Drawn{ID: 3, Rule: x}).Rule()
		if err != nil || got.Name != x.Name || !rule.Same(got, x) {
			t.Fatalf("%+v comes back as %+v: %v", x, got, err)
		}
	}
	if tried < 500 {
		t.Errorf("%d rules were tried only", tried)
	}
}

func TestWhatIsWrongWithADrawing(t *testing.T) {
	ok := Drawing{Name: "a", Kind: "Stays", Points: "10 10, 90 10, 90 90", For: 2}
	for name, x := range map[string]struct {
		change func(*Drawing)
		field  string
	}{
		"no name":        {func(x *Drawing) { x.Name = "  " }, "name"},
		"a long one":     {func(x *Drawing) { x.Name = string(make([]byte, 65)) }, "name"},
		"no time":        {func(x *Drawing) { x.For = 0 }, "kind"},
		"time back":      {func(x *Drawing) { x.For = -1 }, "for"},
		"no points":      {func(x *Drawing) { x.Points = "" }, "points"},
		"outside":        {func(x *Drawing) { x.Points = "10 10, 101 10, 9 9" }, "points"},
		"edges cross":    {func(x *Drawing) { x.Points = "10 10, 90 90, 90 10, 10 90" }, "points"},
		"left out badly": {func(x *Drawing) { x.Without = []string{"1 1; 2"} }, "without"},
		"a direction":    {func(x *Drawing) { x.Kind, x.Direction = "Crosses", "Up" }, "direction"},
		"half of hours":  {func(x *Drawing) { x.From = "21:00" }, "to"},
		"no hour":        {func(x *Drawing) { x.From, x.To = "25:00", "01:00" }, "from"},
		"no cells":       {func(x *Drawing) { x.Kind = "Moves" }, "cells"},
		"other cells":    {func(x *Drawing) { x.Kind, x.Cells = "Moves", "#x" }, "cells"},
		"none painted":   {func(x *Drawing) { x.Kind, x.Cells = "Moves", "../.." }, "cells"},
		"two words":      {func(x *Drawing) { x.Classes = []string{"a b"} }, "class"},
	} {
		d := ok
		x.change(&d)
		_, err := d.Rule()
		var wrong act.WrongError
		if !errors.As(err, &wrong) || wrong.Field != x.field {
			t.Errorf("%s: %v", name, err)
		}
	}
	if r, err := ok.Rule(); err != nil || r.For != 2*time.Second {
		t.Errorf("%+v %v", r, err)
	}
	night := ok
	night.From, night.To, night.Without = "21:00", "24:00", []string{"1 1, 2 1, 2 2; 5 5, 6 5, 6 6"}
	if r, err := night.Rule(); err != nil || r.Hours != (rule.Hours{From: 21 * 60}) || len(r.Without) != 2 {
		t.Errorf("%+v %v", r, err)
	}
}

package rule

import (
	"maps"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
)

var seesCells = Supported{Grid: scene.Grid{Columns: 22, Rows: 18}, Types: []Type{{Name: "CellMotionDetector",
	Values: map[string]string{"MinCount": "integer", "AlarmOnDelay": "integer", "AlarmOffDelay": "integer", "ActiveCells": "base64Binary"}}}}

// A rule of motion comes back from what is written of it, whatever is painted.
func TestMotionComesBack(t *testing.T) {
	r := rand.New(rand.NewPCG(24, 8))
	for range 500 {
		x := Rule{Name: "m", Kind: Moves, For: time.Duration(r.IntN(20)) * 100 * time.Millisecond, Break: time.Duration(r.IntN(30)) * 100 * time.Millisecond, Cells: scene.Cells{Grid: seesCells.Grid}}
		for range 22 * 18 {
			x.Cells.On = append(x.Cells.On, r.IntN(3) == 0)
		}
		if x.Count = r.IntN(5); x.Check() != nil {
			continue
		}
		c, cant := seesCells.Write(x)
		if len(cant) > 0 {
			t.Fatalf("%+v: %v", x, cant)
		}
		if back, ok := c.Says(); !ok || !Same(back, x) {
			t.Fatalf("%+v is written as %+v and comes back as %+v", x, c, back)
		}
	}
}

func TestWhatIsntMotion(t *testing.T) {
	good := Config{Name: "m", Type: "CellMotionDetector", Grid: seesCells.Grid, Values: map[string]string{"MinCount": "5", "AlarmOnDelay": "100", "AlarmOffDelay": "1000", "ActiveCells": "0P8A8A=="}}
	for name, x := range map[string]struct {
		change func(*Config)
		ok     bool
	}{
		"as others write it":    {func(*Config) {}, true},
		"no delays":             {func(c *Config) { delete(c.Values, "AlarmOnDelay"); delete(c.Values, "AlarmOffDelay") }, true},
		"ends at once":          {func(c *Config) { c.Values["AlarmOffDelay"] = "0" }, true},
		"no cells":              {func(c *Config) { delete(c.Values, "ActiveCells") }, false},
		"none painted":          {func(c *Config) { c.Values["ActiveCells"] = "zwA=" }, false},
		"of no grid":            {func(c *Config) { c.Grid = scene.Grid{} }, false},
		"of another grid":       {func(c *Config) { c.Grid = scene.Grid{Columns: 100, Rows: 100} }, false},
		"below nothing":         {func(c *Config) { c.Values["MinCount"] = "-1" }, false},
		"no number":             {func(c *Config) { c.Values["AlarmOnDelay"] = "PT1S" }, false},
		"more than are painted": {func(c *Config) { c.Values["MinCount"] = "397" }, false},
		"something else":        {func(c *Config) { c.Values["Region"] = "1" }, false},
		"a shape":               {func(c *Config) { c.Shapes = map[string]Shape{"Field": {true, square}} }, false},
		"of a make's own":       {func(c *Config) { c.Maker = true }, false},
	} {
		c := good
		c.Values = maps.Clone(good.Values)
		x.change(&c)
		if r, ok := c.Says(); ok != x.ok {
			t.Errorf("%s: %t: %+v", name, ok, r)
		}
	}
	all, _ := scene.UnpackCells(seesCells.Grid, "0P8A8A==")
	whole := Rule{Name: "m", Kind: Moves, Cells: all}
	for part, x := range map[string]struct {
		can  func(*Supported)
		rule func(*Rule)
	}{
		"kind":    {func(s *Supported) { s.Types[0].Values = map[string]string{"MinCount": "int"} }, func(*Rule) {}},
		"cells":   {func(s *Supported) { s.Grid.Columns = 16 }, func(*Rule) {}},
		"classes": {func(*Supported) {}, func(r *Rule) { r.Classes = []string{"Human"} }},
		"score":   {func(*Supported) {}, func(r *Rule) { r.MinScore = 0.5 }},
		"height":  {func(*Supported) {}, func(r *Rule) { r.Lowest = 0.5 }},
		"hours":   {func(*Supported) {}, func(r *Rule) { r.Hours.To = 60 }},
	} {
		can, r := seesCells, whole
		can.Types = []Type{seesCells.Types[0]}
		x.can(&can)
		x.rule(&r)
		if _, cant := can.Write(r); len(cant) != 1 || cant[0].Part != part {
			t.Errorf("%s: %v", part, cant)
		}
	}
	if why := (Supported{Types: seesCells.Types}).Lacks(Moves); !strings.Contains(why, "no cells") {
		t.Errorf("without a grid: %q", why)
	}
	if why := seesCells.Lacks(Moves); why != "" {
		t.Error(why)
	}
	if hits := Rehearse(whole, walks(-0.5), Span{}); len(hits) != 0 {
		t.Errorf("objects tell of motion: %v", hits)
	}
}

package rule

import (
	"fmt"
	"strconv"
	"time"

	"duskyharbor/internal/core/scene"
)

// Moves is motion in at least Count of the cells, going on for For; it has ended when nothing moved for Break. It is of the
// picture, not of objects: nothing that analytics tell of objects says when it would fire.
const Moves Kind = "Moves"

// cellMotionDetector is the standard's type for it (ONVIF Analytics, Annex B.3), with its parameters.
const (
	cellMotionDetector = "CellMotionDetector"
	minCount           = "MinCount"
	onDelay            = "AlarmOnDelay"  // milliseconds
	offDelay           = "AlarmOffDelay" // milliseconds
	activeCells        = "ActiveCells"
)

// Module is one of a camera's analytics modules (tt:Config of GetAnalyticsModules, ONVIF Analytics 5.2.4).
type Module struct {
	Name   string            `json:"name"`
	Type   string            `json:"type"` // local name: "CellMotionEngine"
	Values map[string]string `json:"values,omitempty"`
	Grid   scene.Grid        `json:"grid,omitzero"` // of its CellLayout
}

// Foretold says whether what analytics tell of objects says when a rule of the kind fires.
func (k Kind) Foretold() bool { return k != Moves }

// GridOf is that of the cells by which modules see motion; the zero Grid: none has any.
func GridOf(all []Module) scene.Grid {
	for _, m := range all {
		if m.Grid.Valid() {
			return m.Grid
		}
	}
	return scene.Grid{}
}

// Over is the rule of a camera that has cells of a grid.
func (c Config) Over(g scene.Grid) Config {
	if c.Type == cellMotionDetector && !c.Maker {
		c.Grid = g
	}
	return c
}

// checkCells says what is wrong with a rule of motion; empty: nothing.
func (r Rule) checkCells() string {
	on := r.Cells.Count()
	switch {
	case !r.Cells.Valid() || len(r.Cells.On) != r.Cells.Columns*r.Cells.Rows || on == 0:
		return "paint the cells in which motion counts"
	case r.Count > on:
		return fmt.Sprintf("%d cells are painted, and %d must move", on, r.Count)
	}
	return ""
}

// saysCells is a rule of motion as a sentence.
func (c Config) saysCells() (r Rule, ok bool) {
	r = Rule{Name: c.Name, Kind: Moves}
	if len(c.Shapes) > 0 || len(c.Others) > 0 {
		return r, false
	}
	for name, value := range c.Values {
		n, err := strconv.Atoi(value)
		switch {
		case name == activeCells:
			if r.Cells, err = scene.UnpackCells(c.Grid, value); err != nil {
				return r, false
			}
		case err != nil || n < 0:
			return r, false
		case name == minCount:
			r.Count = n
		case name == onDelay:
			r.For = time.Duration(n) * time.Millisecond
		case name == offDelay:
			r.Break = max(time.Millisecond, time.Duration(n)*time.Millisecond) // at once is told, and not left to what is usual
		default:
			return r, false
		}
	}
	return r, r.Check() == nil
}

// writeCells is a rule of motion in the camera's own parameters; no tells what it can't do of it.
func (s Supported) writeCells(r Rule, t Type, c Config, no func(part, format string, args ...any)) Config {
	if r.Cells.Grid != s.Grid {
		no("cells", "its picture has %d by %d cells, and %d by %d were painted: paint them anew", s.Grid.Columns, s.Grid.Rows, r.Cells.Columns, r.Cells.Rows)
	}
	c.Grid = s.Grid
	for name, value := range map[string]string{minCount: strconv.Itoa(r.count()), onDelay: strconv.FormatInt(r.For.Milliseconds(), 10),
		offDelay: strconv.FormatInt(r.pause().Milliseconds(), 10), activeCells: r.Cells.Pack()} {
		if _, there := t.Values[name]; there {
			c.Values[name] = value
		}
	}
	if _, there := c.Values[activeCells]; !there {
		no("kind", "its %s takes no cells", t.Name)
	}
	if len(r.Classes) > 0 {
		no("classes", "motion is of anything: it knows no classes")
	}
	if r.Traits.Any() {
		no("traits", "motion is of anything: it knows no colours, nor what someone wears")
	}
	if r.MinScore > 0 {
		no("score", "motion has no score")
	}
	return c
}

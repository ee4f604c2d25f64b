// Package rule says what an analytics rule means, exactly, and runs it over
// tracks: the same meaning for the rehearsal of a drawing and for checking what a
// camera reports. Rule types are those of the ONVIF Analytics Service
// Specification, Annex A (LineDetector A.2.1, FieldDetector A.2.2).
package rule

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/scene"
)

// Direction of a crossing, seen along the line from its first to its last point.
type Direction string

const (
	Either      Direction = "Any"
	LeftToRight Direction = "Right"
	RightToLeft Direction = "Left"
)

// margin is how far, in frame units, an anchor must have left a line before it
// can fire on it again; it keeps a person who sways on the line from firing at
// every step.
const margin = 0.02

// Share is the part of a box that must lie in an area for the object to be in it.
const Share = 0.5

// Rule is one drawn rule. Line is used by Crosses, Area by Inside.
type Rule struct {
	Name      string
	Kind      Kind
	Line      scene.Line
	Area      scene.Polygon
	Direction Direction // of Crosses; zero value means Either
	Classes   []string  // empty: every class
	MinScore  float64   // 0…1
}

// Kind is what the rule watches for.
type Kind string

const (
	Crosses Kind = "Crosses"
	Inside  Kind = "Inside"
)

// Hit is one firing. For Inside, On tells coming in from going out; a crossing is
// always On.
type Hit struct {
	Rule   string
	Object string
	At     time.Duration
	On     bool
}

// Check returns scene.ErrShape when the rule's drawing can't fire.
func (r Rule) Check() error {
	if r.Kind == Inside {
		return r.Area.Check()
	}
	return r.Line.Check()
}

// Engine runs one rule over observations in the order they are given. The zero
// Engine with a Rule set is ready.
type Engine struct {
	Rule   Rule
	tracks map[string]*track
}

type track struct {
	last  scene.Point
	armed bool
	in    bool
	seen  bool
}

// Feed takes one observation and returns what it fired.
func (e *Engine) Feed(o scene.Observation) []Hit {
	if !e.Rule.matches(o) {
		return nil
	}
	if e.tracks == nil {
		e.tracks = map[string]*track{}
	}
	tr := e.tracks[o.Object]
	if tr == nil {
		tr = &track{armed: true}
		e.tracks[o.Object] = tr
	}
	if e.Rule.Kind == Inside {
		return e.inside(tr, o)
	}
	return e.crosses(tr, o)
}

// Forget drops a track; an object that was in an area goes out of it.
func (e *Engine) Forget(object string, at time.Duration) []Hit {
	tr := e.tracks[object]
	delete(e.tracks, object)
	if tr != nil && tr.in {
		return []Hit{{Rule: e.Rule.Name, Object: object, At: at}}
	}
	return nil
}

func (r Rule) matches(o scene.Observation) bool {
	if o.Score < r.MinScore {
		return false
	}
	if len(r.Classes) == 0 {
		return true
	}
	for _, c := range r.Classes {
		if c == o.Class {
			return true
		}
	}
	return false
}

// crosses fires when the anchor's path meets the line; not again before the
// anchor has been further than Margin from it.
func (e *Engine) crosses(tr *track, o scene.Observation) []Hit {
	here := o.Box.Anchor()
	from := tr.last
	first := !tr.seen
	tr.last, tr.seen = here, true
	if first {
		return nil
	}
	fired := false
	for i := 1; i < len(e.Rule.Line) && tr.armed && !fired; i++ {
		a, b := e.Rule.Line[i-1], e.Rule.Line[i]
		if !scene.Meets(a, b, from, here) {
			continue
		}
		fired = e.Rule.wants(scene.Side(a, b, from), scene.Side(a, b, here))
	}
	if e.Rule.Line.Distance(here) > margin {
		tr.armed = true
	} else if fired {
		tr.armed = false
	}
	if !fired {
		return nil
	}
	return []Hit{{Rule: e.Rule.Name, Object: o.Object, At: o.At, On: true}}
}

func (r Rule) wants(from, to int) bool {
	switch r.Direction {
	case LeftToRight:
		return from > to
	case RightToLeft:
		return from < to
	}
	return true
}

func (e *Engine) inside(tr *track, o scene.Observation) []Hit {
	size := o.Box.Area()
	in := size > 0 && e.Rule.Area.Overlap(o.Box)/size >= Share
	if in == tr.in {
		return nil
	}
	tr.in = in
	return []Hit{{Rule: e.Rule.Name, Object: o.Object, At: o.At, On: in}}
}

// Rehearse runs a rule over whole tracks and returns every hit.
func Rehearse(r Rule, observations []scene.Observation) []Hit {
	e := Engine{Rule: r}
	var hits []Hit
	for _, o := range observations {
		hits = append(hits, e.Feed(o)...)
	}
	return hits
}

// Ground is what some rules watch for, in words and exactly, in whatever order they are told.
func Ground(all []Rule) (words, exact string) {
	parts := make([]string, len(all))
	for i, r := range all {
		parts[i] = fmt.Sprintf("%+v", r)
	}
	slices.Sort(parts)
	names := make([]string, len(all))
	for i, r := range all {
		names[i] = r.Name
	}
	slices.Sort(names)
	if len(all) == 0 {
		return "none", "none"
	}
	return strings.Join(names, ", "), strings.Join(parts, "\n")
}

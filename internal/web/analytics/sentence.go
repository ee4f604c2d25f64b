package analytics

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/site"
	"duskyharbor/internal/web/shell"
)

// sentence is the form of a rule.
type sentence struct {
	shell.Form
	ID      int64
	Kinds   []kind
	Classes []class
	Colours []class
	Carries []class
	Cant    []rule.Cant   // what the camera can't do of what is kept
	Grid    scene.Grid    // of the cells that are painted: the camera's
	Painted string        // what is painted, in those
	Upright scene.Upright // of its picture, by two marks of known size
	by      map[string]int
}

type kind struct {
	Value, Says string
	On          bool
	Not         bool   // the camera knows none that says it
	Own         string // its make's own type that is taken for it
	Line, For   bool
	Cells       bool // it is painted in cells
}

// class is something that is ticked.
type class struct {
	Name  string
	On    bool
	Says  string
	Of    string // the field: "class", "colour", "has", "lacks"
	Label string
}

// Of is a field of the sentence by its name.
func (s sentence) Of(name string) shell.Field { return s.Fields[s.by[name]] }

// Tall says whether metres are asked for, or can be.
func (s sentence) Tall() bool {
	return s.Upright.Known() || s.Of("shortest").Value != "" || s.Of("tallest").Value != ""
}

// Part says why the camera can't do a part; empty: it can.
func (s sentence) Part(name string) string {
	for _, c := range s.Cant {
		if c.Part == name {
			return c.Why
		}
	}
	return ""
}

// Usual classes of objects (tt:ObjectType).
var usual = []string{"Human", "Vehicle", "Animal", "Face", "LicensePlate"}

func sentenceOf(p *shell.Request, of site.Source, d rule.Drawn, can rule.Supported) *sentence {
	s := &sentence{ID: d.ID, by: map[string]int{}}
	if of.Marks != nil {
		s.Upright = of.Marks.Upright()
	}
	figure := func(v float64) string {
		if v == 0 {
			return ""
		}
		return strconv.FormatFloat(v, 'g', 6, 64)
	}
	from, to := "", ""
	if h := d.Hours; h.From != h.To {
		from, to = fmt.Sprintf("%02d:%02d", h.From/60, h.From%60), fmt.Sprintf("%02d:%02d", h.To/60, h.To%60)
	}
	points := rule.FormatPoints(d.Area)
	if d.Kind == rule.Crosses {
		points = rule.FormatPoints(d.Line)
	}
	without := make([]string, len(d.Without))
	for i, w := range d.Without {
		without[i] = rule.FormatPoints(w)
	}
	s.Form = p.Form(shell.Form{Act: "analytics/draw", ID: "rule", Do: "Keep the drawing", Fields: []shell.Field{
		{Name: "source", Kind: shell.AsFixed, Value: strconv.FormatInt(of.ID, 10)},
		{Name: "rule", Kind: shell.AsFixed, Value: strconv.FormatInt(d.ID, 10)},
		{Name: "name", Label: "Name", Value: d.Name, Most: 64, Like: "its name"},
		{Name: "kind", Label: "does what", Kind: shell.AsChoice, Value: string(d.Kind)},
		{Name: "direction", Label: "Direction", Kind: shell.AsChoice, Value: string(cmp.Or(d.Direction, rule.Either)),
			Options: []shell.Option{{Value: "Any", Says: "either way"}, {Value: "Right", Says: "to its right"}, {Value: "Left", Says: "to its left"}}},
		{Name: "points", Label: "Points", Value: points, Most: 900, Mono: true, Like: "20 10, 40 10, 30 30"},
		{Name: "cells", Label: "Cells", Value: d.Cells.String(), Most: 70000, Mono: true, Like: "rows of # and . with / between"},
		{Name: "break", Label: "Seconds of a break", Value: figure(d.Break.Seconds()), Like: "1", Narrow: true},
		{Name: "without", Label: "Left out", Value: strings.Join(without, "; "), Most: 900, Mono: true, Like: "none"},
		{Name: "count", Label: "How many", Value: figure(float64(d.Count)), Like: "2", Narrow: true},
		{Name: "for", Label: "Seconds", Value: figure(d.For.Seconds()), Like: "8", Narrow: true},
		{Name: "speed", Label: "Pictures a second", Value: figure(d.Speed), Like: "0.5", Narrow: true},
		{Name: "share", Label: "Share of a box that must be in, in %", Value: figure(100 * d.Share), Like: "50", Narrow: true},
		{Name: "margin", Label: "How far it leaves the line before it fires again, in % of the picture", Value: figure(50 * d.Margin), Like: "1", Narrow: true},
		{Name: "score", Label: "Least score", Value: figure(d.MinScore), Like: "any", Narrow: true},
		{Name: "lowest", Label: "Least height in % of the picture", Value: figure(100 * d.Lowest), Like: "any", Narrow: true},
		{Name: "highest", Label: "Greatest height in % of the picture", Value: figure(100 * d.Highest), Like: "any", Narrow: true},
		{Name: "shortest", Label: "Least height in metres", Value: figure(d.Shortest), Like: "any", Narrow: true},
		{Name: "tallest", Label: "Greatest height in metres", Value: figure(d.Tallest), Like: "any", Narrow: true},
		{Name: "from", Label: "From", Value: from, Like: "00:00", Narrow: true},
		{Name: "to", Label: "To", Value: to, Like: "24:00", Narrow: true},
	}})
	for i, f := range s.Fields {
		s.by[f.Name] = i
	}
	s.Grid = can.Grid
	if !s.Grid.Valid() {
		s.Grid = cmp.Or(d.Cells.Grid, scene.Grid{Columns: 22, Rows: 18})
	}
	if cells, err := scene.ParseCells(s.Of("cells").Value); err == nil {
		s.Painted = cells.Over(s.Grid).String()
	}
	chosen := rule.Kind(s.Of("kind").Value)
	for _, k := range rule.Kinds {
		s.Kinds = append(s.Kinds, kind{Value: string(k), Says: k.Verb(), On: k == chosen, Not: can.Lacks(k) != "", Own: can.Own(k), Line: k == rule.Crosses, For: k.Lasts(), Cells: k == rule.Moves})
	}
	names := slices.Clone(usual)
	for _, t := range can.Types {
		if len(t.Classes) > 0 {
			names = slices.Clone(t.Classes)
		}
	}
	for _, c := range d.Classes {
		if !slices.Contains(names, c) {
			names = append(names, c)
		}
	}
	on := d.Classes
	if p.Refuses("analytics/draw") {
		on = p.Fields("analytics/draw", "class")
	}
	for _, c := range names {
		s.Classes = append(s.Classes, class{Name: c, On: slices.Contains(on, c), Says: strings.ToLower(c), Of: "class", Label: c})
	}
	asks := d.Traits
	if p.Refuses("analytics/draw") {
		asks = rule.Traits{Colours: words[scene.Colour](p, "colour"), Has: words[scene.Carried](p, "has"), Lacks: words[scene.Carried](p, "lacks")}
	}
	for _, c := range scene.Colours {
		s.Colours = append(s.Colours, class{Name: string(c), On: slices.Contains(asks.Colours, c), Says: strings.ToLower(string(c)), Of: "colour", Label: strings.ToLower(string(c))})
	}
	for _, c := range scene.Carrieds {
		has, lacks := rule.Traits{Has: []scene.Carried{c}}.Words(), rule.Traits{Lacks: []scene.Carried{c}}.Words()
		s.Carries = append(s.Carries, class{string(c), slices.Contains(asks.Has, c), has, "has", has},
			class{string(c), slices.Contains(asks.Lacks, c), lacks, "lacks", lacks})
	}
	if d.Name != "" {
		_, s.Cant = can.Write(d.Rule)
	}
	return s
}

// words are what was ticked in a form that comes back.
func words[T ~string](p *shell.Request, field string) (out []T) {
	for _, v := range p.Fields("analytics/draw", field) {
		out = append(out, T(v))
	}
	return out
}

// Who is whom the rule is about, in words.
func (s sentence) Who() string { return ticked(s.Classes, ", ", "anything") }

// Colour is what colour it has, in words.
func (s sentence) Colour() string { return ticked(s.Colours, " or ", "any colour") }

// Carry is what it carries or wears, in words.
func (s sentence) Carry() string { return ticked(s.Carries, ", ", "however dressed") }

func ticked(all []class, between, none string) string {
	var on []string
	for _, c := range all {
		if c.On {
			on = append(on, c.Says)
		}
	}
	return cmp.Or(strings.Join(on, between), none)
}

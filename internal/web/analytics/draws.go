package analytics

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/web/shell"
)

// Draws is how a change of a rule is drawn: over the frame of the picture.
func (*Page) Draws() map[string]shell.Draw {
	draw := func(args map[string]string) (from, to shell.Sketch, ok bool) {
		was, err := rule.ConfigOf(args["old_rule"])
		is, err2 := rule.ConfigOf(args["rule"])
		return sketch(was), sketch(is), err == nil && err2 == nil
	}
	return map[string]shell.Draw{rule.WriteRule: draw, rule.RemoveRule: draw}
}

func sketch(c *rule.Config) shell.Sketch {
	s := shell.Sketch{Name: rule.None, Width: 64, Height: 36, Parts: []shell.SketchPart{{W: 64, H: 36, Class: "ground"}}}
	if c == nil {
		return s
	}
	s.Name = c.Type
	if r, ok := c.Says(); ok {
		for _, b := range r.Cells.Runs() {
			s.Areas = append(s.Areas, points([]scene.Point{{X: b.Left, Y: b.Top}, {X: b.Right, Y: b.Top}, {X: b.Right, Y: b.Bottom}, {X: b.Left, Y: b.Bottom}}, s))
		}
		s.Name = short(r)
		if len(r.Classes) > 0 {
			s.Name = strings.ToLower(strings.Join(r.Classes, ", ")) + " " + s.Name
		}
	}
	for _, shape := range c.Shapes {
		if shape.Closed {
			s.Areas = append(s.Areas, points(shape.Points, s))
		} else {
			s.Lines = append(s.Lines, points(shape.Points, s))
		}
	}
	return s
}

// points on a sketch, for SVG.
func points(all []scene.Point, s shell.Sketch) string {
	parts := make([]string, len(all))
	for i, p := range all {
		parts[i] = fmt.Sprintf("%.1f,%.1f", (p.X+1)/2*s.Width, (1-p.Y)/2*s.Height)
	}
	return strings.Join(parts, " ")
}

// Sheet lists the rules of the camera, and what it knows.
func (pg *Page) Sheet(ctx context.Context, p *shell.Request, sh *shell.Sheet) (err error) {
	of, v := sh.Row.Source, sh.Snapshot
	f, drawn := facts.ForRules(v, of)
	at := facts.RuleSet.ReadAt(v, of)
	for _, t := range f.Supported.Types {
		says := "parameters " + strings.Join(parameters(t), ", ")
		if k := f.Supported.OwnOf(t.Name); k != "" {
			says = fmt.Sprintf("its make's own: by its name taken for “%s”; ", k.Verb()) + says
		}
		if t.Points > 0 {
			says += fmt.Sprintf("; up to %d points", t.Points)
		}
		if len(t.Classes) > 0 {
			says += "; tells " + strings.Join(t.Classes, ", ")
		}
		sh.Fact("Knows "+t.Name, says, at)
	}
	if e, _ := facts.RuleSet.Of(v, of); len(e.Modules) > 0 {
		for _, m := range e.Modules {
			says := m.Type
			if m.Grid.Valid() {
				says += fmt.Sprintf(", %d by %d cells", m.Grid.Columns, m.Grid.Rows)
			}
			for _, name := range slices.Sorted(maps.Keys(m.Values)) {
				says += ", " + name + " " + m.Values[name]
			}
			sh.Fact("Module "+m.Name, says, at)
		}
	}
	if f.Supported.Most > 0 {
		sh.Fact("Keeps", shell.Plural(f.Supported.Most, "rule")+" at the most", at)
	}
	for _, s := range standings(f, drawn) {
		sh.Fact(s.Name, s.Whole+": "+string(s.State), at)
	}
	if e, _ := facts.RuleSet.Of(v, of); !e.Frame.Standard() {
		sh.Fact("Counts", fmt.Sprintf("0 to %g across and 0 to %g down, from the upper left corner: its drawings are converted", e.Frame.Wide, e.Frame.High), at)
	}
	if f.Turned != 0 {
		sh.Fact("Its analytics look at", "its picture "+f.Turned.Words()+", as was said here: its drawings are converted", time.Time{})
	}
	if f.Sits != nil {
		sh.Fact("Its boxes", f.Sits.Words()+fmt.Sprintf(" (%d stills)", f.Sits.Glimpses), f.SatAt)
	}
	if f.Recorder != "" {
		says := "passes its events"
		if f.Drops {
			says = "drops its events"
		}
		sh.Fact("Its way into "+f.Recorder, says, site.Recorder.ReadAt(v, recorderOf(v, of)))
	}
	sh.Verb = "Write the rules of "
	sh.Readable, err = pg.ReadableNow(ctx, p, sh)
	return err
}

func recorderOf(v *site.Snapshot, of site.Source) int64 {
	rec, _, _ := v.HolderOf(of)
	return rec.ID
}

func parameters(t rule.Type) (out []string) {
	for name := range t.Values {
		out = append(out, name)
	}
	for name := range t.Shapes {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

package streams

import (
	"fmt"
	"strings"

	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// made is how a view's picture is made, for its sheet.
type made struct {
	Source  int64
	Texts   bool
	Plain   bool
	Masks   []maskLine
	Hides   bool   // it hides parts
	Room    bool   // for one more
	Tool    string // that draws one: box, polygon
	Corners int    // at most; 0: not told
	Choices []picture.Choice
	Sharp   string // how sharp its last still is
	PTZ     *picture.PTZ
	Aim     string
	Limits  string
	Tried   *picture.Tried
}

// maskLine is one mask as it is listed, by its place among them.
type maskLine struct {
	I    int
	Says string
}

// madeOf is nil where it wasn't read.
func madeOf(v *site.Snapshot, of store.Source) *made {
	s, w := facts.ForPicture(v, of)
	if s == nil {
		return nil
	}
	m := &made{Source: of.ID, Texts: s.Texts != nil, PTZ: s.PTZ, Tried: w.Tried}
	m.Plain = m.Texts && s.Texts.Plain
	if s.Masks != nil {
		for i, a := range s.Masks.Areas() {
			m.Masks = append(m.Masks, maskLine{i, picture.AreasText([]scene.Polygon{a})})
		}
		m.Hides, m.Room = true, s.Masks.Most == 0 || len(s.Masks.All) < s.Masks.Most
		m.Tool, m.Corners = "polygon", s.Masks.Corners
		if s.Masks.Rectangle {
			m.Tool = "box"
		}
	}
	if s.Imaging != nil {
		m.Choices = s.Imaging.Properties()
	}
	if f, _ := facts.ForStreams(v, of); f.Still != nil {
		m.Sharp = fmt.Sprintf("%.0f", 100*f.Still.Print.Sharp)
	}
	if p := s.PTZ; p != nil && p.At != nil {
		m.Aim, m.Limits = p.At.Text(), p.Limits()
	}
	return m
}

// Any says whether there is anything to set.
func (m *made) Any() bool {
	return m != nil && (m.Texts || m.Hides || len(m.Choices) > 0 || m.PTZ != nil)
}

// viewFacts adds to a sheet what is known of how the view's picture is made.
func viewFacts(sh *shell.Sheet, v *site.Snapshot, of store.Source) {
	s, w := facts.ForPicture(v, of)
	if s == nil {
		return
	}
	at := facts.Setup.ReadAt(v, of)
	if s.Texts != nil {
		sh.Fact("Burned in", s.Texts.State(picture.Name)+"; "+s.Texts.State(picture.Time), at)
	}
	if s.Masks != nil {
		sh.Fact("Hidden", picture.AreasText(s.Masks.Areas()), at)
	}
	if s.Imaging != nil {
		var parts []string
		for _, c := range s.Imaging.Properties() {
			parts = append(parts, string(c.Property)+" "+c.Says(c.Now))
		}
		if len(parts) > 0 {
			sh.Fact("Takes its pictures", strings.Join(parts, ", "), at)
		}
	}
	if p := s.PTZ; p != nil {
		says := "it doesn't tell"
		if p.At != nil {
			says = p.At.Text()
		}
		sh.Fact("Looks at", says, at)
		if w.Tried != nil {
			sh.Fact("Nudged", w.Tried.Text(), w.Tried.At)
		}
	}
}

// Draws is how a change of masks is drawn: over the frame of the picture.
func (*Page) Draws() map[string]shell.Draw {
	return map[string]shell.Draw{picture.SetMasks: func(args map[string]string) (from, to shell.Sketch, ok bool) {
		was, err := picture.ParseAreas(args["old_masks"])
		is, err2 := picture.ParseAreas(args["masks"])
		return sketchAreas(was), sketchAreas(is), err == nil && err2 == nil
	}}
}

func sketchAreas(all []scene.Polygon) shell.Sketch {
	s := shell.Sketch{Name: "nothing hidden", Width: 64, Height: 36, Parts: []shell.SketchPart{{W: 64, H: 36, Class: "ground"}}}
	if len(all) > 0 {
		s.Name = shell.Plural(len(all), "mask")
	}
	for _, a := range all {
		s.Areas = append(s.Areas, points(a, s.Width, s.Height))
	}
	return s
}

// points are the corners of an area on a picture of a size, for SVG.
func points(a scene.Polygon, width, height float64) string {
	parts := make([]string, len(a))
	for i, p := range a {
		parts[i] = fmt.Sprintf("%.1f,%.1f", (p.X+1)/2*width, (1-p.Y)/2*height)
	}
	return strings.Join(parts, " ")
}

// hidden are the masks as they lie over the picture.
func hidden(s *picture.Setup) (out []shell.Shape) {
	if s == nil || s.Masks == nil {
		return nil
	}
	for _, a := range s.Masks.Areas() {
		out = append(out, shell.AreaMark("hiddenpart", a))
	}
	return out
}

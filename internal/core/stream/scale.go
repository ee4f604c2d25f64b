package stream

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/trouble"
)

// Mark is something of known size on a view's picture: a line from one spot to another, as
// parts of the picture's width and height from its left upper corner, and its length.
type Mark struct {
	X1     float64 `json:"x1"`
	Y1     float64 `json:"y1"`
	X2     float64 `json:"x2"`
	Y2     float64 `json:"y2"`
	Metres float64 `json:"metres"`
}

// ParseMark reads where a mark lies as a person types it: the two ends' distances from the left and
// from the top, in hundredths of the picture's width and height: "42 80, 42 55".
func ParseMark(text string) (m Mark, err error) {
	parts := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' || r == ';' || r == '%' || r == '\t' })
	if len(parts) != 4 {
		return m, errMarkText
	}
	for i, v := range []*float64{&m.X1, &m.Y1, &m.X2, &m.Y2} {
		x, err := strconv.ParseFloat(parts[i], 64)
		if err != nil || !(x >= 0 && x <= 100) {
			return m, errMarkText
		}
		*v = x / 100
	}
	return m, nil
}

// Scale is what pixels per metre are reckoned from: two marks, with the picture's size when
// they were set.
type Scale struct {
	Marks [2]Mark `json:"marks"`
	Size  Size    `json:"size"`
	By    string  `json:"by"`
	Aim   string  `json:"aim,omitempty"`  // where the camera looked, where it can be turned
	Seen  *Print  `json:"seen,omitempty"` // of its still
}

// Level is a grade of a picture by EN 62676-4: what a picture with at least so many pixels per
// metre is good for.
type Level struct {
	Name     string
	PerMetre float64
}

// levelsOf says of when the table below is.
const levelsOf = "EN 62676-4:2015"

// Levels of EN 62676-4:2015, table 1, from the least to the most.
var Levels = []Level{{"monitor", 12.5}, {"detect", 25}, {"observe", 62.5}, {"recognise", 125}, {"identify", 250}, {"inspect", 1000}}

// levelFor is the highest level that so many pixels per metre reach; ok is false below all.
func levelFor(perMetre float64) (l Level, ok bool) {
	for _, x := range Levels {
		if perMetre*(1+1e-9) >= x.PerMetre { // a billionth is the reckoning's own
			l, ok = x, true
		}
	}
	return l, ok
}

// Errors of a scale.
var (
	errMarkText  = trouble.UserError("Draw both marks on the picture, or type the ends of each: from the left and from the top, in hundredths of the picture, as 42 80, 42 55.")
	errMarkSize  = trouble.UserError("A mark is something from 0.1 to 50 m long.")
	errMarkShort = trouble.UserError("Draw a mark over at least 8 pixels: a shorter one tells too little.")
	errMarkRow   = trouble.UserError("Set one mark nearer and one farther away: at least a tenth of the picture's height apart.")
	errMarkOff   = trouble.UserError("A mark lies outside the picture.")
	errMarkSense = trouble.UserError("By these marks what is farther away would be larger: see which is which.")
)

// pixels is a mark's length on a picture of that size.
func (m Mark) pixels(s Size) float64 {
	return math.Hypot((m.X2-m.X1)*float64(s.Width), (m.Y2-m.Y1)*float64(s.Height))
}

// foot is the row on which a mark stands: its lowest spot, as a part of the picture's height.
func (m Mark) foot() float64 { return max(m.Y1, m.Y2) }

// Check says what is wrong with a scale.
func (s Scale) Check() error {
	for _, m := range s.Marks {
		for _, v := range []float64{m.X1, m.Y1, m.X2, m.Y2} {
			if !(v >= 0 && v <= 1) { // also where it is no number
				return errMarkOff
			}
		}
		if !(m.Metres >= 0.1 && m.Metres <= 50) {
			return errMarkSize
		}
		if m.pixels(s.Size) < 8 {
			return errMarkShort
		}
	}
	near, far := s.order()
	switch {
	case near.foot()-far.foot() < 0.1:
		return errMarkRow
	case near.pixels(s.Size)/near.Metres < far.pixels(s.Size)/far.Metres:
		return errMarkSense
	}
	return nil
}

// order is the nearer mark, the one that stands lower in the picture, and the farther.
func (s Scale) order() (near, far Mark) {
	near, far = s.Marks[0], s.Marks[1]
	if far.foot() > near.foot() {
		near, far = far, near
	}
	return near, far
}

// At is the pixels per metre of what stands on the ground at a row, as a part of the picture's
// height from its top, 0 above the horizon that the marks give. On flat ground seen by a lens
// that bends no lines the scale grows with the distance from the horizon's row, evenly.
func (s Scale) At(row float64) float64 {
	near, far := s.order()
	a, b := near.pixels(s.Size)/near.Metres, far.pixels(s.Size)/far.Metres
	rise := (a - b) / (near.foot() - far.foot())
	return max(0, b+rise*(row-far.foot()))
}

// Upright is the same of what stands upright, in the frame of scene.
func (s Scale) Upright() scene.Upright {
	near, far := s.order()
	a, b := near.pixels(s.Size)/near.Metres, far.pixels(s.Size)/far.Metres
	rise, high := (a-b)/(near.foot()-far.foot()), float64(s.Size.Height)
	return scene.Upright{Middle: 2 * (b + rise*(0.5-far.foot())) / high, Rise: -rise / high}
}

// Row is the row from which on at least so many pixels per metre are had, as At; ok is false
// where the picture has none.
func (s Scale) Row(perMetre float64) (row float64, ok bool) {
	near, far := s.order()
	a, b := near.pixels(s.Size)/near.Metres, far.pixels(s.Size)/far.Metres
	rise := (a - b) / (near.foot() - far.foot())
	if rise <= 0 { // the same everywhere
		return 0, b >= perMetre
	}
	row = far.foot() + (perMetre-b)/rise
	return max(0, row), row <= 1
}

// Band is a strip of the picture, from a row to a row from its top, that reaches one level and
// not the next.
type Band struct {
	Level    Level // zero: below all
	Top, End float64
}

// Bands are the strips of a picture from its top down.
func (s Scale) Bands() []Band {
	out := []Band{{End: 1}}
	for _, l := range Levels {
		row, ok := s.Row(l.PerMetre)
		if !ok {
			break
		}
		out[len(out)-1].End = row
		out = append(out, Band{l, row, 1})
	}
	kept := out[:0]
	for _, b := range out {
		if b.End-b.Top > 1e-9 {
			kept = append(kept, b)
		}
	}
	return kept
}

// Needs says what picture would give a level at a row: how wide it would have to be at this
// lens, and by how much the lens would have to be longer at this size. ok is false above the
// horizon.
func (s Scale) Needs(l Level, row float64) (width int, longer float64, ok bool) {
	has := s.At(row)
	if has <= 0 {
		return 0, 0, false
	}
	longer = l.PerMetre / has
	return int(math.Ceil(float64(s.Size.Width) * longer)), longer, true
}

// Stale says why the marks don't tell any more: the picture has another size, the camera looks
// elsewhere, or its still shows something else; empty where they do. What isn't known isn't
// compared.
func (s Scale) Stale(now Size, aim string, still *Seen) string {
	switch {
	case now.pixels() > 0 && now != s.Size:
		return fmt.Sprintf("The marks were set at %d × %d; the picture is %d × %d now.", s.Size.Width, s.Size.Height, now.Width, now.Height)
	case s.Aim != "" && aim != "" && aim != s.Aim:
		return fmt.Sprintf("The marks were set at %s; it looks at %s now.", s.Aim, aim)
	case s.Seen != nil && still != nil && s.Seen.LightOf() == still.Print.LightOf() && s.Seen.Likeness(still.Print) < like:
		return "The view was moved or zoomed since the marks were set: its picture shows something else."
	}
	return ""
}

// Marked is the size of the picture on which marks are set: of the stream that the recorder takes,
// else of the largest; as it came, else as it is declared.
func (f Facts) Marked(codecs []string) Size {
	record, _ := Roles(f.Profiles, codecs)
	if record == "" {
		record, _ = Roles(f.Profiles, nil)
	}
	p, m, _ := f.Find(record)
	if m != nil && m.Width > 0 {
		return Size{m.Width, m.Height}
	}
	return Size{p.Width, p.Height}
}

// Text words what the picture is good for at its lower edge, and what the next level takes.
func (s Scale) Text() string {
	has := s.At(1)
	l, ok := levelFor(has)
	text := fmt.Sprintf("At its lower edge %.0f pixels per metre", has)
	if ok {
		text += ": enough to " + l.Name
	}
	for _, next := range Levels {
		if next.PerMetre > has {
			if width, longer, ok := s.Needs(next, 1); ok {
				text += fmt.Sprintf(". To %s there it takes a picture %d wide, or a lens %.1f times as long", next.Name, width, longer)
			}
			break
		}
	}
	return text + " (" + levelsOf + ")."
}

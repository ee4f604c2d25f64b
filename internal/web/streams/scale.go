package streams

import (
	"fmt"
	"strconv"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
	"duskyharbor/internal/web/shell"
)

// scaleView is how many pixels per metre a view has, as bands over its picture of 1,600 × 900
// units.
type scaleView struct {
	Set   bool
	Stale string // why it doesn't tell any more
	Bands []scaleBand
	Marks []markLine
	Says  string
	Size  stream.Size // of the picture that is marked; 0 × 0: not known
}

const (
	scaleWidth  = 1600
	scaleHeight = 900
)

type scaleBand struct {
	Y, H  float64
	Name  string
	Class string
}

// roomy is the least height of a band that carries its name.
const roomy = 56

// Label is where its name stands, nil where it has no room.
func (b scaleBand) Label() *scaleLabel {
	if b.H < roomy {
		return nil
	}
	return &scaleLabel{b.Name, b.Y + 48}
}

type scaleLabel struct {
	Name string
	Y    float64
}

type markLine struct {
	X1, Y1, X2, Y2 float64
	Label          string
}

// scaleOf reckons with the picture that the recorder takes.
func scaleOf(of site.Source, f stream.Facts, w stream.Wishes, aim string) scaleView {
	v := scaleView{Size: f.Marked(w.Codecs)}
	s := of.Marks
	if s == nil {
		return v
	}
	v.Set, v.Stale = true, s.Stale(v.Size, aim, f.Still)
	for _, b := range s.Bands() {
		name, class := "below "+stream.Levels[0].Name, "b0"
		for i, l := range stream.Levels {
			if l == b.Level {
				name, class = fmt.Sprintf("%s, from %g", l.Name, l.PerMetre), "b"+strconv.Itoa(i+1)
			}
		}
		v.Bands = append(v.Bands, scaleBand{b.Top * scaleHeight, (b.End - b.Top) * scaleHeight, name, class})
	}
	for _, k := range s.Marks {
		v.Marks = append(v.Marks, markLine{k.X1 * scaleWidth, k.Y1 * scaleHeight, k.X2 * scaleWidth, k.Y2 * scaleHeight, fmt.Sprintf("%g m", k.Metres)})
	}
	v.Says = s.Text()
	return v
}

// accepted passes on the picture that was accepted of a view in a light.
func (pg *Page) accepted(c *echo.Context) error {
	id, err := shell.Number(c, "source")
	if err != nil {
		return err
	}
	data, err := pg.Store.AcceptedPicture(c.Request().Context(), shell.VisitorOf(c).Member.ID, id, stream.Light(c.Param("light")))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "private, no-cache")
	return c.Blob(200, "image/jpeg", data)
}

package streams

import (
	"fmt"
	"strconv"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
	"duskyharbor/internal/web/shell"
)

// scaleView is how many pixels per metre a view has, as bands and lines over its picture.
type scaleView struct {
	Set   bool
	Stale string // why it doesn't tell any more
	Marks []shell.Shape
	Says  string
	Size  stream.Size // of the picture that is marked; 0 × 0: not known
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
		v.Marks = append(v.Marks, shell.BandMark("scaleband "+class, name, b.Top, b.End))
	}
	for _, k := range s.Marks {
		v.Marks = append(v.Marks, shell.LineMark("mark", fmt.Sprintf("%g m", k.Metres), k.X1, k.Y1, k.X2, k.Y2))
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

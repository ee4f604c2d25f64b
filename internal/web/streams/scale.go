package streams

import (
	"fmt"
	"io"
	"mime/multipart"
	"strconv"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
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

// marks keeps two marks of known size on a view's picture, or forgets them.
func (pg *Page) marks(c *echo.Context) error {
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	if c.FormValue("off") == "1" {
		if err := pg.Store.SetMarks(ctx, me.Member.ID, of.ID, nil); err != nil {
			return err
		}
		return pg.JudgedBack(c, of, "took the marks off a picture", "", "The marks on the picture of "+of.Place+" are gone.")
	}
	if err := otherPicture(c, of); err != nil {
		return pg.Told(c, err)
	}
	f, w := v.Streams(of)
	setup, _ := v.Picture(of)
	s := stream.Scale{Size: f.Marked(w.Codecs), By: me.Person.Name, Aim: aimOf(setup)}
	if f.Still != nil {
		s.Seen = &f.Still.Print
	}
	for i := range s.Marks {
		k, err := stream.ParseMark(c.FormValue("mark-" + strconv.Itoa(i)))
		if err != nil {
			return pg.Told(c, err)
		}
		metres, err := strconv.ParseFloat(c.FormValue("metres-"+strconv.Itoa(i)), 64)
		if err != nil {
			return pg.Back(c, fmt.Sprintf("Say how long mark %d is, in metres, as 2.05.", i+1))
		}
		k.Metres = metres
		s.Marks[i] = k
	}
	if s.Size.Width == 0 {
		return pg.Back(c, "The size of its picture isn't known: read and play its streams first.")
	}
	if err := s.Check(); err != nil {
		return pg.Back(c, err.Error())
	}
	if err := pg.Store.SetMarks(ctx, me.Member.ID, of.ID, &s); err != nil {
		return err
	}
	return pg.JudgedBack(c, of, "marked sizes on a picture", fmt.Sprintf(": %g m, %g m", s.Marks[0].Metres, s.Marks[1].Metres), s.Text())
}

// accept keeps the picture that a view shows now as the one that a person accepts.
func (pg *Page) accept(c *echo.Context) error {
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	if err := otherPicture(c, of); err != nil {
		return pg.Told(c, err)
	}
	me := shell.VisitorOf(c)
	light := stream.Light(c.FormValue("light"))
	if shown, isFile := c.FormFile("picture"); isFile == nil {
		err = pg.acceptShown(c, of, light, shown)
	} else {
		err = pg.stage.Accept(c.Request().Context(), of, light, me.Person.ID, me.Person.Name)
	}
	if err != nil {
		return pg.Told(c, err)
	}
	return pg.JudgedBack(c, of, "accepted a picture", ", by "+string(light), "The picture of "+of.Place+" by "+string(light)+" is accepted as it is now.")
}

// maxShown is how large a picture may be that a browser took of what it shows, in bytes.
const maxShown = 2 << 20

// acceptShown accepts what a person sees moving.
func (pg *Page) acceptShown(c *echo.Context, of site.Source, light stream.Light, shown *multipart.FileHeader) error {
	me := shell.VisitorOf(c)
	if shown.Size > maxShown {
		return trouble.Told("That picture is larger than 2 MB.")
	}
	f, err := shown.Open()
	if err != nil {
		return err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxShown))
	if err != nil {
		return err
	}
	return pg.stage.AcceptShown(c.Request().Context(), of, light, me.Person.ID, me.Person.Name, data)
}

// otherPicture says that what a person drew on, marked or saw was another camera's picture than the one
// that it is meant for; nil where it wasn't, or nothing was shown.
func otherPicture(c *echo.Context, of site.Source) error {
	shown := c.FormValue("shown")
	if shown == "" || shown == strconv.FormatInt(of.ID, 10) {
		return nil
	}
	return trouble.Tell("The picture on the page wasn't that of %s: nothing was kept. Open its sheet again, and look at its own.", of.Place)
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

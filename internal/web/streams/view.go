package streams

import (
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/core/view"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// viewRoutes adds what is asked about a view's picture: each shows what it would change.
func (pg *Page) viewRoutes(r *shell.Routes) {
	r.Change.POST("/streams/texts", pg.texts)
	r.Change.POST("/streams/masks", pg.masks)
	r.Change.POST("/streams/imaging", pg.imaging)
	r.Change.POST("/streams/turn", pg.turn)
}

// texts shows what would set the text of a selection as a person wants it.
func (pg *Page) texts(c *echo.Context) error {
	want := view.Want{Name: c.FormValue("text-name"), Time: c.FormValue("text-time")}
	var parts []string
	for _, x := range []struct {
		what, want string
		says       map[string]string
	}{{"name", want.Name, map[string]string{"place": "Burn in the name that each has here", "none": "Take the name out"}},
		{"time", want.Time, map[string]string{"date": "Burn in date and time", "none": "Take the time out"}}} {
		switch says, ok := x.says[x.want]; {
		case ok:
			parts = append(parts, says)
		case x.want != "":
			return pg.Back(c, "The "+x.what+" in a picture can't be asked for so.")
		}
	}
	if len(parts) == 0 {
		return pg.Back(c, "Choose what is to be burned in: the name, the time, or neither.")
	}
	return pg.alike(c, strings.Join(parts, ", "), func(s *site.Snapshot, of site.Source) ([]finding.Change, []string) {
		return pg.stage.AskedText(s, of, want)
	})
}

// alike shows what would set a selection as a person wants it: says names it.
func (pg *Page) alike(c *echo.Context, says string, asked func(*site.Snapshot, site.Source) ([]finding.Change, []string)) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	sel, of, err := shell.Selected(c)
	if err != nil {
		return err
	}
	targets, err := pg.Store.Resolve(ctx, sel, stage.Streams)
	if err != nil {
		return err
	}
	var left shell.Left
	picks, underWay, err := pg.Engine.Gather(ctx, me.Member.ID, stage.Streams, targets, func(s *site.Snapshot, of site.Source) []finding.Change {
		changes, cant := asked(s, of)
		switch {
		case len(cant) > 0:
			left.Cant = append(left.Cant, fmt.Sprintf("%s: %s.", of.Place, strings.Join(cant, "; ")))
		case len(changes) == 0:
			left.Idle++
		}
		return changes
	})
	if err != nil {
		return pg.Told(c, err)
	}
	left.UnderWay = underWay
	title := fmt.Sprintf("%s on %s", says, shell.Plural(len(picks), "camera"))
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Streams, Title: title, AskedOf: of}, picks, left)
}

// one shows what would change one view's picture.
func (pg *Page) one(c *echo.Context, change func(view.Setup) (finding.Change, error)) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	if err := otherPicture(c, of); err != nil {
		return pg.Told(c, err)
	}
	setup, _ := v.Picture(of)
	if setup == nil {
		return pg.Back(c, "Read the streams of "+of.Place+" first: how its picture is made isn't known.")
	}
	asked, err := change(*setup)
	if err != nil {
		return pg.Told(c, err)
	}
	targets, err := pg.Store.Resolve(ctx, store.Selection{Site: me.Member.ID, IDs: []int64{of.ID}}, stage.Streams)
	if err != nil {
		return err
	}
	picks, _, err := pg.Engine.Gather(ctx, me.Member.ID, stage.Streams, targets, func(*site.Snapshot, site.Source) []finding.Change {
		return []finding.Change{asked}
	})
	if err != nil {
		return pg.Told(c, err)
	}
	if len(picks) == 0 {
		return pg.Told(c, engine.ErrUnderWay)
	}
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Streams, Title: asked.Title + ": " + of.Place}, picks, shell.Left{})
}

// masks shows what would hide one part more of a view's picture, or one less.
func (pg *Page) masks(c *echo.Context) error {
	return pg.one(c, func(s view.Setup) (finding.Change, error) {
		var areas []scene.Polygon
		if s.Masks != nil {
			areas = slices.Clone(s.Masks.Areas())
		}
		if i, err := strconv.Atoi(c.FormValue("without")); err == nil {
			if i < 0 || i >= len(areas) {
				return finding.Change{}, trouble.Told("That mask isn't there any more: read the streams again.")
			}
			return s.Hide(slices.Delete(areas, i, i+1))
		}
		var at [4]float64
		for i, name := range []string{"left", "top", "right", "bottom"} {
			v, err := number(c.FormValue(name))
			if err != nil {
				return finding.Change{}, trouble.Told("Draw the mask on the picture, or type its four edges in hundredths of the picture.")
			}
			at[i] = v
		}
		a, err := view.Rectangle(at[0], at[1], at[2], at[3])
		if err != nil {
			return finding.Change{}, err
		}
		return s.Hide(append(areas, a))
	})
}

// number reads a number as a person types it.
func number(text string) (float64, error) {
	v, err := strconv.ParseFloat(strings.Replace(strings.TrimSpace(text), ",", ".", 1), 64)
	if err == nil && (math.IsNaN(v) || math.IsInf(v, 0)) {
		err = strconv.ErrRange
	}
	return v, err
}

// imaging shows what would set a property of how a view's pictures are taken.
func (pg *Page) imaging(c *echo.Context) error {
	return pg.one(c, func(s view.Setup) (finding.Change, error) {
		return s.Set(view.Property(c.FormValue("property")), c.FormValue("value"))
	})
}

// turn shows what would move the camera, or what it remembers.
func (pg *Page) turn(c *echo.Context) error {
	return pg.one(c, func(s view.Setup) (finding.Change, error) {
		name := c.FormValue("preset")
		switch act, preset, _ := strings.Cut(c.FormValue("do"), ":"); act {
		case "try":
			return s.Try(time.Now())
		case "save":
			return s.Remember(name)
		case "forget":
			return s.Forget(preset)
		case "call":
			return s.Recall(preset)
		case "aim":
			var to view.Aim
			for field, v := range map[string]*float64{"pan": &to.Pan, "tilt": &to.Tilt, "zoom": &to.Zoom} {
				x, err := number(strings.Replace(c.FormValue(field), "−", "-", 1))
				if err != nil {
					return finding.Change{}, trouble.Told("Say where it is to look in figures, as its limits are given.")
				}
				*v = x
			}
			return s.Turn(to, view.Preset{})
		}
		return finding.Change{}, echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	})
}

// made is how a view's picture is made, for its sheet.
type made struct {
	Source  int64
	Texts   bool
	Plain   bool
	Masks   []maskLine
	Hides   bool // it hides parts
	Room    bool // for one more
	Choices []view.Choice
	Sharp   string // how sharp its last still is
	PTZ     *view.PTZ
	Aim     string
	Limits  string
	Tried   *view.Tried
}

// maskLine is one mask as it is listed, by its place among them.
type maskLine struct {
	I    int
	Says string
}

// madeOf is nil where it wasn't read.
func madeOf(v *site.Snapshot, of store.Source) *made {
	s, w := v.Picture(of)
	if s == nil {
		return nil
	}
	m := &made{Source: of.ID, Texts: s.Texts != nil, PTZ: s.PTZ, Tried: w.Tried}
	m.Plain = m.Texts && s.Texts.Plain
	if s.Masks != nil {
		for i, a := range s.Masks.Areas() {
			m.Masks = append(m.Masks, maskLine{i, view.AreasText([]scene.Polygon{a})})
		}
		m.Hides, m.Room = true, s.Masks.Most == 0 || len(s.Masks.All) < s.Masks.Most
	}
	if s.Imaging != nil {
		m.Choices = s.Imaging.Properties()
	}
	if f, _ := v.Streams(of); f.Still != nil {
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
	s, w := v.Picture(of)
	if s == nil {
		return
	}
	at := site.Setup.ReadAt(v, of)
	if s.Texts != nil {
		sh.Fact("Burned in", s.Texts.State(view.Name)+"; "+s.Texts.State(view.Time), at)
	}
	if s.Masks != nil {
		sh.Fact("Hidden", view.AreasText(s.Masks.Areas()), at)
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

// hidden are the masks as they lie over the picture of 1,600 × 900 units.
func hidden(s *view.Setup) (out []string) {
	if s == nil || s.Masks == nil {
		return nil
	}
	for _, a := range s.Masks.Areas() {
		var b strings.Builder
		for _, p := range a {
			fmt.Fprintf(&b, "%.0f,%.0f ", (p.X+1)/2*scaleWidth, (1-p.Y)/2*scaleHeight)
		}
		out = append(out, strings.TrimSpace(b.String()))
	}
	return out
}

// aimOf is the aim with which a picture's marks are kept, empty where it can't be turned.
func aimOf(s *view.Setup) string {
	if s == nil || s.PTZ == nil || s.PTZ.At == nil {
		return ""
	}
	return s.PTZ.At.Text()
}

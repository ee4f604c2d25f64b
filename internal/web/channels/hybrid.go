package channels

import (
	"fmt"
	"slices"
	"strconv"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// analogView is one analog input of a hybrid recorder as it is drawn.
type analogView struct {
	channel.Analog
	State string // "on", "off", "goes off", "comes on"
	Says  string
	Verb  string
	Flip  bool // what the button sets
}

// hybrid fills in what is of a hybrid recorder.
func (d *channelsData) hybrid() {
	r := *d.Status
	for _, a := range r.Analog {
		v := analogView{Analog: a, State: map[[2]bool]string{{true, true}: "on", {true, false}: "goes off", {false, true}: "comes on", {false, false}: "off"}[[2]bool{a.On, a.Next}]}
		switch {
		case a.Signal && a.Name != "":
			v.Says = "picture: " + a.Name
		case a.Signal:
			v.Says = "there is a picture"
		case a.On:
			v.Says = "no signal"
		default:
			v.Says = "gives an IP channel"
		}
		v.Flip, v.Verb = !a.Next, "Switch on"
		if a.Next {
			v.Verb = "Switch off"
		}
		d.Analog = append(d.Analog, v)
	}
	d.Waits = len(r.Pending())
	if d.Waits > 0 {
		d.Gap = r.Restart(d.Chosen.ID, d.Waits).Why
	}
	d.Roomy, d.More = r.Roomy(d.taking(), d.Short)
}

// taking is how many of the tray have a channel already.
func (d *channelsData) taking() (n int) {
	for _, t := range d.Tray {
		n += shell.Int(t.To != "")
	}
	return n
}

// ofRecorder reads the recorder that a form names, with what it told last.
func (pg *Page) ofRecorder(c *echo.Context) (store.Device, channel.Recorder, error) {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	if err != nil {
		return store.Device{}, channel.Recorder{}, store.ErrNotFound
	}
	s, err := site.Load(ctx, pg.Store, me.Member.ID, []int64{id})
	if err != nil {
		return store.Device{}, channel.Recorder{}, err
	}
	i := slices.IndexFunc(s.Recorders(), func(d store.Device) bool { return d.ID == id })
	if i < 0 {
		return store.Device{}, channel.Recorder{}, store.ErrNotFound
	}
	d := s.Recorders()[i]
	r, known := site.Recorder.Of(s, id)
	if !known {
		return d, r, trouble.Told(d.Place + " wasn't read yet: read it first.")
	}
	return d, r, nil
}

// input shows what switching one analog input would change.
func (pg *Page) input(c *echo.Context) error {
	d, r, err := pg.ofRecorder(c)
	if err != nil {
		return pg.Told(c, err)
	}
	number, err := strconv.Atoi(c.FormValue("input"))
	if err != nil {
		return store.ErrNotFound
	}
	ch, ok := r.Switch(d.ID, number, c.FormValue("on") == "true")
	if !ok {
		return pg.Back(c, fmt.Sprintf("Analog input %d of %s is set so already.", number, d.Place))
	}
	return pg.ofWhole(c, d, ch.Title, []finding.Change{ch})
}

// room shows what gives the recorder channels for those who have none, or restarts it for what
// waits.
func (pg *Page) room(c *echo.Context) error {
	d, r, err := pg.ofRecorder(c)
	if err != nil {
		return pg.Told(c, err)
	}
	more, _ := strconv.Atoi(c.FormValue("more"))
	all, _ := r.Room(d.ID, max(0, min(more, maxSlots)))
	if waits := len(r.Pending()); len(all) == 0 && waits > 0 {
		all = []finding.Change{r.Restart(d.ID, waits)}
	}
	if len(all) == 0 {
		return pg.Back(c, "Nothing waits for a restart of "+d.Place+", and no analog input without a picture gives it more channels.")
	}
	return pg.ofWhole(c, d, "Channels of "+d.Place, all)
}

func (pg *Page) ofWhole(c *echo.Context, d store.Device, title string, all []finding.Change) error {
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Channels, Title: title}, []engine.Pick{{Source: d.Whole(), Changes: all}}, shell.Left{})
}

// models shows what has the recorder know newer models.
func (pg *Page) models(c *echo.Context) error {
	d, r, err := pg.ofRecorder(c)
	if err != nil {
		return pg.Told(c, err)
	}
	all := r.Renew(d.ID)
	if len(all) == 0 {
		return pg.Back(c, d.Place+" runs by the newest list of models already.")
	}
	return pg.ofWhole(c, d, "Models of "+d.Place, all)
}

// others shows what has the recorder take other makes than those of its list, or not.
func (pg *Page) others(c *echo.Context) error {
	d, r, err := pg.ofRecorder(c)
	if err != nil {
		return pg.Told(c, err)
	}
	ch, ok := r.Others(d.ID, c.FormValue("allow") == "true")
	if !ok {
		return pg.Back(c, d.Place+" does so already.")
	}
	return pg.ofWhole(c, d, ch.Title, []finding.Change{ch})
}

package find

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// alsoLook lets one address be looked at that is in no network of the site, and looks
// there. It takes an address or an address of a stream.
func (pg *Page) alsoLook(c *echo.Context) error {
	at, err := netplan.ParseAddress(c.FormValue("address"))
	if err != nil {
		return pg.Refuse(c, "address", err.Error())
	}
	if done, err := pg.AskOutside(c, "address", at, "Look at "+at.String()+" all the same"); done {
		return err
	}
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	if path := stream.PathIn(c.FormValue("address")); path != "" {
		if err := pg.Store.NamePath(ctx, me.Member.ID, at, path); err != nil {
			return err
		}
		if err := pg.Audit(ctx, me, "named a stream", "rtsp://"+at.String()+path); err != nil {
			return err
		}
	}
	if err := pg.LookAt(ctx, me, stage.Find, at); err != nil {
		return pg.Told(c, err)
	}
	return pg.Back(c, "")
}

// dropSingle takes such an address off again.
func (pg *Page) dropSingle(c *echo.Context) error {
	id, err := shell.Number(c, "network")
	if err != nil {
		return err
	}
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	name, err := pg.Store.DropSingle(ctx, me.Member.ID, id)
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "looks at an address no more", name); err != nil {
		return err
	}
	return pg.Back(c, name+" isn't looked at any more.")
}

// accept keeps a person's word that a finding stands and is lived with, or takes it back.
func (pg *Page) accept(c *echo.Context) error {
	ctx := c.Request().Context()
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	st, err := pg.StageOf(c.FormValue("stage"))
	if err != nil {
		return err
	}
	code := c.FormValue("code")
	if c.FormValue("off") == "1" {
		if err := pg.Store.Unaccept(ctx, of, st, code); err != nil {
			return err
		}
		return pg.JudgedBack(c, of, "took back that a finding is accepted", ": "+code, "The finding needs a person again.")
	}
	found, err := pg.Store.FindingsOf(ctx, of, st, 50)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(found, func(f store.FindingOf) bool { return f.Code == code })
	if i < 0 {
		return pg.Back(c, "That finding is gone: nothing is left to accept.")
	}
	if err := pg.Store.Accept(ctx, of, st, code, shell.VisitorOf(c).Person.ID); err != nil {
		return err
	}
	return pg.JudgedBack(c, of, "accepted a finding", ": "+found[i].Sentence, "It is accepted: it stays as a note, with your name.")
}

// takeOver gives a place on the list to the device that answers in its stead.
func (pg *Page) takeOver(c *echo.Context) error {
	ctx := c.Request().Context()
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	d := of.Device
	place, newcomer := d, int64(0)
	if to := c.FormValue("place"); to != "" { // d is the newcomer
		id, err := strconv.ParseInt(to, 10, 64)
		if err != nil {
			return store.ErrNotFound
		}
		if place, err = pg.Store.Device(ctx, id); err != nil {
			return err
		}
		if place.SiteID != shell.VisitorOf(c).Member.ID {
			return store.ErrNotFound
		}
		newcomer = d.ID
	}
	was, _ := site.Seen.Of(v, d.ID)
	if err := pg.stage.TakeOver(ctx, place, newcomer); err != nil {
		return pg.Told(c, err)
	}
	if err := pg.Audit(ctx, shell.VisitorOf(c), "let a device take over a place",
		fmt.Sprintf("%s, by what answers at %s", place.Place, was.Address)); err != nil {
		return err
	}
	row, err := pg.Store.Source(ctx, store.Target{Device: place.ID})
	if err != nil {
		return err
	}
	pg.Flash(ctx, fmt.Sprintf("What answers at %s is %s from now on. Sign in to it next.", was.Address, place.Place))
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/find?sheet=%d", shell.VisitorOf(c).Member.ID, row.ID))
}

// listAs puts a device that nobody expected on the list, under a place of its own.
func (pg *Page) listAs(c *echo.Context) error {
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	place := strings.TrimSpace(c.FormValue("place"))
	if place == "" || len(place) > 64 {
		return pg.Back(c, "A place has a name of at most 64 characters.")
	}
	if err := pg.Store.Name(c.Request().Context(), of.ID, place); err != nil {
		return err
	}
	if seen, ok := site.Seen.Of(v, of.Device.ID); ok {
		words := map[int64]identity.Word{of.Device.ID: identity.WordOn(seen)}
		if err := pg.Store.SetOurs(c.Request().Context(), of.Device.SiteID, words); err != nil {
			return err
		}
	}
	of.Place = place
	return pg.JudgedBack(c, of, "put a device on the list", "", place+" is on the list.")
}

// say keeps what a person says of a camera: the name of its place, the recorder that its
// view is planned for, a note. Nothing is written to it.
func (pg *Page) say(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	place, note := strings.TrimSpace(c.FormValue("place")), strings.TrimSpace(c.FormValue("note"))
	recorder, rerr := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	if place == "" || len(place) > 64 || len(note) > 500 || rerr != nil {
		return pg.Back(c, "A place has a name of at most 64 characters, and a note at most 500.")
	}
	if _, err := pg.Store.Plan(ctx, me.Member.ID, recorder, []int64{of.ID}); err != nil {
		return err
	}
	if place != of.Place {
		if err := pg.Store.Name(ctx, of.ID, place); err != nil {
			return err
		}
	}
	if err := pg.Store.SetNote(ctx, me.Member.ID, of.Device.ID, note); err != nil {
		return err
	}
	was := of.Place
	of.Place = place
	return pg.JudgedBack(c, of, "said what a camera is", ": before "+was, "Kept. Nothing was written to "+place+".")
}

// leaveOut removes a device that nobody expects; a look that hears it finds it again.
func (pg *Page) leaveOut(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	_, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	if err := pg.Store.LeaveOut(ctx, me.Member.ID, of.Device.ID); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "left a device out", of.Device.Place); err != nil {
		return err
	}
	pg.Flash(ctx, of.Device.Place+" is left out; the next look that hears it shows it again.")
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/find", me.Member.ID))
}

// expectHere corrects the list: the device is expected where it answers.
func (pg *Page) expectHere(c *echo.Context) error {
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	seen, ok := site.Seen.Of(v, of.Device.ID)
	if !ok {
		return pg.Back(c, "It doesn't answer now: look first.")
	}
	if err := pg.Store.ExpectAt(c.Request().Context(), of.Device.ID, seen.Address); err != nil {
		return err
	}
	if asked, ok := site.FindAsked.Of(v, of.Device.ID); ok && asked.MovedFrom.IsValid() { // that it moved is settled
		asked.Outcome, asked.MovedFrom = identity.Matched, netip.Addr{}
		if err := pg.Store.KeepFacts(c.Request().Context(), site.FindAsked.New(of.Device.ID, "a person settled it", time.Now().UTC(), asked)); err != nil {
			return err
		}
	}
	return pg.JudgedBack(c, of, "corrected the list", ": expected at "+seen.Address.String(),
		of.Device.Place+" is expected at "+seen.Address.String()+" from now on.")
}

// pickViews keeps which video sources of a device the site uses.
func (pg *Page) pickViews(c *echo.Context) error {
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	var tokens, names []string
	views, _ := site.VideoSources.Of(v, of.Device.ID)
	for _, x := range views {
		if slices.Contains(form["view"], x.Token) {
			tokens, names = append(tokens, x.Token), append(names, x.Name)
		}
	}
	if len(tokens) == 0 {
		return pg.Back(c, "Pick at least one view.")
	}
	if err := pg.Store.PickViews(c.Request().Context(), of.Device.ID, tokens, names); err != nil {
		return err
	}
	return pg.JudgedBack(c, of, "picked views", ": "+strings.Join(names, ", "),
		shell.Plural(len(tokens), "view")+" of "+of.Device.Place+" picked: "+strings.Join(names, ", ")+".")
}

// move gives a device another address, or has its network give it one.
func (pg *Page) move(c *echo.Context) error {
	ctx := c.Request().Context()
	v, of, err := pg.Camera(c)
	if err != nil {
		return err
	}
	f, _ := v.Find(of.Device)
	if f.IPConfig == nil || f.Seen == nil {
		return pg.Back(c, "Its address settings weren't read: sign in to it first.")
	}
	to := netplan.IPConfig{Automatic: true}
	if c.FormValue("automatic") != "1" {
		if to, err = pg.settingsAt(ctx, v.Of(of.Device), c.FormValue("address"), v.Networks()); err != nil {
			return pg.Told(c, err)
		}
	}
	if to == *f.IPConfig {
		return pg.Back(c, "It has that address already.")
	}
	ch := identity.ChangeIPConfig(*f.IPConfig, to)
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Find, Title: of.Device.Place + ": " + ch.Title},
		[]engine.Pick{{Source: v.Of(of.Device), Changes: []finding.Change{ch}}}, shell.Left{})
}

// settingsAt reads the address that a person typed, and asks who is there.
func (pg *Page) settingsAt(ctx context.Context, of site.Source, text string, networks []netplan.Network) (netplan.IPConfig, error) {
	a, err := netplan.ParseAddress(text)
	if err != nil {
		return netplan.IPConfig{}, trouble.Told(err.Error())
	}
	to, err := netplan.SettingsAt(networks, a)
	if err != nil {
		return to, trouble.Told(err.Error())
	}
	dots, err := pg.Store.Dots(ctx, of.Device.SiteID, []netip.Prefix{netip.PrefixFrom(a, 32)})
	if err != nil {
		return to, err
	}
	there := make([]netplan.At, len(dots))
	for i, x := range dots {
		there[i] = netplan.At{ID: x.ID, Place: x.Place, Answer: x.Heard}
	}
	if why := netplan.Taken(of.ID, a, there); why != "" {
		return to, trouble.Told(why)
	}
	return to, nil
}

// settle makes one change of a device that the sheet offers by itself: a restart, a
// reset, a recorder's clock.
func (pg *Page) settle(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := strconv.ParseInt(c.FormValue("device"), 10, 64)
	if err != nil {
		return store.ErrNotFound
	}
	v, err := site.Load(ctx, pg.Store, me.Member.ID, []int64{id})
	if err != nil {
		return err
	}
	d, ok := v.Device(id)
	if !ok {
		return store.ErrNotFound
	}
	var ch finding.Change
	st := stage.Clock
	_, open := site.Account.Of(v, d.ID)
	switch what := c.FormValue("what"); {
	case what == "restart" && open:
		ch = access.RestartNow()
	case what == "reset" && open:
		ch, st = access.ResetNow(), stage.SignIn
	case what == "clock" && d.Kind == identity.Recorder:
		if all := pg.Engine.Proposals(time.Now(), v, d.Whole(), stage.Clock); len(all) > 0 {
			ch = all[0]
		}
	}
	if ch.Kind == "" {
		return pg.Back(c, "That can't be done to "+d.Place+" now: read it again.")
	}
	return pg.ShowPreview(c, engine.Ask{Stage: st, Title: d.Place + ": " + ch.Title},
		[]engine.Pick{{Source: v.Of(d), Changes: []finding.Change{ch}}}, shell.Left{})
}

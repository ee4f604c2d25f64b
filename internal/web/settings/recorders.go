package settings

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// maxRecorders is how many recorders a site has at most.
const maxRecorders = 64

// placeFrom reads a name for a device; why is a sentence for the person.
func placeFrom(c *echo.Context) (place, why string) {
	if place = strings.TrimSpace(c.FormValue("place")); place == "" || len(place) > 64 {
		return "", "A recorder has a name of at most 64 characters."
	}
	return place, ""
}

// addRecorder expects a recorder at an address, and looks there.
func (pg *Page) addRecorder(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	place, why := placeFrom(c)
	if why != "" {
		return pg.Refuse(c, "place", why)
	}
	at, err := netplan.ParseAddress(c.FormValue("address"))
	if err != nil {
		return pg.Refuse(c, "address", err.Error())
	}
	devices, err := pg.Store.Devices(ctx, me.Member.ID)
	if err != nil {
		return err
	}
	recorders := 0
	for _, d := range devices {
		switch {
		case d.Place == place:
			return pg.Refuse(c, "place", fmt.Sprintf("%s is there already: give it another name.", place))
		case d.Address != nil && *d.Address == at, d.ExpectedAt != nil && *d.ExpectedAt == at:
			return pg.Refuse(c, "address", fmt.Sprintf("%s is expected or was found at %s already.", d.Place, at))
		case d.Kind == identity.Recorder:
			recorders++
		}
	}
	if recorders >= maxRecorders {
		return pg.Back(c, fmt.Sprintf("A site has at most %d recorders.", maxRecorders))
	}
	if done, err := pg.AskOutside(c, "address", at, "Add the recorder and look there"); done {
		return err
	}
	d := store.Device{SiteID: me.Member.ID, Kind: identity.Recorder, Place: place, Address: &at, ExpectedAt: &at, Expected: true}
	set, err := pg.setOf(c)
	if err != nil {
		return err
	}
	if set != 0 {
		d.SetID = &set
	}
	if _, err := pg.Store.AddDevice(ctx, d); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "added a recorder", place+" at "+at.String()); err != nil {
		return err
	}
	return pg.lookThere(c, at, place+" was added. It is looked for at "+at.String()+".")
}

// lookThere looks at the network that an address is in, or at the address alone where the site
// has none that holds it.
func (pg *Page) lookThere(c *echo.Context, at netip.Addr, says string) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	if err := pg.LookAt(ctx, me, stage.Find, at); err != nil {
		return pg.Told(c, err)
	}
	return pg.Back(c, says)
}

// setOf is the set that a form names as a recorder's account; 0: none. ErrNotFound where the
// site has no such set.
func (pg *Page) setOf(c *echo.Context) (int64, error) {
	id, err := strconv.ParseInt(c.FormValue("set"), 10, 64)
	if err != nil || id == 0 {
		return 0, nil
	}
	sets, err := pg.Store.SharedSets(c.Request().Context(), shell.VisitorOf(c).Member.ID)
	if err != nil {
		return 0, err
	}
	if !slices.ContainsFunc(sets, func(x store.SealedSet) bool { return x.ID == id }) {
		return 0, store.ErrNotFound
	}
	return id, nil
}

// recorderOf is the recorder that the path names, of the visitor's site.
func (pg *Page) recorderOf(c *echo.Context) (store.RecorderRow, []store.RecorderRow, error) {
	id, err := shell.Number(c, "recorder")
	if err != nil {
		return store.RecorderRow{}, nil, err
	}
	all, err := pg.Store.Recorders(c.Request().Context(), shell.VisitorOf(c).Member.ID)
	if err != nil {
		return store.RecorderRow{}, nil, err
	}
	i := slices.IndexFunc(all, func(r store.RecorderRow) bool { return r.ID == id })
	if i < 0 {
		return store.RecorderRow{}, nil, store.ErrNotFound
	}
	return all[i], all, nil
}

// setRecorder gives a recorder another name, account or note. Nothing is written to it.
func (pg *Page) setRecorder(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	r, all, err := pg.recorderOf(c)
	if err != nil {
		return err
	}
	place, why := placeFrom(c)
	note := strings.TrimSpace(c.FormValue("note"))
	switch {
	case why != "":
		return pg.Refuse(c, "place", why)
	case len(note) > 500:
		return pg.Refuse(c, "note", "A note has at most 500 characters.")
	case slices.ContainsFunc(all, func(x store.RecorderRow) bool { return x.ID != r.ID && x.Place == place }):
		return pg.Refuse(c, "place", fmt.Sprintf("%s is there already: give it another name.", place))
	}
	set, err := pg.setOf(c)
	if err != nil {
		return err
	}
	if place != r.Place {
		err = pg.Store.Rename(ctx, me.Member.ID, r.ID, place)
	}
	if err == nil && set != r.SetID {
		err = pg.Store.SetAccount(ctx, me.Member.ID, r.ID, set)
	}
	if err == nil && note != r.Note {
		err = pg.Store.SetNote(ctx, me.Member.ID, r.ID, note)
	}
	if err != nil {
		return err
	}
	detail := r.Place + " → " + place
	if set != r.SetID {
		detail += ", another account"
	}
	if err := pg.Audit(ctx, me, "changed a recorder", detail); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil { // cameras are told by its name
		return err
	}
	if set != r.SetID && set != 0 {
		return pg.Back(c, place+" was changed. Read it on Channels: it is signed in to with its account then.")
	}
	return pg.Back(c, place+" was changed; nothing was written to it.")
}

// removeRecorder takes a recorder off the site.
func (pg *Page) removeRecorder(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	r, _, err := pg.recorderOf(c)
	if err != nil {
		return err
	}
	if !shell.Sure(c) {
		s, err := site.Load(ctx, pg.Store, me.Member.ID, []int64{})
		if err != nil {
			return err
		}
		table, _ := site.Recorder.Of(s, r.ID)
		records := "It isn't known to record anything."
		if n := len(table.Slots); n > 0 {
			coming := 0
			for _, slot := range table.Slots {
				coming += shell.Int(slot.State == channel.Receiving)
			}
			records = fmt.Sprintf("As it was read last it holds %s and receives %d: it goes on with that, and nobody here sees it then.", shell.Plural(n, "channel"), coming)
		}
		return pg.Ask(c, fmt.Sprintf("Remove %s?", r.Place), fmt.Sprintf("%s goes from this site, with what was read of it; %s planned for it are planned for none then. %s The log keeps what was changed. Nothing is written to it.",
			r.Place, shell.Plural(r.Planned, "view"), records), "Remove "+r.Place)
	}
	switch _, err := pg.Store.Remove(ctx, me.Member.ID, []int64{r.ID}); {
	case errors.Is(err, store.ErrBusy):
		return pg.Back(c, "A change of "+r.Place+" is being made: let it end, or stop its run first.")
	case err != nil:
		return err
	}
	if err := pg.Audit(ctx, me, "removed a recorder", fmt.Sprintf("%s, which %s were planned for", r.Place, shell.Plural(r.Planned, "view"))); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil {
		return err
	}
	return pg.Back(c, r.Place+" is off the site. Nothing was written to it; a look that hears it shows it again.")
}

package settings

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// maxSystems is how many other systems a site has at most.
const maxSystems = 64

// systemFrom reads a system that a person typed; done: they were answered. was is where it is
// known already: that isn't asked about again.
func (pg *Page) systemFrom(c *echo.Context, was netip.Addr) (y store.System, done bool, err error) {
	y = store.System{SiteID: shell.VisitorOf(c).Member.ID, Kind: netplan.SystemKind(c.FormValue("kind")), Name: strings.TrimSpace(c.FormValue("name")),
		Note: strings.TrimSpace(c.FormValue("note"))}
	switch {
	case y.Name == "" || len(y.Name) > 64:
		return y, true, pg.Refuse(c, "name", "It has a name of at most 64 characters.")
	case !y.Kind.Valid():
		return y, true, pg.Refuse(c, "kind", "Pick what it is.")
	case len(y.Note) > 500:
		return y, true, pg.Refuse(c, "note", "A note has at most 500 characters.")
	}
	if y.Address, err = netplan.ParseAddress(c.FormValue("address")); err != nil {
		return y, true, pg.Refuse(c, "address", err.Error())
	}
	set, err := pg.setOf(c)
	if err != nil {
		return y, true, err
	}
	if set != 0 {
		y.SetID = &set
	}
	if y.Address == was {
		return y, false, nil
	}
	done, err = pg.AskOutside(c, "address", y.Address, "Ask there whether it answers")
	return y, done, err
}

// addSystem adds a desk, a monitoring station, an analyser or a time server, and asks whether
// it answers. No account is sent to it by that.
func (pg *Page) addSystem(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	y, done, err := pg.systemFrom(c, netip.Addr{})
	if done {
		return err
	}
	all, err := pg.Store.Systems(ctx, me.Member.ID)
	if err != nil {
		return err
	}
	if len(all) >= maxSystems {
		return pg.Refuse(c, "", fmt.Sprintf("A site has at most %d other systems.", maxSystems))
	}
	switch _, err := pg.Store.AddSystem(ctx, y); {
	case errors.Is(err, store.ErrNameTaken):
		return pg.Refuse(c, "name", y.Name+" is there already: give it another name.")
	case err != nil:
		return err
	}
	if err := pg.Audit(ctx, me, "added a system", fmt.Sprintf("%s, %s at %s", y.Name, y.Kind, y.Address)); err != nil {
		return err
	}
	return pg.lookThere(c, y.Address, y.Name+" was added. It is asked at "+y.Address.String()+".")
}

// setSystem changes one.
func (pg *Page) setSystem(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "system")
	if err != nil {
		return err
	}
	all, err := pg.Store.Systems(ctx, me.Member.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(x store.System) bool { return x.ID == id })
	if i < 0 {
		return store.ErrNotFound
	}
	y, done, err := pg.systemFrom(c, all[i].Address)
	if done {
		return err
	}
	y.ID = id
	switch err := pg.Store.SetSystem(ctx, y); {
	case errors.Is(err, store.ErrNameTaken):
		return pg.Refuse(c, "name", "Another is called "+y.Name+": give it another name.")
	case err != nil:
		return err
	}
	if err := pg.Audit(ctx, me, "changed a system", fmt.Sprintf("%s, %s at %s", y.Name, y.Kind, y.Address)); err != nil {
		return err
	}
	return pg.Back(c, y.Name+" was changed. Nothing was written to it; the next look at its network asks it.")
}

// removeSystem takes one off the site.
func (pg *Page) removeSystem(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "system")
	if err != nil {
		return err
	}
	name, err := pg.Store.RemoveSystem(ctx, me.Member.ID, id)
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "removed a system", name); err != nil {
		return err
	}
	return pg.Back(c, name+" is off the site. Nothing was written to it.")
}

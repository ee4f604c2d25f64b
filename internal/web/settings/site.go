package settings

import (
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// setSite gives the site another name and zone.
func (pg *Page) setSite(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	v, err := shell.SiteFrom(c.FormValue("name"), c.FormValue("zone"), time.Now())
	if err != nil {
		return pg.Back(c, err.Error())
	}
	v.ID = me.Member.ID
	was := me.Member.Site
	switch err := pg.Store.SetSite(ctx, me.Person.ID, v); {
	case errors.Is(err, store.ErrNameTaken):
		return pg.Back(c, fmt.Sprintf("Another of your sites is called %q: nothing was changed.", v.Name))
	case err != nil:
		return err
	}
	if err := pg.Audit(ctx, me, "changed the site", fmt.Sprintf("%s, %s → %s, %s", was.Name, was.Zone, v.Name, v.Zone)); err != nil {
		return err
	}
	if was.ZonePosix != v.ZonePosix { // clocks are held against it
		if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil {
			return err
		}
	}
	return pg.Back(c, "Kept: "+v.Name+", "+v.Zone+".")
}

// putAway puts the site away: it is kept whole and does nothing by itself.
func (pg *Page) putAway(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	switch err := pg.Store.PutAway(ctx, me.Member.ID, true); {
	case errors.Is(err, store.ErrBusy):
		return pg.Back(c, "A run is under way: stop it, or let it end, then put the site away.")
	case err != nil:
		return err
	}
	if err := pg.Audit(ctx, me, "put the site away", me.Member.Name); err != nil {
		return err
	}
	pg.Flash(ctx, me.Member.Name+" is put away: nothing of it is lost, and nothing is done by itself.")
	return c.Redirect(http.StatusSeeOther, "/sites")
}

// networkFrom reads a network that a person typed; field and why say what is wrong with it.
func networkFrom(c *echo.Context) (n store.Network, field, why string) {
	n.Name = strings.TrimSpace(c.FormValue("name"))
	if n.Name == "" || len(n.Name) > 64 {
		return n, "name", "A network has a name of at most 64 characters."
	}
	var err error
	if n.Prefix, err = netplan.ParsePrefix(c.FormValue("prefix")); err != nil {
		return n, "prefix", fmt.Sprintf("“%.40s” is no IPv4 network of at most 65,536 addresses, as 192.0.2.0/24.", c.FormValue("prefix"))
	}
	if why := shell.MayReach(c, n.Prefix); why != "" {
		return n, "prefix", why
	}
	for name, into := range map[string]**netip.Addr{"gateway": &n.Gateway, "time-server": &n.TimeServer} {
		text := strings.TrimSpace(c.FormValue(name))
		if text == "" {
			continue
		}
		a, err := netplan.ParseAddress(text)
		if err != nil {
			return n, name, err.Error()
		}
		*into = &a
	}
	if n.DNS, err = netplan.ParseServers(c.FormValue("dns")); err != nil {
		return n, "dns", err.Error()
	}
	if n.Ports, err = netplan.ParsePorts(c.FormValue("ports")); err != nil {
		return n, "ports", err.Error()
	}
	if text := strings.TrimSpace(c.FormValue("at-once")); text != "" {
		if n.AtOnce, err = within(text, store.MostNetwork); err != nil {
			return n, "at-once", fmt.Sprintf("Say how many devices of the network are worked on at once: 1 to %d, or nothing for as the site asks.", store.MostNetwork)
		}
	}
	return n, "", ""
}

// maxNetworks is how many networks a site has at most.
const maxNetworks = 64

// check holds a network against the site's others.
func check(n store.Network) func([]store.Network) string {
	return func(there []store.Network) string {
		if n.ID == 0 && len(there) >= maxNetworks {
			return fmt.Sprintf("A site has at most %d networks.", maxNetworks)
		}
		others := make([]netplan.Network, len(there))
		for i, o := range there {
			others[i] = o.Core()
		}
		return n.Core().Check(others)
	}
}

func (pg *Page) addNetwork(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	n, field, why := networkFrom(c)
	if why != "" {
		return pg.Refuse(c, field, why)
	}
	why, err := pg.Store.AddNetworks(ctx, me.Member.ID, []store.Network{n}, check(n))
	if err != nil {
		return err
	}
	if why != "" {
		return pg.Refuse(c, "prefix", why)
	}
	if err := pg.Audit(ctx, me, "added a network", n.Name+" "+n.Prefix.String()); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil {
		return err
	}
	return pg.Back(c, n.Name+" was added: look at it on Find.")
}

// setNetwork changes a network.
func (pg *Page) setNetwork(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "network")
	if err != nil {
		return err
	}
	n, field, why := networkFrom(c)
	if why != "" {
		return pg.Refuse(c, field, why)
	}
	n.ID = id
	why, err = pg.Store.SetNetwork(ctx, me.Member.ID, n, check(n))
	if err != nil {
		return err
	}
	if why != "" {
		return pg.Refuse(c, "prefix", why)
	}
	if err := pg.Audit(ctx, me, "changed a network", n.Name+" "+n.Prefix.String()); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil {
		return err
	}
	return pg.Back(c, n.Name+" was changed, and everything was judged by it.")
}

// removeNetwork takes a network off the site; its devices stay.
func (pg *Page) removeNetwork(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "network")
	if err != nil {
		return err
	}
	devices, sets, err := pg.Store.NetworkRests(ctx, me.Member.ID, id)
	if err != nil {
		return err
	}
	if err := pg.Store.RemoveNetwork(ctx, me.Member.ID, id); err != nil {
		return err
	}
	says := shell.Plural(devices, "device") + " of it"
	if sets > 0 {
		says += fmt.Sprintf(", and %s tried first in it", shell.Plural(sets, "credential set"))
	}
	if err := pg.Audit(ctx, me, "removed a network", strconv.FormatInt(id, 10)+": "+says); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil {
		return err
	}
	return pg.Back(c, "The network is looked at no more; what is on the site stays: "+says+".")
}

package settings

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// setFrom reads a credential set that a person typed; why is a sentence for them.
func (pg *Page) setFrom(c *echo.Context) (v access.Set, why string, err error) {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	v = access.Set{Name: strings.TrimSpace(c.FormValue("name")), Username: strings.TrimSpace(c.FormValue("username")),
		Make: strings.TrimSpace(c.FormValue("make")), Factory: c.FormValue("factory") == "1", Former: c.FormValue("former") == "1"}
	v.Network, _ = strconv.ParseInt(c.FormValue("network"), 10, 64)
	v.ID, _ = strconv.ParseInt(c.Param("set"), 10, 64)
	password := c.FormValue("password")
	if password == "" && v.ID != 0 {
		password = "as it was"
	}
	if why := shell.BadSet(v, password); why != "" {
		return v, why, nil
	}
	networks, err := pg.Store.Networks(ctx, me.Member.ID)
	if err != nil {
		return v, "", err
	}
	if v.Network != 0 && !slices.ContainsFunc(networks, func(n store.Network) bool { return n.ID == v.Network }) {
		return v, "", store.ErrNotFound
	}
	sets, err := pg.Store.Sets(ctx, me.Member.ID)
	if err != nil {
		return v, "", err
	}
	if slices.ContainsFunc(sets, func(o store.SealedSet) bool { return o.Name == v.Name && o.ID != v.ID }) {
		return v, fmt.Sprintf("A set called %q is there already: give it another name.", v.Name), nil
	}
	return v, "", nil
}

func (pg *Page) addSet(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	v, why, err := pg.setFrom(c)
	switch {
	case err != nil:
		return err
	case why != "":
		return pg.Refuse(c, "name", why)
	}
	if _, err := pg.Store.AddSet(ctx, me.Member.ID, v, pg.seals(c.FormValue("password"))); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "added a credential set", v.Name); err != nil {
		return err
	}
	return pg.Back(c, fmt.Sprintf("%s was added; its password is sealed.", v.Name))
}

func (pg *Page) seals(password string) func(string) ([]byte, error) {
	return func(place string) ([]byte, error) { return pg.Vault.Seal(password, place) }
}

// setSet changes a set: its names, where it is tried first, and where one was typed, its
// password. What it opened is signed in to again before it counts as open.
func (pg *Page) setSet(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	if _, err := shell.Number(c, "set"); err != nil {
		return err
	}
	v, why, err := pg.setFrom(c)
	switch {
	case err != nil:
		return err
	case why != "":
		return pg.Refuse(c, "name", why)
	}
	var seal func(string) ([]byte, error)
	says := v.Name + " was changed."
	if password := c.FormValue("password"); password != "" {
		seal = pg.seals(password)
		says = v.Name + " has another password, sealed: what it opened isn't known to open with it before you sign in again."
	}
	opened, err := pg.Store.SetSet(ctx, me.Member.ID, v, seal)
	if err != nil {
		return err
	}
	act := "changed a credential set"
	if seal != nil {
		act = "gave a credential set another password"
	}
	if err := pg.Audit(ctx, me, act, v.Name); err != nil {
		return err
	}
	if len(opened) > 0 {
		if err := pg.Engine.Judge(ctx, me.Member.ID, opened); err != nil {
			return err
		}
	}
	return pg.Back(c, says)
}

// removeSet takes a set off the site.
func (pg *Page) removeSet(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "set")
	if err != nil {
		return err
	}
	sets, err := pg.Store.SharedSets(ctx, me.Member.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(sets, func(x store.SealedSet) bool { return x.ID == id })
	if i < 0 {
		return store.ErrNotFound
	}
	rested, err := pg.Store.RemoveSet(ctx, me.Member.ID, id)
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "removed a credential set", fmt.Sprintf("%s, which %s rested on", sets[i].Name, shell.Plural(len(rested), "device"))); err != nil {
		return err
	}
	if len(rested) > 0 {
		if err := pg.Engine.Judge(ctx, me.Member.ID, rested); err != nil {
			return err
		}
	}
	return pg.Back(c, fmt.Sprintf("%s is gone; %s rested on it and must be signed in to with another.", sets[i].Name, shell.Plural(len(rested), "device")))
}

// reveal shows a set's password to a person who gives their own again. It is logged
// before it is shown.
func (pg *Page) reveal(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "set")
	if err != nil {
		return err
	}
	sets, err := pg.Store.Sets(ctx, me.Member.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(sets, func(x store.SealedSet) bool { return x.ID == id })
	if i < 0 {
		return store.ErrNotFound
	}
	inPlace := c.Request().Header.Get("Accept") == "application/json" // the page's script asks, and shows it where it was asked for
	why, err := pg.OwnPassword(c)
	if err != nil {
		return err
	}
	if why != "" {
		if err := pg.Audit(ctx, me, "was refused a password", sets[i].Name); err != nil {
			return err
		}
		if inPlace {
			return c.JSON(http.StatusUnprocessableEntity, map[string]string{"error": why + " The set's stays sealed."})
		}
		return pg.Back(c, why+" The set's stays sealed.")
	}
	secret, err := pg.Vault.Open(sets[i].Sealed, store.SetPlace(id))
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "was shown a password", sets[i].Name); err != nil {
		return err
	}
	if inPlace {
		c.Response().Header().Set("Cache-Control", "no-store")
		return c.JSON(http.StatusOK, map[string]string{"secret": secret})
	}
	return pg.Show(c, shell.Secret{Heading: "Password of " + sets[i].Name, Secret: secret,
		Note: "User name " + sets[i].Username + ". That you were shown it is in the log. Close this page when you are done.", Back: fmt.Sprintf("/sites/%d/settings", me.Member.ID)})
}

// within reads a whole number from 1 to most.
func within(text string, most int) (int, error) {
	n, err := strconv.Atoi(strings.TrimSpace(text))
	if err == nil && (n < 1 || n > most) {
		err = strconv.ErrRange
	}
	return n, err
}

// setWishes keeps how often the networks are looked at, where clocks take their time
// from, and how much is worked on at once.
func (pg *Page) setWishes(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	every := map[string]int{"0": 0, "5": 5, "15": 15, "60": 60, "1440": 1440}
	n, ok := every[c.FormValue("every")]
	source := strings.TrimSpace(c.FormValue("source"))
	if source == "named" {
		a, err := netplan.ParseAddress(c.FormValue("server"))
		if err != nil {
			return pg.Refuse(c, "server", err.Error())
		}
		source = a.String()
	} else if source != "recorder" && source != "dhcp" {
		ok = false
	}
	if !ok {
		return pg.Back(c, "Pick how often to look, and where clocks take their time from.")
	}
	var most store.Limits
	var err error
	if most.Network, err = within(c.FormValue("network"), store.MostNetwork); err == nil {
		most.Recorder, err = within(c.FormValue("recorder"), store.MostRecorder)
	}
	if err != nil {
		return pg.Refuse(c, "network", fmt.Sprintf("Say how many devices are worked on at once: 1 to %d of a network, 1 to %d of a recorder.", store.MostNetwork, store.MostRecorder))
	}
	if err := pg.Store.SetWishes(ctx, me.Member.ID, store.Wishes{LookEvery: n, TimeSource: source, AtOnce: most, Encrypt: c.FormValue("encrypt") == "1"}); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "set the site's wishes",
		fmt.Sprintf("look every %d min, time from %s, at once %d of a network and %d of a recorder, streams encrypted: %t", n, source,
			most.Network, most.Recorder, c.FormValue("encrypt") == "1")); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil {
		return err
	}
	return pg.Back(c, "Kept, and everything was judged by it.")
}

// setLeast asks for a least firmware of a make and model.
func (pg *Page) setLeast(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	l := identity.Least{Make: strings.TrimSpace(c.FormValue("make")), Model: strings.TrimSpace(c.FormValue("model")),
		Least: strings.TrimSpace(c.FormValue("least"))}
	if l.Make == "" || len(l.Make) > 64 || len(l.Model) > 64 || len(l.Least) > 64 {
		return pg.Back(c, "A least firmware is of a make, and of a model where it isn't for all of them.")
	}
	if err := pg.Store.SetLeast(ctx, me.Member.ID, l); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "set the least firmware", strings.TrimSpace(l.Make+" "+l.Model)+": "+l.Least); err != nil {
		return err
	}
	if err := pg.Engine.Judge(ctx, me.Member.ID, nil); err != nil {
		return err
	}
	return pg.Back(c, "Kept, and everything was judged by it.")
}

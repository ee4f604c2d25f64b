package shell

import (
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/people"
	"duskyharbor/internal/setup"
	"duskyharbor/internal/store"
)

// sitesData lists a person's sites.
type sitesData struct {
	Sites   []store.SitePast
	MayMake bool // who leads one may make another
}

// sitesPage lists a person's sites, those that are put away too.
func (s *Server) sitesPage(c *echo.Context) error { return s.showSites(c, http.StatusOK, "") }

func (s *Server) showSites(c *echo.Context, status int, message string) error {
	ctx, me := c.Request().Context(), VisitorOf(c)
	all, err := s.Store.AllSites(ctx, me.Person.ID)
	if err != nil {
		return err
	}
	b := s.bare(c, "Sites", message)
	b.Me, b.Flash = me.Person, s.sessions.PopString(ctx, "flash")
	b.Typed = map[string]string{"name": c.FormValue("name"), "zone": c.FormValue("zone")}
	d := sitesData{Sites: all}
	for _, x := range all {
		if d.MayMake = d.MayMake || x.Role == people.Lead; b.Typed["zone"] == "" {
			b.Typed["zone"] = x.Zone
		}
	}
	b.Data = d
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Render(status, "sites", b)
}

// makeSite makes a further site, empty of everything but its lead.
func (s *Server) makeSite(c *echo.Context) error {
	ctx, me := c.Request().Context(), VisitorOf(c)
	all, err := s.Store.AllSites(ctx, me.Person.ID)
	if err != nil {
		return err
	}
	leads := false
	for _, x := range all {
		leads = leads || x.Role == people.Lead
	}
	if !leads {
		return echo.NewHTTPError(http.StatusForbidden, "Only who leads a site may make another.")
	}
	v, err := setup.SiteOf(setup.Site{Name: c.FormValue("name"), Zone: c.FormValue("zone")}, time.Now())
	if err != nil {
		return s.showSites(c, http.StatusUnprocessableEntity, err.Error())
	}
	id, err := s.Store.MakeSite(ctx, v, me.Person.ID)
	switch {
	case errors.Is(err, store.ErrNameTaken):
		return s.showSites(c, http.StatusUnprocessableEntity, fmt.Sprintf("A site called %q is there already: give it another name.", v.Name))
	case err != nil:
		return err
	}
	if err := s.Store.Audit(ctx, store.AuditEntry{Site: id, Person: me.Person.ID, Act: "made the site", Detail: v.Name}); err != nil {
		return err
	}
	s.Flash(ctx, v.Name+" was made. Add its networks and credential sets, then look.")
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/settings", id))
}

// takeOut takes a site out again that was put away: for its leads.
func (s *Server) takeOut(c *echo.Context) error {
	ctx, me := c.Request().Context(), VisitorOf(c)
	id, err := Number(c, "id")
	if err != nil {
		return err
	}
	all, err := s.Store.AllSites(ctx, me.Person.ID)
	if err != nil {
		return err
	}
	for _, x := range all {
		if x.ID != id || x.Role != people.Lead {
			continue
		}
		if err := s.Store.PutAway(ctx, id, false); err != nil {
			return err
		}
		if err := s.Store.Audit(ctx, store.AuditEntry{Site: id, Person: me.Person.ID, Act: "took the site out again", Detail: x.Name}); err != nil {
			return err
		}
		return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/board", id))
	}
	return store.ErrNotFound
}

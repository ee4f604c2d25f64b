package settings

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// inviteFor is how long an invitation may wait.
const inviteFor = 7 * 24 * time.Hour

func roleOf(text string) (people.Role, bool) {
	r := people.Role(text)
	return r, r == people.Lead || r == people.Technician || r == people.Viewer
}

// invite makes a code with which one person may join the site.
func (pg *Page) invite(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	role, ok := roleOf(c.FormValue("role"))
	note := strings.TrimSpace(c.FormValue("note"))
	if !ok || note == "" || len(note) > 64 {
		return pg.Back(c, "An invitation says for whom it is, in at most 64 characters, and which role they get.")
	}
	code, hash := people.NewCode()
	if err := pg.Store.Invite(ctx, me.Member.ID, me.Person.ID, role, note, hash, time.Now().Add(inviteFor)); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "invited", note+" as "+string(role)); err != nil {
		return err
	}
	return pg.Show(c, shell.Secret{Heading: "Invitation for " + note, Secret: code,
		Note: "Give them this code; they type it at /join of this address within seven days. It opens once and isn't shown again.", Back: fmt.Sprintf("/sites/%d/settings", me.Member.ID)})
}

func (pg *Page) withdraw(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "id")
	if err != nil {
		return err
	}
	if err := pg.Store.Withdraw(ctx, me.Member.ID, id); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "withdrew an invitation", ""); err != nil {
		return err
	}
	return pg.Back(c, "The invitation opens nothing any more.")
}

// setRole gives a person of the site another role, or takes them off it.
func (pg *Page) setRole(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "id")
	if err != nil {
		return err
	}
	role, ok := roleOf(c.FormValue("role"))
	if c.FormValue("role") == "off" {
		role, ok = "", true
	}
	if !ok {
		return pg.Back(c, "A person is lead, technician or viewer of a site.")
	}
	switch err := pg.Store.SetRole(ctx, me.Member.ID, id, role); {
	case errors.Is(err, store.ErrLastLead):
		return pg.Back(c, "A site keeps at least one lead: make somebody else lead first.")
	case err != nil:
		return err
	}
	p, err := pg.Store.Person(ctx, id)
	if err != nil {
		return err
	}
	act, detail := "changed a role", p.Name+" is "+string(role)
	if role == "" {
		act, detail = "took a person off the site", p.Name
	}
	if err := pg.Audit(ctx, me, act, detail); err != nil {
		return err
	}
	return pg.Back(c, detail+".")
}

// addToken makes a token for a program.
func (pg *Page) addToken(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	name := strings.TrimSpace(c.FormValue("name"))
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	scopes, serr := people.ParseScopes(form["scope"])
	days, derr := strconv.Atoi(c.FormValue("days"))
	if name == "" || len(name) > 64 || serr != nil || derr != nil || days < 1 || days > 3650 {
		return pg.Back(c, "A token has a name of at most 64 characters, may read, run and apply, and ends after 1 to 3650 days.")
	}
	token, hash := people.NewToken()
	until := time.Now().Add(time.Duration(days) * 24 * time.Hour)
	_, err = pg.Store.AddToken(ctx, me.Member.ID, me.Person.ID, name, scopes, hash, &until)
	if errors.Is(err, store.ErrNamed) {
		return pg.Back(c, "A token "+name+" is there already, and its secret was shown once: end it first, or take another name. None was made.")
	}
	if err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "made a token", name+": "+strings.Join(scopes, ", ")); err != nil {
		return err
	}
	return pg.Show(c, shell.Secret{Heading: "Token " + name, Secret: token,
		Note: "It isn't shown again: keep it where the program finds it. Send it as “Authorization: Bearer …”.", Back: fmt.Sprintf("/sites/%d/settings", me.Member.ID)})
}

func (pg *Page) endToken(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := shell.Number(c, "id")
	if err != nil {
		return err
	}
	if err := pg.Store.EndToken(ctx, me.Member.ID, id); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "ended a token", ""); err != nil {
		return err
	}
	return pg.Back(c, "The token opens nothing any more.")
}

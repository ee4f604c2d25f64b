package web

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
)

// settingsData is what a site starts from, and who and what may use it.
type settingsData struct {
	Networks    []store.Network // benches left out
	NetNames    map[int64]string
	Leasts      []identity.Least
	Every       []everyChoice
	Server      string // named time server
	Sets        []store.SealedSet
	People      []store.Colleague
	Invitations []store.Invitation
	Tokens      []store.Token
	Roles       []people.Role
}

type everyChoice struct {
	Minutes int
	Label   string
}

func (s *Server) settingsPage(ctx context.Context, p *scenePage) (string, error) {
	d := settingsData{Roles: []people.Role{people.Technician, people.Viewer, people.Lead}, NetNames: map[int64]string{},
		Every: []everyChoice{{0, "only when asked"}, {5, "every 5 minutes"}, {15, "every 15 minutes"}, {60, "every hour"}, {1440, "every day"}}}
	for _, n := range p.networks {
		if !n.Single {
			d.Networks = append(d.Networks, n)
			d.NetNames[n.ID] = n.Name
		}
	}
	if src := p.Site.TimeSource; src != "recorder" && src != clock.DHCP {
		d.Server = src
	}
	var err error
	if d.Leasts, err = s.store.Leasts(ctx, p.Site.ID); err != nil {
		return "", err
	}
	if d.Sets, err = s.store.SharedSets(ctx, p.Site.ID); err != nil {
		return "", err
	}
	for i := range d.Sets {
		d.Sets[i].Sealed = nil // nothing sealed goes near a page
	}
	if d.People, err = s.store.PeopleOf(ctx, p.Site.ID); err != nil {
		return "", err
	}
	if d.Invitations, err = s.store.Invitations(ctx, p.Site.ID); err != nil {
		return "", err
	}
	d.Tokens, err = s.store.Tokens(ctx, p.Site.ID)
	p.Data = d
	return "settings", err
}

func (s *Server) deed(ctx context.Context, me who, act, detail string) error {
	return s.store.Audit(ctx, store.Deed{Site: me.member.ID, Person: me.person.ID, Act: act, Detail: detail})
}

func (s *Server) addSet(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	v := access.Set{Name: strings.TrimSpace(c.FormValue("name")), Username: strings.TrimSpace(c.FormValue("username")), Make: strings.TrimSpace(c.FormValue("make")), Factory: c.FormValue("factory") == "1", Former: c.FormValue("former") == "1"}
	v.Network, _ = strconv.ParseInt(c.FormValue("network"), 10, 64)
	password := c.FormValue("password")
	if v.Name == "" || v.Username == "" || password == "" || len(v.Name) > 64 || len(v.Username) > 64 || len(password) > 128 || len(v.Make) > 64 {
		return s.back(c, "A credential set has a name, a user name and a password, each at most 64 characters (the password 128).")
	}
	networks, err := s.store.Networks(ctx, me.member.ID)
	if err != nil {
		return err
	}
	if v.Network != 0 && !slices.ContainsFunc(networks, func(n store.Network) bool { return n.ID == v.Network }) {
		return store.ErrNotFound
	}
	sets, err := s.store.Sets(ctx, me.member.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(sets, func(o store.SealedSet) bool { return o.Name == v.Name }) {
		return s.back(c, fmt.Sprintf("A set called %q is there already: give it another name.", v.Name))
	}
	if _, err := s.store.AddSet(ctx, me.member.ID, v, func(place string) ([]byte, error) { return s.vault.Seal(password, place) }); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "added a credential set", v.Name); err != nil {
		return err
	}
	return s.back(c, fmt.Sprintf("%s was added; its password is sealed.", v.Name))
}

func (s *Server) addNetwork(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	name := strings.TrimSpace(c.FormValue("name"))
	p, err := netplan.ParsePrefix(c.FormValue("prefix"))
	if err != nil || name == "" || len(name) > 64 {
		return s.back(c, "A network has a name and an IPv4 prefix of at most 4,096 addresses, as 192.0.2.0/24.")
	}
	networks, err := s.store.Networks(ctx, me.member.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(networks, func(n store.Network) bool { return n.Prefix == p }) {
		return s.back(c, p.String()+" is there already.")
	}
	if len(slices.DeleteFunc(networks, func(n store.Network) bool { return n.Single })) >= 16 {
		return s.back(c, "A site has at most 16 networks in this version.")
	}
	if err := s.store.AddNetwork(ctx, me.member.ID, name, p); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "added a network", name+" "+p.String()); err != nil {
		return err
	}
	return s.back(c, name+" was added: look at it on Find.")
}

// shown is a secret on a page of its own, shown once and kept by no browser.
type shown struct {
	Heading, Secret, Note, Back string
}

func (s *Server) show(c *echo.Context, x shown) error {
	b := s.bare(c, x.Heading, "")
	b.Data = x
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Render(http.StatusOK, "shown", b)
}

// reveal shows a set's password to a person who gives their own again. It is logged
// before it is shown.
func (s *Server) reveal(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	id, err := number(c, "set")
	if err != nil {
		return err
	}
	sets, err := s.store.Sets(ctx, me.member.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(sets, func(x store.SealedSet) bool { return x.ID == id })
	if i < 0 {
		return store.ErrNotFound
	}
	if !s.mayTry(c.Request().Context(), fmt.Sprintf("reveal %d", me.person.ID)) {
		return s.back(c, "Too many tries. Wait ten seconds, then try once more.")
	}
	hash, err := s.store.PasswordOf(ctx, me.person.ID)
	if err != nil {
		return err
	}
	if !people.Check(c.FormValue("password"), hash) {
		if err := s.deed(ctx, me, "was refused a password", sets[i].Name); err != nil {
			return err
		}
		return s.back(c, "That isn't your own password: the set's stays sealed.")
	}
	secret, err := s.vault.Open(sets[i].Sealed, store.SetPlace(id))
	if err != nil {
		return err
	}
	if err := s.deed(ctx, me, "was shown a password", sets[i].Name); err != nil {
		return err
	}
	return s.show(c, shown{"Password of " + sets[i].Name, secret, "User name " + sets[i].Username + ". That you were shown it is in the log. Close this page when you are done.", fmt.Sprintf("/sites/%d/settings", me.member.ID)})
}

// inviteFor is how long an invitation may wait.
const inviteFor = 7 * 24 * time.Hour

func roleOf(text string) (people.Role, bool) {
	r := people.Role(text)
	return r, r == people.Lead || r == people.Technician || r == people.Viewer
}

// invite makes a code with which one person may join the site.
func (s *Server) invite(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	role, ok := roleOf(c.FormValue("role"))
	note := strings.TrimSpace(c.FormValue("note"))
	if !ok || note == "" || len(note) > 64 {
		return s.back(c, "An invitation says for whom it is, in at most 64 characters, and which role they get.")
	}
	code, hash := people.NewCode()
	if err := s.store.Invite(ctx, me.member.ID, me.person.ID, role, note, hash, time.Now().Add(inviteFor)); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "invited", note+" as "+string(role)); err != nil {
		return err
	}
	return s.show(c, shown{"Invitation for " + note, code, "Give them this code; they type it at /join of this address within seven days. It opens once and isn't shown again.", fmt.Sprintf("/sites/%d/settings", me.member.ID)})
}

func (s *Server) withdraw(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	id, err := number(c, "id")
	if err != nil {
		return err
	}
	if err := s.store.Withdraw(ctx, me.member.ID, id); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "withdrew an invitation", ""); err != nil {
		return err
	}
	return s.back(c, "The invitation opens nothing any more.")
}

// setRole gives a person of the site another role, or takes them off it.
func (s *Server) setRole(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	id, err := number(c, "id")
	if err != nil {
		return err
	}
	role, ok := roleOf(c.FormValue("role"))
	if c.FormValue("role") == "off" {
		role, ok = "", true
	}
	if !ok {
		return s.back(c, "A person is lead, technician or viewer of a site.")
	}
	switch err := s.store.SetRole(ctx, me.member.ID, id, role); {
	case errors.Is(err, store.ErrLastLead):
		return s.back(c, "A site keeps at least one lead: make somebody else lead first.")
	case err != nil:
		return err
	}
	p, err := s.store.Person(ctx, id)
	if err != nil {
		return err
	}
	act, detail := "changed a role", p.Name+" is "+string(role)
	if role == "" {
		act, detail = "took a person off the site", p.Name
	}
	if err := s.deed(ctx, me, act, detail); err != nil {
		return err
	}
	return s.back(c, detail+".")
}

// addToken makes a token for a program.
func (s *Server) addToken(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	name := strings.TrimSpace(c.FormValue("name"))
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	scopes, serr := people.ParseScopes(form["scope"])
	days, derr := strconv.Atoi(c.FormValue("days"))
	if name == "" || len(name) > 64 || serr != nil || derr != nil || days < 1 || days > 3650 {
		return s.back(c, "A token has a name of at most 64 characters, may read, run and apply, and ends after 1 to 3650 days.")
	}
	token, hash := people.NewToken()
	until := time.Now().Add(time.Duration(days) * 24 * time.Hour)
	if _, err := s.store.AddToken(ctx, me.member.ID, me.person.ID, name, scopes, hash, &until); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "made a token", name+": "+strings.Join(scopes, ", ")); err != nil {
		return err
	}
	return s.show(c, shown{"Token " + name, token, "It isn't shown again: keep it where the program finds it. Send it as “Authorization: Bearer …”.", fmt.Sprintf("/sites/%d/settings", me.member.ID)})
}

func (s *Server) endToken(c *echo.Context) error {
	ctx, me := c.Request().Context(), whoIs(c)
	id, err := number(c, "id")
	if err != nil {
		return err
	}
	if err := s.store.EndToken(ctx, me.member.ID, id); err != nil {
		return err
	}
	if err := s.deed(ctx, me, "ended a token", ""); err != nil {
		return err
	}
	return s.back(c, "The token opens nothing any more.")
}

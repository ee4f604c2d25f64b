package shell

import (
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/device/discovery"
	"duskyharbor/internal/people"
	"duskyharbor/internal/setup"
	"duskyharbor/internal/store"
)

// localBits is how wide a network of this machine is proposed at most.
const localBits = 22

// startNetworks is how many networks the first page takes.
const startNetworks = 4

// startNetwork is a row of the first page's networks.
type startNetwork struct{ Name, Prefix string }

// fields are those of the nth row.
func (n startNetwork) fields(nth int) networkFields {
	return networkFields{Field{Name: "net-name", Label: "Name of a network", Like: "Name", Most: 64, Value: n.Name, ID: fmt.Sprint("net-name-", nth)},
		Field{Name: "net-prefix", Label: "Its prefix", Like: "192.0.2.0/24", Mono: true, Most: 43, Value: n.Prefix, ID: fmt.Sprint("net-prefix-", nth)}}
}

// networkFields are the fields of a row.
type networkFields struct{ Name, Prefix Field }

// startData is what the first page offers.
type startData struct{ Networks []networkFields }

// startPage takes the first code and makes the first lead and site; where somebody can
// sign in already, there is no such page.
func (s *Server) startPage(c *echo.Context) error {
	yes, err := s.Store.Untouched(c.Request().Context())
	if err != nil {
		return err
	}
	if !yes {
		return c.Redirect(http.StatusSeeOther, "/sign-in")
	}
	var rows []startNetwork
	local, err := discovery.Local(localBits)
	if err != nil {
		s.Log.Warn("this machine's networks can't be read", "err", err)
	}
	for i, p := range local[:min(len(local), startNetworks)] {
		rows = append(rows, startNetwork{fmt.Sprintf("Network %d", i+1), p.String()})
	}
	return s.showStart(c, http.StatusOK, "", rows)
}

// typedFields are the fields of the first page that are filled again after a refusal; no
// password is among them, nor the code.
var typedFields = []string{"name", "login", "site", "zone", "set-name", "set-user"}

func (s *Server) showStart(c *echo.Context, status int, message string, rows []startNetwork) error {
	b := s.bare(c, "Set this server up", message)
	b.Typed = map[string]string{"zone": "UTC"}
	for _, name := range typedFields {
		if v := c.FormValue(name); v != "" {
			b.Typed[name] = v
		}
	}
	var d startData
	for i := range startNetworks {
		var n startNetwork
		if i < len(rows) {
			n = rows[i]
		}
		d.Networks = append(d.Networks, n.fields(i))
	}
	b.Data = d
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Render(status, "start", b)
}

// start makes what the first page asks for, all of it or nothing.
func (s *Server) start(c *echo.Context) error {
	ctx := c.Request().Context()
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	var rows []startNetwork
	for i, name := range form["net-name"] {
		if i < len(form["net-prefix"]) && i < startNetworks {
			rows = append(rows, startNetwork{strings.TrimSpace(name), strings.TrimSpace(form["net-prefix"][i])})
		}
	}
	again := func(message string) error {
		return s.showStart(c, http.StatusUnprocessableEntity, message, rows)
	}
	if wait := s.MayTry(ctx, "start from "+c.RealIP(), ""); wait != "" {
		return s.showStart(c, http.StatusTooManyRequests, wait, rows)
	}
	v := store.Beginning{Login: strings.ToLower(strings.TrimSpace(c.FormValue("login"))), Name: strings.TrimSpace(c.FormValue("name"))}
	var wrong wrongs
	wrong.add(BadLogin(v.Login, v.Name))
	if v.PasswordHash, err = people.Hash(c.FormValue("password")); err != nil {
		wrong.add("Your password: " + err.Error() + ".")
	}
	if v.Site, err = setup.SiteOf(setup.Site{Name: c.FormValue("site"), Zone: c.FormValue("zone")}, time.Now()); err != nil {
		wrong.add(err.Error())
	}
	var why string
	v.Networks, why = networksFrom(rows)
	wrong.add(why)
	set := access.Set{Name: strings.TrimSpace(c.FormValue("set-name")), Username: strings.TrimSpace(c.FormValue("set-user"))}
	password := c.FormValue("set-password")
	if set.Name+set.Username+password != "" {
		wrong.add((setup.Set{Name: set.Name, Username: set.Username, Password: password, Make: set.Make}).Bad(true))
		v.Set, v.Seal = &set, func(place string) ([]byte, error) { return s.Vault.Seal(password, place) }
	}
	if len(wrong) > 0 {
		return again(strings.Join(wrong, " "))
	}
	person, site, err := s.Store.Begin(ctx, people.HashToken(c.FormValue("code")), v)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return again("That code opens nothing: it is the one that this server printed when it was started last, and it opens once.")
	case err != nil:
		return err
	}
	if err := s.Store.Audit(ctx, store.AuditEntry{Site: site, Person: person, Act: "set the site up", Detail: v.Site.Name}); err != nil {
		return err
	}
	if err := s.begin(c, person); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/board", site))
}

// wrongs are the sentences about a form, all of them.
type wrongs []string

func (w *wrongs) add(why string) {
	if why != "" {
		*w = append(*w, why)
	}
}

// networksFrom reads the rows that were filled in.
func networksFrom(rows []startNetwork) ([]store.Network, string) {
	var out []store.Network
	var there []netplan.Network
	var wrong wrongs
	for _, r := range rows {
		if r.Prefix == "" {
			continue
		}
		p, err := netplan.ParsePrefix(r.Prefix)
		if err != nil {
			wrong.add(fmt.Sprintf("“%.40s” is no IPv4 network of at most 65,536 addresses, as 192.0.2.0/24.", r.Prefix))
			continue
		}
		n := netplan.Network{Name: r.Name, Prefix: p}
		if n.Name == "" || len(n.Name) > 64 {
			wrong.add(fmt.Sprintf("The network %s has no name of at most 64 characters.", p))
			continue
		}
		n.ID = int64(len(out) + 1)
		wrong.add(n.Check(there))
		there = append(there, n)
		out = append(out, store.Network{Name: n.Name, Prefix: p})
	}
	return out, strings.Join(wrong, " ")
}

// BadLogin says what is wrong with a name to sign in with, or with a person's own name.
func BadLogin(login, name string) string {
	var wrong wrongs
	if login == "" || len(login) > 64 || strings.ContainsAny(login, " \t\r\n") {
		wrong.add("A sign-in name has 1 to 64 characters and no spaces.")
	}
	if name == "" || !act.Fits(name, 64) {
		wrong.add("Your own name has 1 to 64 characters.")
	}
	return strings.Join(wrong, " ")
}

// Proposed lists the networks of this machine that a site doesn't look at yet.
func Proposed(there []store.Network) []netip.Prefix {
	local, err := discovery.Local(localBits)
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(local, func(p netip.Prefix) bool {
		return slices.ContainsFunc(there, func(n store.Network) bool { return !n.Single && n.Prefix.Overlaps(p) })
	})
}

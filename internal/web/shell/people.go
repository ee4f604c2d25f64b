package shell

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
)

// MayTry limits tries at a password or a code, under what they are counted: own, and shared
// where others are counted under it too, as an address. It answers a sentence for who has to
// wait: each refusal makes it longer. Where the database can't say, nobody may.
func (s *Server) MayTry(ctx context.Context, own, shared string) (wait string) {
	var left time.Duration
	var err error
	if shared != "" { // first: names that nobody has make no rows without end
		left, err = s.Store.Pass(ctx, shared, people.WaitMany)
	}
	if err == nil && left == 0 {
		if left, err = s.Store.Pass(ctx, own, people.Wait); err == nil && left > 0 && shared != "" {
			err = s.Store.Passed(ctx, "", shared) // it wasn't tried: nobody else waits for it
		}
	}
	switch {
	case err != nil:
		s.Log.Error("a try wasn't counted", "err", err)
		return slowDatabase
	case left > 0:
		return fmt.Sprintf("Too many tries. Wait %s, then try once more.", clock.Length(max(left.Round(time.Second), time.Second)))
	}
	return ""
}

func (s *Server) enterPage(c *echo.Context) error {
	switch yes, err := s.Store.Untouched(c.Request().Context()); {
	case err != nil:
		return err
	case yes:
		return c.Redirect(http.StatusSeeOther, "/start")
	}
	return c.Render(http.StatusOK, "enter", s.bare(c, "Sign in", ""))
}

func (s *Server) bare(c *echo.Context, title, message string) Frame {
	token, _ := c.Get("csrf").(string)
	return Frame{Title: title, Version: s.version, Message: message, CSRF: token}
}

func (s *Server) enter(c *echo.Context) error {
	ctx := c.Request().Context()
	login := strings.ToLower(strings.TrimSpace(c.FormValue("login")))
	if len(login) > 64 {
		login = login[:64]
	}
	// By name and address: who tries a name from elsewhere keeps nobody out.
	own, shared := "login "+login+" from "+c.RealIP(), "from "+c.RealIP()
	if wait := s.MayTry(ctx, own, shared); wait != "" {
		return c.Render(http.StatusTooManyRequests, "enter", s.bare(c, "Sign in", wait))
	}
	p, hash, err := s.Store.PersonByLogin(ctx, login)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if !people.Check(c.FormValue("password"), hash) {
		if err := s.Store.Audit(ctx, store.AuditEntry{Person: p.ID, Act: "sign-in refused", Detail: "from " + c.RealIP()}); err != nil {
			return err
		}
		return c.Render(http.StatusUnprocessableEntity, "enter", s.bare(c, "Sign in", "That name and password don't belong together."))
	}
	if err := s.Store.Passed(ctx, own, shared); err != nil {
		return err
	}
	if err := s.begin(c, p.ID); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, "/")
}

// begin signs a person in on this browser.
func (s *Server) begin(c *echo.Context, person int64) error {
	ctx := c.Request().Context()
	if err := s.sessions.RenewToken(ctx); err != nil {
		return err
	}
	agent := c.Request().UserAgent()
	id, err := s.Store.BeginSignIn(ctx, person, c.RealIP(), strings.ToValidUTF8(agent[:min(len(agent), 200)], ""))
	if err != nil {
		return err
	}
	s.sessions.Put(ctx, "signin", id)
	return s.Store.Audit(ctx, store.AuditEntry{Person: person, Act: "signed in", Detail: "from " + c.RealIP()})
}

func (s *Server) signOut(c *echo.Context) error {
	ctx := c.Request().Context()
	if p, err := s.person(c); err == nil && p != nil {
		if err := s.Store.EndSignIn(ctx, p.ID, s.sessions.GetInt64(ctx, "signin"), 0); err != nil {
			return err
		}
	}
	if err := s.sessions.Destroy(ctx); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, "/sign-in")
}

// person is who is signed in, nil when nobody is or the sign-in was ended.
func (s *Server) person(c *echo.Context) (*people.Person, error) {
	id := s.sessions.GetInt64(c.Request().Context(), "signin")
	if id == 0 {
		return nil, nil
	}
	p, err := s.Store.SignedIn(c.Request().Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return &p, err
}

// signedIn lets only people through, and says who it is.
func (s *Server) signedIn(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		p, err := s.person(c)
		if err != nil {
			return err
		}
		if p == nil {
			return echo.NewHTTPError(http.StatusUnauthorized, "Sign in first.")
		}
		c.Set("who", Visitor{Person: *p})
		return next(c)
	}
}

// signedInOrEnter lets people through, and shows others where to sign in.
func (s *Server) signedInOrEnter(next echo.HandlerFunc) echo.HandlerFunc {
	in := s.signedIn(next)
	return func(c *echo.Context) error {
		switch p, err := s.person(c); {
		case err != nil:
			return err
		case p == nil:
			return c.Redirect(http.StatusSeeOther, "/sign-in")
		}
		return in(c)
	}
}

// SignInOf is the number of the sign-in that a request belongs to.
func (s *Server) SignInOf(ctx context.Context) int64 { return s.sessions.GetInt64(ctx, "signin") }

// notTheirs is OwnPassword's answer to a password that isn't the person's.
const notTheirs = "That isn't your own password."

// OwnPassword holds the password of a form against the person's own, within the limit of
// tries: it answers why nothing is done, empty where the password is theirs.
func (s *Server) OwnPassword(c *echo.Context) (why string, err error) {
	ctx, me := c.Request().Context(), VisitorOf(c)
	own := fmt.Sprintf("password %d", me.Person.ID)
	if wait := s.MayTry(ctx, own, ""); wait != "" {
		return wait, nil
	}
	hash, err := s.Store.PasswordOf(ctx, me.Person.ID)
	if err != nil {
		return "", err
	}
	if !people.Check(c.FormValue("password"), hash) {
		return notTheirs, nil
	}
	return "", s.Store.Passed(ctx, own, "")
}

func (s *Server) changePassword(c *echo.Context) error {
	ctx, me := c.Request().Context(), VisitorOf(c)
	switch wait, err := s.OwnPassword(c); {
	case err != nil:
		return err
	case wait == notTheirs:
		return s.Back(c, "The password you have now is another: nothing was changed.")
	case wait != "":
		return s.Back(c, wait)
	}
	if c.FormValue("new") != c.FormValue("again") {
		return s.Back(c, "The new password was typed in two ways: nothing was changed.")
	}
	fresh, err := people.Hash(c.FormValue("new"))
	if err != nil {
		return s.Back(c, "Nothing was changed: "+err.Error()+".")
	}
	if err := s.Store.SetPassword(ctx, me.Person.ID, fresh, s.sessions.GetInt64(ctx, "signin")); err != nil {
		return err
	}
	if err := s.Store.Audit(ctx, store.AuditEntry{Person: me.Person.ID, Act: "changed their password"}); err != nil {
		return err
	}
	return s.Back(c, "Your password was changed; every other browser is signed out.")
}

func (s *Server) endSignIn(c *echo.Context) error {
	ctx, me := c.Request().Context(), VisitorOf(c)
	id, err := Number(c, "id")
	if err != nil {
		return err
	}
	if err := s.Store.EndSignIn(ctx, me.Person.ID, id, s.sessions.GetInt64(ctx, "signin")); err != nil {
		return err
	}
	if err := s.Store.Audit(ctx, store.AuditEntry{Person: me.Person.ID, Act: "ended a sign-in"}); err != nil {
		return err
	}
	if id == 0 {
		return s.Back(c, "Every other browser is signed out.")
	}
	return s.Back(c, "That browser is signed out.")
}

func (s *Server) joinPage(c *echo.Context) error {
	return c.Render(http.StatusOK, "join", s.bare(c, "Join a site", ""))
}

// join makes an account for who holds an invitation's code, and signs them in.
func (s *Server) join(c *echo.Context) error {
	ctx := c.Request().Context()
	again := func(status int, message string) error {
		b := s.bare(c, "Join a site", message)
		b.Typed = map[string]string{"login": c.FormValue("login"), "name": c.FormValue("name")}
		return c.Render(status, "join", b)
	}
	own := "join from " + c.RealIP()
	if wait := s.MayTry(ctx, own, ""); wait != "" {
		return again(http.StatusTooManyRequests, wait)
	}
	login, name := strings.ToLower(strings.TrimSpace(c.FormValue("login"))), strings.TrimSpace(c.FormValue("name"))
	var wrong wrongs
	wrong.add(BadLogin(login, name))
	hash, err := people.Hash(c.FormValue("password"))
	if err != nil {
		wrong.add("Your password: " + err.Error() + ".")
	}
	if len(wrong) > 0 {
		return again(http.StatusUnprocessableEntity, strings.Join(wrong, " "))
	}
	person, site, err := s.Store.Join(ctx, people.HashToken(c.FormValue("code")), login, name, hash)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return again(http.StatusUnprocessableEntity, "That code opens nothing: it was used, is older than seven days, or was mistyped.")
	case errors.Is(err, store.ErrLoginTaken):
		return again(http.StatusUnprocessableEntity, "Somebody signs in by that name already: take another.")
	case err != nil:
		return err
	}
	if err := s.Store.Passed(ctx, own, ""); err != nil {
		return err
	}
	if err := s.Store.Audit(ctx, store.AuditEntry{Site: site, Person: person, Act: "joined", Detail: name}); err != nil {
		return err
	}
	if err := s.begin(c, person); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/sites/%d/board", site))
}

func (s *Server) home(c *echo.Context) error {
	p, err := s.person(c)
	if err != nil {
		return err
	}
	if p == nil {
		return c.Redirect(http.StatusSeeOther, "/sign-in")
	}
	sites, err := s.Store.Sites(c.Request().Context(), p.ID)
	if err != nil {
		return err
	}
	if len(sites) == 0 {
		return c.Redirect(http.StatusSeeOther, "/sites")
	}
	return c.Redirect(http.StatusSeeOther, "/sites/"+strconv.FormatInt(sites[0].ID, 10)+"/board")
}

// Visitor is the signed-in person and the site a request is about.
type Visitor struct {
	Person people.Person
	Member store.Member
}

// member lets only people of the site through; a site that isn't theirs isn't told
// from one that isn't there.
func (s *Server) member(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		p, err := s.person(c)
		if err != nil {
			return err
		}
		if p == nil {
			if c.Request().Method == http.MethodGet && !strings.HasSuffix(c.Request().URL.Path, "/live") {
				return c.Redirect(http.StatusSeeOther, "/sign-in")
			}
			return echo.NewHTTPError(http.StatusUnauthorized, "Sign in first.")
		}
		id, err := Number(c, "site")
		if err != nil {
			return err
		}
		m, err := s.Store.MemberOf(c.Request().Context(), id, p.ID)
		if errors.Is(err, store.ErrNotFound) && c.Request().Header.Get("X-Parts") != "" {
			return c.NoContent(http.StatusNoContent) // an open page of a site that was just put away or left
		}
		if err != nil {
			return err
		}
		c.Set("who", Visitor{*p, m})
		return next(c)
	}
}

func (s *Server) mayChange(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if !VisitorOf(c).Member.Role.MayChange() {
			return echo.NewHTTPError(http.StatusForbidden, "You may look at everything here and change nothing: ask the site's lead.")
		}
		return next(c)
	}
}

// mayLead lets only the site's leads through.
func (s *Server) mayLead(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if VisitorOf(c).Member.Role != people.Lead {
			return echo.NewHTTPError(http.StatusForbidden, "Only a lead of this site may do that.")
		}
		return next(c)
	}
}

// VisitorOf is who asks; zero outside a site.
func VisitorOf(c *echo.Context) Visitor {
	w, _ := c.Get("who").(Visitor)
	return w
}

package web

import (
	"errors"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/time/rate"

	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
)

// tries limits sign-ins by login and by address: five at once, then one in ten
// seconds.
type tries struct {
	mu sync.Mutex
	by map[string]*rate.Limiter
}

func newTries() *tries { return &tries{by: map[string]*rate.Limiter{}} }

func (t *tries) allow(key string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.by) > 10000 {
		t.by = map[string]*rate.Limiter{}
	}
	l, ok := t.by[key]
	if !ok {
		l = rate.NewLimiter(rate.Every(10*time.Second), 5)
		t.by[key] = l
	}
	return l.Allow()
}

func (s *Server) signInPage(c *echo.Context) error {
	return c.Render(http.StatusOK, "signin", s.bare(c, "Sign in", ""))
}

func (s *Server) bare(c *echo.Context, title, message string) base {
	token, _ := c.Get("csrf").(string)
	return base{Title: title, Version: s.version, Message: message, CSRF: token}
}

func (s *Server) signIn(c *echo.Context) error {
	ctx := c.Request().Context()
	login := strings.ToLower(strings.TrimSpace(c.FormValue("login")))
	if len(login) > 64 {
		login = login[:64]
	}
	if !s.tries.allow("login "+login) || !s.tries.allow("from "+c.RealIP()) {
		return c.Render(http.StatusTooManyRequests, "signin", s.bare(c, "Sign in", "Too many tries. Wait ten seconds, then try once more."))
	}
	p, hash, err := s.store.PersonByLogin(ctx, login)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if !people.Check(c.FormValue("password"), hash) {
		_ = s.store.Audit(ctx, 0, p.ID, "sign-in refused", "")
		return c.Render(http.StatusUnprocessableEntity, "signin", s.bare(c, "Sign in", "That name and password don't belong together."))
	}
	if err := s.sessions.RenewToken(ctx); err != nil {
		return err
	}
	s.sessions.Put(ctx, "person", p.ID)
	if err := s.store.Audit(ctx, 0, p.ID, "signed in", ""); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, "/")
}

func (s *Server) signOut(c *echo.Context) error {
	if err := s.sessions.Destroy(c.Request().Context()); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, "/sign-in")
}

func (s *Server) home(c *echo.Context) error {
	p, err := s.person(c)
	if err != nil {
		return err
	}
	if p == nil {
		return c.Redirect(http.StatusSeeOther, "/sign-in")
	}
	sites, err := s.store.Sites(c.Request().Context(), p.ID)
	if err != nil {
		return err
	}
	if len(sites) == 0 {
		return echo.NewHTTPError(http.StatusForbidden, "No site is yours yet. Ask its lead to add you.")
	}
	return c.Redirect(http.StatusSeeOther, "/sites/"+strconv.FormatInt(sites[0].ID, 10)+"/board")
}

// who is the signed-in person and the site a request is about.
type who struct {
	person people.Person
	member store.Member
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
		id, err := strconv.ParseInt(c.Param("site"), 10, 64)
		if err != nil {
			return store.ErrNotFound
		}
		m, err := s.store.MemberOf(c.Request().Context(), id, p.ID)
		if err != nil {
			return err
		}
		c.Set("who", who{*p, m})
		return next(c)
	}
}

func (s *Server) mayChange(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if !whoIs(c).member.Role.MayChange() {
			return echo.NewHTTPError(http.StatusForbidden, "You may look at everything here and change nothing: ask the site's lead.")
		}
		return next(c)
	}
}

func whoIs(c *echo.Context) who {
	w, _ := c.Get("who").(who)
	return w
}

package shell

import (
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
)

// Problem is an error as programs get it.
func Problem(c *echo.Context, status int, sentence string) error {
	return c.JSON(status, map[string]string{"error": sentence})
}

// Program lets only programs through whose token is of the site that is asked and
// has the scope. A site that isn't the token's isn't told from one that isn't there.
func (s *Server) Program(scope people.Scope) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			c.Response().Header().Set("Cache-Control", "no-store")
			bearer, ok := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
			if !ok || len(bearer) > 200 {
				c.Response().Header().Set("WWW-Authenticate", `Bearer realm="Dusky Harbor"`)
				return Problem(c, http.StatusUnauthorized, "Send a token: Authorization: Bearer …")
			}
			t, err := s.Store.TokenBy(c.Request().Context(), people.HashToken(bearer))
			if errors.Is(err, store.ErrNotFound) {
				if wait := s.MayTry(c.Request().Context(), "token from "+c.RealIP(), ""); wait != "" {
					return Problem(c, http.StatusTooManyRequests, wait)
				}
				return Problem(c, http.StatusUnauthorized, "That token opens nothing, or its time is over.")
			}
			if err != nil {
				return s.programFailed(c, err)
			}
			if id := c.Param("site"); id != "" && id != strconv.FormatInt(t.SiteID, 10) {
				return Problem(c, http.StatusNotFound, "There is no such site here, or it isn't this token's.")
			}
			if !slices.Contains(t.Scopes, string(scope)) {
				return Problem(c, http.StatusForbidden, "This token may not "+string(scope)+".")
			}
			c.Set("token", t)
			if err := next(c); err != nil {
				return s.programFailed(c, err)
			}
			return nil
		}
	}
}

// Scoped asks for one scope more.
func (s *Server) Scoped(scope people.Scope) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			if !slices.Contains(TokenOf(c).Scopes, string(scope)) {
				return Problem(c, http.StatusForbidden, "This token may not "+string(scope)+".")
			}
			return next(c)
		}
	}
}

// TokenOf is the token that a program sent.
func TokenOf(c *echo.Context) store.Token {
	t, _ := c.Get("token").(store.Token)
	return t
}

// ByToken is the program as who asks for something.
func ByToken(c *echo.Context) Actor {
	t := TokenOf(c)
	return Actor{Site: t.SiteID, Token: t.ID}
}

func (s *Server) programFailed(c *echo.Context, err error) error {
	var coder interface{ StatusCode() int }
	switch {
	case errors.Is(err, store.ErrNotFound):
		return Problem(c, http.StatusNotFound, "There is no such thing here.")
	case errors.As(err, &coder):
		return Problem(c, coder.StatusCode(), http.StatusText(coder.StatusCode()))
	case IsTold(err):
		return Problem(c, http.StatusConflict, err.Error())
	}
	s.Log.Error("a program's request failed", "path", c.Request().URL.Path, "err", err)
	return Problem(c, http.StatusInternalServerError, "Something in this server went wrong; its log says what.")
}

// Change is a change as programs and exports get it.
type Change struct {
	ID      int64       `json:"id"`
	Device  int64       `json:"device_id"`
	Camera  int64       `json:"camera_id,omitempty"` // the view that it is about, or the device's first
	Place   string      `json:"place"`
	Stage   string      `json:"stage"`
	Kind    string      `json:"kind"`
	Title   string      `json:"title"`
	From    string      `json:"from"`
	To      string      `json:"to"`
	State   store.State `json:"state"`
	Says    string      `json:"says"`
	Reads   string      `json:"reads"`
	Writes  int         `json:"times_sent"`
	By      string      `json:"by"`
	UndoOf  *int64      `json:"undo_of,omitempty"`
	Asked   time.Time   `json:"asked_at"`
	Sent    *time.Time  `json:"sent_at"`
	Settled *time.Time  `json:"settled_at"`
}

// ChangeOut makes it.
func ChangeOut(c store.Change) Change {
	return Change{c.ID, c.DeviceID, c.RowID, c.Place, c.Stage.Slug(), c.Kind, c.Title, c.FromText, c.ToText, c.State,
		c.Says, c.Reads, c.Writes, c.Who, c.UndoOf, c.AskedAt, c.SentAt, c.SettledAt}
}

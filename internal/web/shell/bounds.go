package shell

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/labstack/echo/v5"
)

const (
	// hstsFor is how many seconds a browser keeps to HTTPS once it was answered over it: a year.
	hstsFor = 365 * 24 * 3600
	// pageLimit is how long a page may take to be made.
	pageLimit = 5 * time.Second

	slowDatabase = "The database doesn't answer in time. Nothing was lost: look whether it runs, and load this page again."
	notText      = "That holds characters that no text has. Nothing was kept: type it once more."
)

// noText are PostgreSQL's codes for what no text can hold: character_not_in_repertoire and
// untranslatable_character (its manual, appendix A).
var noText = []string{"22021", "22P05"}

// errSlow is why the context of a page ended that took longer than pageLimit.
var errSlow = errors.New("shell: a page took too long")

// inTime limits how long a page may take. What waits for devices, streams or files has limits
// of its own.
func (s *Server) inTime(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if !isPage(c.Request()) {
			return next(c)
		}
		asked := c.Request()
		ctx, cancel := context.WithTimeoutCause(asked.Context(), s.opt.PageLimit, errSlow)
		defer cancel()
		c.SetRequest(asked.WithContext(ctx))
		err := next(c)
		if ctx.Err() == nil { // what failed is answered by who is outside, in its own time
			c.SetRequest(asked)
		}
		return err
	}
}

// isPage says whether a page of ours is asked for, which rests on the database alone.
func isPage(r *http.Request) bool {
	if r.Method != http.MethodGet {
		return false
	}
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	switch {
	case len(parts) == 1:
		return slices.Contains([]string{"", "sites", "sign-in", "join", "start"}, parts[0])
	case len(parts) == 3:
		return parts[0] == "sites" && parts[2] != "live"
	}
	return false
}

// visitorAddress tells a visitor's address: where the connection comes from one of proxies,
// the last one of X-Forwarded-For that isn't one of them, else where the connection comes from.
func visitorAddress(proxies []netip.Prefix) echo.IPExtractor {
	if len(proxies) == 0 {
		return echo.ExtractIPDirect()
	}
	trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range proxies {
		trust = append(trust, echo.TrustIPRange(&net.IPNet{IP: p.Masked().Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}))
	}
	return echo.ExtractIPFromXFFHeader(trust...)
}

// isText says whether the database can keep s: valid UTF-8 without NUL.
func isText(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

// plainText refuses paths and queries that hold what is no text.
func plainText(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		u := c.Request().URL
		if !isText(u.Path) || !allText(u.Query()) {
			return echo.NewHTTPError(http.StatusBadRequest, notText)
		}
		return next(c)
	}
}

// plainForm refuses forms that hold what is no text, once their size is limited. Files are
// read by whoever takes them.
func plainForm(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if r.Method == http.MethodPost && strings.HasPrefix(r.Header.Get("Content-Type"), "application/x-www-form-urlencoded") {
			form, err := c.FormValues()
			if err != nil {
				return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
			}
			if !allText(form) {
				return echo.NewHTTPError(http.StatusBadRequest, notText)
			}
		}
		return next(c)
	}
}

func allText(values map[string][]string) bool {
	for k, all := range values {
		if !isText(k) || slices.ContainsFunc(all, func(v string) bool { return !isText(v) }) {
			return false
		}
	}
	return true
}

// methodLabel is a request's method for the metrics; what a client made up is "other".
func methodLabel(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return method
	}
	return "other"
}

// Package shell frames the product's pages: session and guard, the head and the passage,
// the table's window, the side sheet, live updates. A page is an added room: it brings its
// own template, data and acts, and the shell names none. It holds no rule.
package shell

import (
	"cmp"
	"compress/gzip"
	"context"
	"embed"
	"errors"
	"html/template"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/alexedwards/scs/pgxstore"
	"github.com/alexedwards/scs/v2"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/vault"
)

//go:embed templates/*.html
var templateFiles embed.FS

//go:embed all:static
var staticFiles embed.FS

// Options of a Server.
type Options struct {
	Hosts  []string // host names requests may name; the listen address is always one
	Listen string
	Secure bool // cookies over TLS alone
	// PageLimit is how long a page may take to be made [5 s].
	PageLimit time.Duration
	// Proxies are the networks of those whose word on a visitor's address is taken, as
	// X-Forwarded-For has it; of anybody else it isn't.
	Proxies []netip.Prefix
	Log     *slog.Logger
	Beat    time.Duration // how often a page is told that it is heard, and asked whose it is [15 s]
}

// Server makes the handler of all pages. Pages embed it for what they share.
type Server struct {
	Store    *store.Store
	Engine   *engine.Engine
	Vault    *vault.Vault
	Log      *slog.Logger
	sessions *scs.SessionManager
	cleanup  *pgxstore.PostgresStore
	base     *template.Template            // what all pages share
	alone    map[string]*template.Template // pages outside a site: ask, enter, join, message, secret
	pages    map[string]*room
	sheets   map[stage.Stage]Sheeter
	draws    map[string]Draw // by kind of change
	order    []*room
	acts     map[string]act.Any
	actNames []string
	hub      *hub
	opt      Options
	version  string
	style    []byte // see stylesheet
	metrics  *metrics
}

// New makes a server; Register gives it pages, Close lets its listener go.
func New(st *store.Store, e *engine.Engine, v *vault.Vault, opt Options) (*Server, error) {
	opt.Log, opt.Beat = cmp.Or(opt.Log, slog.Default()), cmp.Or(opt.Beat, 15*time.Second)
	opt.PageLimit = cmp.Or(opt.PageLimit, pageLimit)
	s := &Server{Store: st, Engine: e, Vault: v, Log: opt.Log, opt: opt, pages: map[string]*room{}, sheets: map[stage.Stage]Sheeter{}, draws: map[string]Draw{}, acts: map[string]act.Any{}}
	s.cleanup = pgxstore.New(st.Pool)
	s.sessions = scs.New()
	s.sessions.Store = s.cleanup
	s.sessions.HashTokenInStore = true   // who reads the database can't sign in with it
	s.sessions.Lifetime = 12 * time.Hour // an idle one ends sooner, see store.Idle
	s.sessions.Cookie.Name = "harbour"
	s.sessions.Cookie.HttpOnly = true
	s.sessions.Cookie.SameSite = http.SameSiteLaxMode
	s.sessions.Cookie.Secure = opt.Secure
	s.sessions.ErrorFunc = func(w http.ResponseWriter, r *http.Request, err error) {
		opt.Log.Error("the session wasn't read", "path", r.URL.Path, "err", err)
		http.Error(w, slowDatabase, http.StatusServiceUnavailable)
	}
	s.metrics = newMetrics(st)
	if err := s.parse(); err != nil {
		return nil, err
	}
	s.hub = newHub(st, opt.Log)
	return s, nil
}

// Close ends the server's own goroutines.
func (s *Server) Close() {
	s.hub.close()
	s.cleanup.StopCleanup()
}

const policy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"

// Handler is the whole site.
func (s *Server) Handler() http.Handler { return s.routes() }

func (s *Server) routes() *echo.Echo {
	e := echo.New()
	e.Renderer = s
	e.Logger = s.Log
	e.HTTPErrorHandler = s.failed
	e.IPExtractor = visitorAddress(s.opt.Proxies)
	// What every answer carries, also one that refuses.
	e.Use(middleware.SecureWithConfig(middleware.SecureConfig{ContentTypeNosniff: "nosniff", XFrameOptions: "DENY",
		ContentSecurityPolicy: policy, ReferrerPolicy: "same-origin", HSTSMaxAge: hstsFor, HSTSExcludeSubdomains: true}))
	e.Use(s.requestLog(), middleware.Recover(), s.hostAllowed, s.inTime, plainText)
	// A file is the one thing that may be larger.
	file := func(c *echo.Context) bool { return strings.HasSuffix(c.Request().URL.Path, "/upload") }
	e.Use(middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: 1 << 20, Skipper: file}),
		middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: act.MaxFile + 64<<10,
			Skipper: func(c *echo.Context) bool { return !file(c) }}))
	e.Use(plainForm)
	e.GET("/healthz", s.health)
	e.GET("/static/:version/*", s.static)

	g := e.Group("", echo.WrapMiddleware(s.sessions.LoadAndSave), middleware.CSRFWithConfig(middleware.CSRFConfig{
		TokenLookup: "form:_csrf,header:X-CSRF-Token", CookieName: "harbour_csrf", CookiePath: "/", CookieHTTPOnly: true,
		CookieSecure: s.opt.Secure, CookieSameSite: http.SameSiteLaxMode}))
	zip := middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 1024, Level: gzip.BestSpeed})
	g.GET("/sign-in", s.enterPage, zip)
	g.POST("/sign-in", s.enter)
	g.POST("/sign-out", s.signOut)
	g.GET("/join", s.joinPage)
	g.POST("/join", s.join)
	g.GET("/start", s.startPage)
	g.POST("/start", s.start)
	g.GET("/sites", s.sitesPage, s.signedInOrEnter)
	g.POST("/sites", s.makeSite, s.signedIn)
	g.POST("/sites/:id/take-out", s.takeOut, s.signedIn)
	g.GET("/", s.home)
	g.POST("/account/password", s.changePassword, s.signedIn)
	g.POST("/account/sign-ins/:id/end", s.endSignIn, s.signedIn)
	site := g.Group("/sites/:site", s.member)
	change := site.Group("", s.mayChange)
	site.GET("/live", s.live)
	site.GET("/:page", s.page, zip)
	change.POST("/:stage/read", s.read)
	change.POST("/:stage/apply", s.apply)
	change.POST("/previews/:preview/make", s.makePreview)
	change.POST("/runs/:run/stop", s.stopRun)
	change.POST("/changes/:change/undo", s.undo)
	r := &Routes{Root: e.Group(""), Site: site, Change: change, Lead: site.Group("", s.mayLead)}
	r.Root.GET("/metrics", s.metrics.serve, s.Program(people.ScopeRead))
	for _, a := range s.Acts() {
		by := r.Change
		if a.Is().Role == people.Lead {
			by = r.Lead
		}
		by.POST("/"+a.Is().Name, s.pageAct(a))
	}
	for _, page := range s.order {
		page.Routes(r)
	}
	return e
}

// requestLog writes method, path and status; queries, forms and headers may hold
// what isn't for a log.
func (s *Server) requestLog() echo.MiddlewareFunc {
	return middleware.RequestLoggerWithConfig(middleware.RequestLoggerConfig{
		LogMethod: true, LogURIPath: true, LogStatus: true, LogLatency: true, HandleError: true,
		LogValuesFunc: func(c *echo.Context, v middleware.RequestLoggerValues) error {
			s.metrics.took.WithLabelValues(methodLabel(v.Method), strconv.Itoa(v.Status/100)+"xx").Observe(v.Latency.Seconds())
			level := slog.LevelInfo
			if v.Status >= 500 && c.Request().Context().Err() == nil {
				level = slog.LevelError
			}
			s.Log.Log(c.Request().Context(), level, "request", "method", v.Method, "path", v.URIPath, "status",
				v.Status, "took", v.Latency.Round(time.Millisecond), "err", v.Error)
			return nil
		}})
}

// hostAllowed refuses requests under names that aren't ours: a page elsewhere may
// make a name of its own point here.
func (s *Server) hostAllowed(next echo.HandlerFunc) echo.HandlerFunc {
	allowed := append([]string{s.opt.Listen, "localhost", "127.0.0.1"}, s.opt.Hosts...)
	return func(c *echo.Context) error {
		host := c.Request().Host
		name, _, err := net.SplitHostPort(host)
		if err != nil {
			name = host
		}
		if !slices.Contains(allowed, host) && !slices.Contains(allowed, name) {
			return echo.NewHTTPError(http.StatusMisdirectedRequest, "This server isn't called that.")
		}
		return next(c)
	}
}

// static serves the shell's own files, under pages/ the scripts of pages, and the style sheet of all.
func (s *Server) static(c *echo.Context) error {
	name := c.Param("*")
	if strings.HasSuffix(name, "/") || name == "" {
		return echo.NewHTTPError(http.StatusNotFound, "There is no such file.")
	}
	const long = "public, max-age=31536000, immutable" // its address changes with it
	if name == "css/harbour.css" {
		c.Response().Header().Set("Cache-Control", long)
		return c.Blob(http.StatusOK, "text/css; charset=utf-8", s.style)
	}
	files, err := fs.Sub(staticFiles, "static")
	if err != nil {
		return err
	}
	if path, ok := strings.CutPrefix(name, "pages/"); ok { // streams.js, or a part of it: streams/moving.js
		slug, part, _ := strings.Cut(strings.TrimSuffix(path, ".js"), "/")
		room, there := s.pages[slug]
		if !there || !room.script || !strings.HasSuffix(path, ".js") || strings.Contains(part, "/") {
			return echo.NewHTTPError(http.StatusNotFound, "There is no such file.")
		}
		files, name = room.Files(), cmp.Or(part, "page")+".js"
	}
	c.Response().Header().Set("Cache-Control", long)
	http.ServeFileFS(c.Response(), c.Request(), files, name)
	return nil
}

func (s *Server) health(c *echo.Context) error {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	switch err := s.Store.Writable(ctx); {
	case noRoom(err):
		return c.String(http.StatusServiceUnavailable, "the database has no room left: its disk is full\n")
	case err != nil:
		return c.String(http.StatusServiceUnavailable, "the database doesn't answer\n")
	}
	return c.String(http.StatusOK, "ok\n")
}

// noRoom says whether the database refused to write since its disk, or its memory, is full (class 53 of
// PostgreSQL's error codes, without too many connections).
func noRoom(err error) bool {
	var pe *pgconn.PgError
	return errors.As(err, &pe) && strings.HasPrefix(pe.Code, "53") && pe.Code != "53300"
}

// fullDisk is what a person is told then.
const fullDisk = "Nothing was written: the disk of this server's database is full. Make room on it, then try again."

// failed words an error for the person at the page.
func (s *Server) failed(c *echo.Context, err error) {
	if r, err := echo.UnwrapResponse(c.Response()); err == nil && r.Committed {
		return // the log's middleware had it answered already
	}
	slow := errors.Is(context.Cause(c.Request().Context()), errSlow)
	if c.Request().Context().Err() != nil && !slow {
		return // the browser went elsewhere; nobody reads an answer
	}
	status, sentence := http.StatusInternalServerError, "Something in this server went wrong; its log says what. Nothing was lost: go back and try again."
	var he *echo.HTTPError
	var coder interface{ StatusCode() int }
	var pe *pgconn.PgError
	switch {
	case slow:
		status, sentence = http.StatusServiceUnavailable, slowDatabase
		s.Log.Error("a page wasn't answered in time", "path", c.Request().URL.Path, "err", err)
	case noRoom(err):
		status, sentence = http.StatusInsufficientStorage, fullDisk
		s.Log.Error("the database has no room left", "path", c.Request().URL.Path, "err", err)
	case errors.As(err, &pe) && slices.Contains(noText, pe.Code):
		status, sentence = http.StatusBadRequest, notText
	case errors.As(err, &he):
		status, sentence = he.Code, he.Message
	case errors.Is(err, store.ErrNotFound):
		status, sentence = http.StatusNotFound, "There is no such thing here, or it isn't yours to see."
	case errors.As(err, &coder):
		status, sentence = coder.StatusCode(), http.StatusText(coder.StatusCode())
	default:
		s.Log.Error("a page failed", "path", c.Request().URL.Path, "err", err)
	}
	if sentence == "" {
		sentence = http.StatusText(status)
	}
	if status == http.StatusForbidden && strings.Contains(strings.ToLower(sentence), "csrf") {
		sentence = "This page was open for too long, or the request came from elsewhere. Go back, load it again and try once more."
	}
	if strings.HasPrefix(c.Request().URL.Path, "/api/") { // a program reads it
		if err := Problem(c, status, sentence); err != nil {
			s.Log.Error("an answer wasn't written", "path", c.Request().URL.Path, "err", err)
		}
		return
	}
	data := Frame{Title: "Not done", Version: s.version, Message: sentence}
	if rerr := c.Render(status, "message", data); rerr != nil {
		_ = c.String(status, sentence)
	}
}

// Number reads the named part of the path as a row's number; what is no number is not found.
func Number(c *echo.Context, name string) (int64, error) {
	id, err := strconv.ParseInt(c.Param(name), 10, 64)
	if err != nil {
		return 0, store.ErrNotFound
	}
	return id, nil
}

// Answers lists the methods and paths that are answered, as echo writes them.
func (s *Server) Answers() [][2]string {
	var out [][2]string
	for _, r := range s.routes().Router().Routes() {
		switch r.Method {
		case http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodPatch:
			out = append(out, [2]string{r.Method, r.Path})
		}
	}
	return out
}

// Package web is the product's pages: server-rendered, with a little script. It
// calls work and store and holds no rule.
package web

import (
	"compress/gzip"
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/alexedwards/scs/pgxstore"
	"github.com/alexedwards/scs/v2"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"duskyharbor/internal/app"
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
	Log    *slog.Logger
}

// Server makes the handler of all pages.
type Server struct {
	store    *store.Store
	office   *app.App
	vault    *vault.Vault
	sessions *scs.SessionManager
	cleanup  *pgxstore.PostgresStore
	pages    map[string]*template.Template
	hub      *hub
	opt      Options
	version  string
	build    map[string]builder
	metrics  *metrics
}

// New makes a server; Close lets its listener go.
func New(st *store.Store, o *app.App, v *vault.Vault, opt Options) (*Server, error) {
	if opt.Log == nil {
		opt.Log = slog.Default()
	}
	s := &Server{store: st, office: o, vault: v, opt: opt}
	s.cleanup = pgxstore.New(st.Pool)
	s.sessions = scs.New()
	s.sessions.Store = s.cleanup
	s.sessions.HashTokenInStore = true   // who reads the database can't sign in with it
	s.sessions.Lifetime = 12 * time.Hour // an idle one ends sooner, see store.Idle
	s.sessions.Cookie.Name = "harbour"
	s.sessions.Cookie.HttpOnly = true
	s.sessions.Cookie.SameSite = http.SameSiteLaxMode
	s.sessions.Cookie.Secure = opt.Secure
	var err error
	if s.version, err = staticVersion(); err != nil {
		return nil, err
	}
	if s.pages, err = s.parse(); err != nil {
		return nil, err
	}
	s.build = s.builders()
	s.metrics = newMetrics(st)
	s.hub = newHub(st, opt.Log)
	return s, nil
}

// Close ends the server's own goroutines.
func (s *Server) Close() {
	s.hub.close()
	s.cleanup.StopCleanup()
}

// staticVersion changes when any asset does, so that browsers may keep them for long.
func staticVersion() (string, error) {
	h := sha256.New()
	err := fs.WalkDir(staticFiles, "static", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := staticFiles.ReadFile(path)
		if err == nil {
			fmt.Fprintf(h, "%s %d ", path, len(data))
			_, _ = h.Write(data)
		}
		return err
	})
	return hex.EncodeToString(h.Sum(nil))[:10], err
}

func (s *Server) parse() (map[string]*template.Template, error) {
	base, err := template.New("").Funcs(s.funcs()).ParseFS(templateFiles, "templates/layout.html", "templates/parts.html", "templates/sheet.html")
	if err != nil {
		return nil, fmt.Errorf("web: %w", err)
	}
	names, err := fs.Glob(templateFiles, "templates/page_*.html")
	if err != nil {
		return nil, err
	}
	pages := map[string]*template.Template{}
	for _, n := range names {
		t, err := base.Clone()
		if err == nil {
			t, err = t.ParseFS(templateFiles, n)
		}
		if err != nil {
			return nil, fmt.Errorf("web: %w", err)
		}
		pages[strings.TrimSuffix(strings.TrimPrefix(n, "templates/page_"), ".html")] = t
	}
	return pages, nil
}

// Render is echo's renderer: name is a page, which fills the layout.
func (s *Server) Render(_ *echo.Context, w io.Writer, name string, data any) error {
	t, ok := s.pages[name]
	if !ok {
		return fmt.Errorf("web: no page %q", name)
	}
	return t.ExecuteTemplate(w, "layout", data)
}

const policy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"

// Handler is the whole site.
func (s *Server) Handler() http.Handler { return s.routes() }

func (s *Server) routes() *echo.Echo {
	e := echo.New()
	e.Renderer = s
	e.Logger = s.opt.Log
	e.HTTPErrorHandler = s.failed
	e.Use(s.requestLog(), middleware.Recover(), s.hostAllowed)
	e.Use(middleware.SecureWithConfig(middleware.SecureConfig{ContentTypeNosniff: "nosniff", XFrameOptions: "DENY", ContentSecurityPolicy: policy, ReferrerPolicy: "same-origin"}))
	// A list of cameras is the one thing that may be larger.
	list := func(c *echo.Context) bool { return strings.HasSuffix(c.Request().URL.Path, "/expected/upload") }
	e.Use(middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: 1 << 20, Skipper: list}),
		middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: maxUpload + 64<<10, Skipper: func(c *echo.Context) bool { return !list(c) }}))
	e.GET("/healthz", s.health)
	static, err := fs.Sub(staticFiles, "static")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	e.GET("/static/:version/*", s.static(http.FS(static)))

	g := e.Group("", echo.WrapMiddleware(s.sessions.LoadAndSave), middleware.CSRFWithConfig(middleware.CSRFConfig{
		TokenLookup: "form:_csrf,header:X-CSRF-Token", CookieName: "harbour_csrf", CookiePath: "/", CookieHTTPOnly: true,
		CookieSecure: s.opt.Secure, CookieSameSite: http.SameSiteLaxMode}))
	zip := middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 1024, Level: gzip.BestSpeed})
	g.GET("/sign-in", s.signInPage, zip)
	g.POST("/sign-in", s.signIn)
	g.POST("/sign-out", s.signOut)
	g.GET("/join", s.joinPage)
	g.POST("/join", s.join)
	g.GET("/", s.home)
	g.POST("/account/password", s.changePassword, s.signedIn)
	g.POST("/account/sign-ins/:id/end", s.endSignIn, s.signedIn)
	site := g.Group("/sites/:site", s.member)
	site.GET("/live", s.live)
	site.GET("/stills/:device", s.cameraStill)
	site.GET("/channels/:device/:number/still", s.channelStill)
	site.GET("/log/changes.:form", s.exportLog)
	site.GET("/expected.:form", s.exportExpected)
	site.GET("/:page", s.page, zip)
	change := site.Group("", s.mayChange)
	change.POST("/:stage/read", s.read)
	change.POST("/:stage/apply", s.apply)
	change.POST("/routes/peg", s.peg)
	change.POST("/prove/walk", s.walk)
	change.POST("/runs/:run/stop", s.stopRun)
	change.POST("/changes/:change/undo", s.undo)
	change.POST("/find/also", s.alsoLook)
	change.POST("/find/also/:network/drop", s.dropBench)
	change.POST("/find/accept", s.accept)
	change.POST("/find/take-over", s.takeOver)
	change.POST("/find/list", s.listAs)
	change.POST("/find/leave-out", s.leaveOut)
	change.POST("/find/expect", s.expectHere)
	change.POST("/find/views", s.pickViews)
	change.POST("/find/move", s.move)
	change.POST("/find/settle", s.settle)
	change.POST("/sign-in/rotate", s.rotate)
	change.POST("/sign-in/basic", s.allowBasic)
	change.POST("/sign-in/trust", s.trust)
	change.POST("/settings/wishes", s.setWishes)
	change.POST("/settings/least", s.setLeast)
	change.POST("/settings/set", s.addSet)
	change.POST("/settings/set/:set/reveal", s.reveal)
	change.POST("/settings/network", s.addNetwork)
	change.POST("/expected/upload", s.upload)
	change.POST("/expected/take", s.takeList)
	change.POST("/expected/drop", s.dropList)
	site.POST("/settings/invite", s.invite, s.mayLead)
	site.POST("/settings/invitations/:id/withdraw", s.withdraw, s.mayLead)
	site.POST("/settings/people/:id/role", s.setRole, s.mayLead)
	site.POST("/settings/token", s.addToken, s.mayLead)
	site.POST("/settings/tokens/:id/end", s.endToken, s.mayLead)
	s.programs(e)
	return e
}

// requestLog writes method, path and status; queries, forms and headers may hold
// what isn't for a log.
func (s *Server) requestLog() echo.MiddlewareFunc {
	return middleware.RequestLoggerWithConfig(middleware.RequestLoggerConfig{
		LogMethod: true, LogURIPath: true, LogStatus: true, LogLatency: true, HandleError: true,
		LogValuesFunc: func(c *echo.Context, v middleware.RequestLoggerValues) error {
			s.metrics.took.WithLabelValues(v.Method, strconv.Itoa(v.Status/100)+"xx").Observe(v.Latency.Seconds())
			level := slog.LevelInfo
			if v.Status >= 500 && c.Request().Context().Err() == nil {
				level = slog.LevelError
			}
			s.opt.Log.Log(c.Request().Context(), level, "request", "method", v.Method, "path", v.URIPath, "status", v.Status, "took", v.Latency.Round(time.Millisecond), "err", v.Error)
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

func (s *Server) static(files http.FileSystem) echo.HandlerFunc {
	serve := http.FileServer(files)
	return func(c *echo.Context) error {
		r := c.Request().Clone(c.Request().Context())
		r.URL.Path = "/" + c.Param("*")
		if strings.HasSuffix(r.URL.Path, "/") {
			return echo.NewHTTPError(http.StatusNotFound, "There is no such file.")
		}
		c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		serve.ServeHTTP(c.Response(), r)
		return nil
	}
}

func (s *Server) health(c *echo.Context) error {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	if err := s.store.Pool.Ping(ctx); err != nil {
		return c.String(http.StatusServiceUnavailable, "the database doesn't answer\n")
	}
	return c.String(http.StatusOK, "ok\n")
}

// failed words an error for the person at the page.
func (s *Server) failed(c *echo.Context, err error) {
	if r, err := echo.UnwrapResponse(c.Response()); err == nil && r.Committed {
		return // the log's middleware had it answered already
	}
	if c.Request().Context().Err() != nil {
		return // the browser went elsewhere; nobody reads an answer
	}
	status, sentence := http.StatusInternalServerError, "Something in this server went wrong; its log says what. Nothing was lost: go back and try again."
	var he *echo.HTTPError
	var coder interface{ StatusCode() int }
	switch {
	case errors.As(err, &he):
		status, sentence = he.Code, he.Message
	case errors.Is(err, store.ErrNotFound):
		status, sentence = http.StatusNotFound, "There is no such thing here, or it isn't yours to see."
	case errors.As(err, &coder):
		status, sentence = coder.StatusCode(), http.StatusText(coder.StatusCode())
	default:
		s.opt.Log.Error("a page failed", "path", c.Request().URL.Path, "err", err)
	}
	if sentence == "" {
		sentence = http.StatusText(status)
	}
	if status == http.StatusForbidden && strings.Contains(strings.ToLower(sentence), "csrf") {
		sentence = "This page was open for too long, or the request came from elsewhere. Go back, load it again and try once more."
	}
	data := base{Title: "Not done", Version: s.version, Message: sentence}
	if rerr := c.Render(status, "message", data); rerr != nil {
		_ = c.String(status, sentence)
	}
}

// number reads the named part of the path as a row's number; what is no number is not found.
func number(c *echo.Context, name string) (int64, error) {
	id, err := strconv.ParseInt(c.Param(name), 10, 64)
	if err != nil {
		return 0, store.ErrNotFound
	}
	return id, nil
}

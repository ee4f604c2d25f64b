package web_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
	"duskyharbor/internal/web/shell"
)

var rowID = regexp.MustCompile(`<tr data-row="(\d+)">`)

func quietLog() *slog.Logger {
	return slog.New(slog.NewTextHandler(io.Discard, nil))
}

// harbour is the whole product over a running scenario.
type harbour struct {
	*testbed.Harbour
	url  string
	site string
	web  *shell.Server
	app  *app.App
	t    *testing.T

	program *acts    // see whole
	beyond  int      // presses for what comes after Recording, see next
	lead    *visitor // see text
}

func serve(t *testing.T) *harbour { return serveBulk(t, 0) }

func serveBulk(t *testing.T, bulk int) *harbour {
	t.Helper()
	return serveOn(t, testbed.StartBulk(t, bulk), nil)
}

func serveLogging(t *testing.T, log *slog.Logger) *harbour {
	t.Helper()
	return serveOn(t, testbed.Start(t), log)
}

func serveOn(t *testing.T, h *testbed.Harbour, log *slog.Logger) *harbour {
	t.Helper()
	return serveWith(t, h, app.Options{Options: engine.Options{Log: log}})
}

// serveWith serves a harbour with pages of the test's own.
func serveWith(t *testing.T, h *testbed.Harbour, opt app.Options, pages ...func(*shell.Server) shell.Page) *harbour {
	t.Helper()
	opt.Listen, opt.Measure, opt.WalkFor = 900*time.Millisecond, 2200*time.Millisecond, 25*time.Second
	o, err := app.New(h.Store, h.Vault, &dial.Dialer{}, opt)
	if err != nil {
		t.Fatal(err)
	}
	if err := o.Start(context.Background()); err != nil {
		t.Fatal(err)
	}
	s, err := o.Pages(h.Vault, shell.Options{Log: opt.Log, PageLimit: 30 * time.Second}, pages...)
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(s.Handler())
	t.Cleanup(func() {
		srv.CloseClientConnections()
		srv.Close()
		s.Close()
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if err := o.Stop(ctx); err != nil {
			t.Error(err)
		}
	})
	return &harbour{Harbour: h, url: srv.URL, site: "1", web: s, app: o, t: t}
}

func (h *harbour) signIn(p *testbed.Page, login, password string) {
	p.Go(h.url + "/sign-in")
	p.Type("#login", login)
	p.Type("#password", password)
	p.Press("Sign in")
	testbed.Until(h.t, 30*time.Second, login+" is let in", func() bool {
		at := testbed.Glance[string](p, "location.pathname")
		return at != "" && at != "/sign-in"
	})
}

// shooter keeps pictures of the walk where SHOTS names a folder.
type shooter struct {
	t   *testing.T
	dir string
	p   *testbed.Page
}

func (s shooter) shoot(name string) {
	if s.dir == "" {
		return
	}
	s.t.Helper()
	testbed.Until(s.t, 10*time.Second, "stills and fonts are there", func() bool {
		return testbed.Glance[bool](s.p, "document.fonts.status === 'loaded' && [...document.images].every((i) => i.complete)")
	})
	if err := os.WriteFile(filepath.Join(s.dir, name+".png"), s.p.Shot(), 0o600); err != nil {
		s.t.Fatal(err)
	}
}

// walkThrough drives the real pages from an empty site to a proven camera and a
// mended clock, by buttons only.
func walkThrough(t *testing.T, h *harbour, p *testbed.Page, shoot func(string)) {
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Board", "Nothing was looked for yet")
	p.Passage("find")
	p.Press("Look at 3 networks")
	p.Sees(60*time.Second, "multicast heard 2, directed probes 2", "multicast, directed, time, RTSP", "Expected here, and nothing answers.")
	shoot("find")

	p.Passage("sign-in")
	p.Press("Sign in to 2 cameras")
	p.Sees(60*time.Second, "HTTP Digest, Administrator", "WS-UsernameToken, Administrator")
	shoot("sign-in")

	p.Passage("clock")
	p.Press("Read the clock of 2 cameras")
	p.Sees(60*time.Second, "+1 h", "Set the clock on 1 camera")
	shoot("clock")

	p.Passage("streams")
	p.Press("Read and play 2 cameras")
	p.Sees(90*time.Second, "declared and measured", "2 cameras read")
	shoot("streams")

	p.Passage("channels")
	h.makes(p, "Place 2 cameras")
	p.Sees(90*time.Second, "H.264 1280 × 720", "refused")
	p.Passage("routes")
	p.Press("Read the topics of 2 cameras")
	h.makes(p, "Peg 2 routes of Slipway")
	p.Sees(60*time.Second, "Its events reach the recorder's inputs")
	shoot("routes")

	p.Passage("prove")
	p.Press("Have the stand-in walk at Slipway")
	p.Sees(90*time.Second, "Every leg on time.", "1 of its 2 routes that can be walked are proven")
	p.Press("Have the stand-in walk at Slipway") // the next walk takes the other route
	testbed.Until(t, 90*time.Second, "both routes are walked", func() bool { return count(h, `select count(*) from proof where ended_at is not null`) == 2 })
	h.idle()
	p.Sees(30*time.Second, "Every leg on time.")
	shoot("prove")

	// Berth 1: refused, and why; one button; then the recorder takes it.
	p.Go(h.url + "/sites/" + h.site + "/board")
	p.Sees(30*time.Second, "1 of 15 proven", "refused", "+1 h")
	shoot("board")
	p.Press("Berth 1 ramp")
	p.Sees(30*time.Second, "Berth 1 ramp · Find")
	p.PressIn(".stage-tabs", "Clock")
	p.Sees(30*time.Second, "1 h ahead of Terminal recorder", "set by hand", "the recorder is refused, though the password is right")
	shoot("sheet")
	h.makes(p, "Set the clock on Berth 1 ramp")
	p.Sees(75*time.Second, "verified, after 5 s")
	p.Passage("channels")
	testbed.Until(t, 75*time.Second, "both channels receive", func() bool {
		return strings.Count(testbed.Glance[string](p, "document.querySelector('.front').innerText"), "H.264 1280 × 720") == 2
	})
	shoot("channels")
}

func TestTheWalkInABrowser(t *testing.T) {
	t.Parallel()
	h := serve(t)
	p := testbed.Browser(t, 1280, 800)
	began := time.Now()
	walkThrough(t, h, p, func(string) {})
	t.Logf("the walk: %d presses, %.0f s", p.Presses(), time.Since(began).Seconds())
	// The wall: a still of each, beside its mark, fetched again without a press.
	p.Go(h.url + "/sites/" + h.site + "/streams?wall=1")
	testbed.Until(t, 30*time.Second, "both stills are shown", func() bool {
		return testbed.Glance[int](p, "[...document.querySelectorAll('img[data-wall]')].filter((i) => i.naturalWidth > 0 && !i.missing).length") == 2
	})
	// One that doesn't come is said; an update may give it its own address again meanwhile.
	none := `(() => { const i = document.querySelector('img[data-wall]'), src = i.getAttribute('src');
		if (src.endsWith('/nopicture.svg')) return i.complete && i.naturalWidth > 0 && i.alt.endsWith("it didn't come");
		if (!src.endsWith('999999')) i.src = src.split('?')[0].replace(/\d+$/, '999999');
		return false })()`
	testbed.Until(t, 30*time.Second, "it is said that there is no picture", func() bool { return testbed.Glance[bool](p, none) })
	p.Go(h.url + "/sites/" + h.site + "/streams?wall=1")
	testbed.Until(t, 30*time.Second, "a still is fetched again", func() bool {
		return testbed.Glance[bool](p, "[...document.querySelectorAll('img[data-wall]')].some((i) => i.src.includes('?t='))")
	})
	p.Go(h.url + "/sites/" + h.site + "/prove")
	p.AccessibleIn("main", "prove with its walks")
	p.Theme("dark")
	p.LegibleIn("main", "prove with its walks in dark")
}

// axe-core finds nothing on any page, in either theme; no page scrolls sideways.
func TestPagesAreLegibleAndFit(t *testing.T) {
	t.Parallel()
	h := serve(t)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "clock", "streams", "channels", "channels!", "routes")
	looks := []string{"board", "streams", "channels", "recording", "routes", "prove", "log", "log?part=people", "account", "expected",
		fmt.Sprintf("board?sheet=%d&stage=clock", h.number("Berth 1 ramp")), fmt.Sprintf("channels?sheet=%d", h.number("Berth 1 ramp")),
		"board?q=nothing+like+it", "board?q=stage:clok", "streams?wall=1"}
	for _, name := range looks {
		h.on(p, name)
		within := "main"
		switch {
		case name == "board": // the frame is the same on every page
			within = "html"
		case strings.Contains(name, "sheet="):
			within = ".sheet"
		}
		p.AccessibleIn(within, name)
		h.fits(p, name)
		p.Theme("dark")
		p.LegibleIn(within, name+" in dark")
		p.Theme("light")
	}
	for _, name := range pages { // those that are one page with other words, and those that another test looks at
		if !slices.Contains(looks, name) {
			h.on(p, name)
			h.fits(p, name)
		}
	}
}

// fits says of the open page where it scrolls sideways: at the design size, on a small
// laptop, on a phone.
func (h *harbour) fits(p *testbed.Page, name string) {
	h.t.Helper()
	for _, width := range []int64{390, 1024, 1280} {
		p.Resize(width, 800)
		testbed.Until(h.t, 10*time.Second, "the window has its width", func() bool { return testbed.Glance[int64](p, "innerWidth") == width })
		if w := testbed.Eval[int64](p, "document.documentElement.scrollWidth"); w > width {
			h.t.Errorf("%s is %d wide at %d and scrolls sideways: %s", name, w, width, testbed.Eval[string](p, beyond))
		}
	}
}

// beyond lists what reaches beyond the page's right edge.
const beyond = `[innerWidth, ...[...document.querySelectorAll("body *")].filter((e) => e.getBoundingClientRect().right > innerWidth + 1)
	.map((e) => e.tagName + "." + e.className + " to " + Math.round(e.getBoundingClientRect().right))].slice(0, 9).join(", ")`

// shootAnalytics draws a rule on what somebody just walked through, and shows one of its firings.
func (s shooter) shootAnalytics(h *harbour) {
	p := s.p
	h.on(p, "analytics")
	h.click(p, "#read button")
	h.on(p, "analytics")
	p.Press("Gather what Slipway sees")
	testbed.Until(s.t, 30*time.Second, "a server listens", func() bool {
		return count(h, `select count(*) from gathering where documents > 0`) == 1
	})
	cam := h.Fleet.Camera("Slipway")
	for walked := range 3 {
		res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil)
		if err != nil {
			s.t.Fatal(err)
		}
		_ = res.Body.Close()
		testbed.Until(s.t, 60*time.Second, "someone was seen, and is gone", func() bool {
			return count(h, `select count(distinct object) from seen where ended_at < now() - interval '4 seconds'`) > walked
		})
	}
	p.Press("Draw a new rule")
	p.Sees(20*time.Second, "drawn here, not kept")
	p.Set("#rule-kind", "Stays")
	p.Set("#rule-name", "Ramp foot")
	p.Set("#rule-for", "2")
	p.Set("#rule-points", "45 62, 60 60, 72 92, 34 96")
	p.Press("Keep this rule")
	p.Sees(30*time.Second, "would have fired")
	h.on(p, "analytics")
	p.Set("#rehearsal-minutes", "10")
	testbed.Eval[bool](p, "(document.getElementById('rehearsal-minutes').dispatchEvent(new Event('change', {bubbles: true})), true)")
	p.Sees(20*time.Second, "of 10 minutes")
	testbed.Eval[bool](p, "(document.querySelector('.hit').dispatchEvent(new MouseEvent('click', {bubbles: true})), true)")
	s.shoot("analytics")
}

// TestShots renders docs/screenshots from the whole harbour; make shots sets SHOTS.
func TestShots(t *testing.T) {
	dir := os.Getenv("SHOTS")
	if dir == "" {
		t.Skip("SHOTS isn't set: make shots renders the pictures")
	}
	h := serveWith(t, testbed.StartWhole(t), app.Options{Live: moving.Live, Gather: true})
	p := testbed.Browser(t, 1280, 800)
	s := shooter{t, dir, p}
	byButtons(t, h, p, s.shoot)
	h.on(p, "streams")
	h.click(p, "#read button")
	p.Sees(90*time.Second, "declared and measured")
	p.Wait(16 * time.Second)
	h.on(p, fmt.Sprintf("streams?sheet=%d", h.number("Slipway")))
	h.on(p, "streams")
	s.shoot("streams")
	h.on(p, "channels?recorder=2")
	h.click(p, "#apply button")
	h.on(p, "routes")
	h.click(p, "#read button")
	p.PressIn("main", "Slipway")
	h.makes(p, "Peg 2 routes of Slipway")
	p.Sees(60*time.Second, "Its events reach the recorder's inputs")
	p.Wait(16 * time.Second)
	s.shoot("routes")
	h.on(p, "prove")
	p.Press("Have the stand-in walk at Slipway")
	p.Sees(90*time.Second, "Every leg on time.")
	p.Wait(16 * time.Second)
	s.shoot("prove")
	h.on(p, "channels?recorder=2")
	p.Wait(5 * time.Second)
	s.shoot("channels")
	h.on(p, "recording")
	p.Sees(30*time.Second, "What takes most room")
	p.Set("input[name=least]", "30")
	p.Set("input[name=most]", "45")
	p.PressIn(".keeping", "Keep these")
	p.Sees(30*time.Second, "Kept; every recording is judged by it.")
	testbed.Until(t, 30*time.Second, "the page's scripts run", func() bool {
		return testbed.Glance[bool](p, "!!(document.querySelector('[x-data]') || {})._x_dataStack")
	})
	testbed.Eval[bool](p, "document.querySelector('[data-pick-all]').click(); true")
	p.Sees(30*time.Second, "Write the plan to")
	h.run(p, "#plan", testbed.Eval[string](p, "document.getElementById('write').innerText"))
	p.Wait(20 * time.Second)
	h.on(p, "recording")
	h.click(p, "#read button")
	p.Wait(16 * time.Second)
	h.on(p, "recording")
	p.Sees(30*time.Second, "What takes most room")
	s.shoot("recording")
	for _, page := range []string{"board", "log", "settings", "expected"} {
		h.on(p, page)
		s.shoot(page)
	}
	s.shootAnalytics(h)
	h.on(p, "board")
	testbed.Eval[bool](p, "document.documentElement.setAttribute('data-bs-theme', 'dark'); true")
	s.shoot("board-dark")
	p.Resize(390, 844)
	h.on(p, "board")
	s.shoot("board-phone")
	h.on(p, "prove")
	s.shoot("prove-phone")
}

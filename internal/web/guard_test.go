package web_test

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/store"
)

// visitor is a browser without a browser.
type visitor struct {
	t    *testing.T
	c    *http.Client
	base string
}

func visit(t *testing.T, h *harbour) *visitor {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &visitor{t, &http.Client{Jar: jar, Timeout: 20 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, h.url}
}

func (v *visitor) get(path string) (*http.Response, string) {
	v.t.Helper()
	res, err := v.c.Get(v.base + path)
	if err != nil {
		v.t.Fatal(err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		v.t.Fatal(err)
	}
	return res, string(body)
}

var csrf = regexp.MustCompile(`name="_csrf" value="([^"]+)"`)

func (v *visitor) token(path string) string {
	v.t.Helper()
	_, body := v.get(path)
	m := csrf.FindStringSubmatch(body)
	if m == nil {
		v.t.Fatalf("%s has no form token", path)
	}
	return m[1]
}

func (v *visitor) post(path string, form url.Values) *http.Response {
	v.t.Helper()
	res, err := v.c.PostForm(v.base+path, form)
	if err != nil {
		v.t.Fatal(err)
	}
	_ = res.Body.Close()
	return res
}

func (v *visitor) signIn(login, password string) *http.Response {
	v.t.Helper()
	return v.post("/sign-in", url.Values{"_csrf": {v.token("/sign-in")}, "login": {login}, "password": {password}})
}

var acts = []string{"/sites/1/find/read", "/sites/1/sign-in/read", "/sites/1/clock/read", "/sites/1/streams/read", "/sites/1/channels/read", "/sites/1/routes/read",
	"/sites/1/clock/apply", "/sites/1/channels/apply", "/sites/1/routes/apply", "/sites/1/routes/peg", "/sites/1/prove/walk", "/sites/1/runs/1/stop", "/sites/1/settings/set", "/sites/1/settings/network"}

var pages = []string{"board", "find", "sign-in", "clock", "streams", "channels", "recording", "analytics", "routes", "prove", "handover", "sightings", "log", "settings"}

func TestWhoMaySeeAndChangeWhat(t *testing.T) {
	h := serve(t)
	stranger := visit(t, h)
	for _, p := range pages {
		if res, body := stranger.get("/sites/1/" + p); res.StatusCode != http.StatusSeeOther || res.Header.Get("Location") != "/sign-in" || strings.Contains(body, "Slipway") {
			t.Errorf("a stranger gets %d at %s", res.StatusCode, p)
		}
	}
	if res := stranger.signIn(demo.Lead, "not the password"); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("a wrong password: %d", res.StatusCode)
	}
	viewer := visit(t, h)
	if res := viewer.signIn("office", h.Secrets.Viewer); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("the viewer isn't let in: %d", res.StatusCode)
	}
	token := ""
	for _, p := range pages {
		res, body := viewer.get("/sites/1/" + p)
		if res.StatusCode != http.StatusOK {
			t.Errorf("the viewer gets %d at %s", res.StatusCode, p)
		}
		if m := csrf.FindStringSubmatch(body); m != nil {
			token = m[1]
		}
	}
	for _, a := range acts {
		if res := viewer.post(a, url.Values{"_csrf": {token}, "device": {"4"}}); res.StatusCode != http.StatusForbidden {
			t.Errorf("the viewer gets %d at %s, want 403", res.StatusCode, a)
		}
		if res := stranger.post(a, url.Values{"_csrf": {stranger.token("/sign-in")}}); res.StatusCode != http.StatusUnauthorized {
			t.Errorf("a stranger gets %d at %s, want 401", res.StatusCode, a)
		}
	}
	lead := visit(t, h)
	lead.signIn(demo.Lead, h.Secrets.Lead)
	for _, a := range acts {
		if res := lead.post(a, url.Values{}); res.StatusCode != http.StatusBadRequest && res.StatusCode != http.StatusForbidden {
			t.Errorf("without a form token the lead gets %d at %s", res.StatusCode, a)
		}
	}
	if runs, err := h.Store.Runs(t.Context(), 1, 10); err != nil || len(runs) != 0 {
		t.Errorf("something ran: %v %v", runs, err)
	}
	if res, _ := lead.get("/sites/2/board"); res.StatusCode != http.StatusNotFound {
		t.Errorf("a site that isn't there: %d", res.StatusCode)
	}
	if res := lead.post("/sites/1/find/read", url.Values{"_csrf": {lead.token("/sites/1/find")}, "back": {"//elsewhere.example/"}}); res.Header.Get("Location") != "/sites/1/board" {
		t.Errorf("sent to %s", res.Header.Get("Location"))
	}
}

func TestHeadersAndHostNames(t *testing.T) {
	h := serve(t)
	v := visit(t, h)
	res, body := v.get("/sign-in")
	csp := res.Header.Get("Content-Security-Policy")
	for _, want := range []string{"default-src 'none'", "script-src 'self'", "frame-ancestors 'none'"} {
		if !strings.Contains(csp, want) {
			t.Errorf("the policy %q lacks %q", csp, want)
		}
	}
	if strings.Contains(csp, "unsafe") || res.Header.Get("X-Content-Type-Options") != "nosniff" || res.Header.Get("X-Frame-Options") != "DENY" {
		t.Errorf("headers: %v", res.Header)
	}
	for _, c := range res.Cookies() {
		if !c.HttpOnly || c.SameSite != http.SameSiteLaxMode {
			t.Errorf("cookie %s is %+v", c.Name, c)
		}
	}
	if strings.Contains(body, " style=") || strings.Contains(body, "<style") {
		t.Error("the page has inline styles, which the policy refuses")
	}
	req, err := http.NewRequest(http.MethodGet, h.url+"/sign-in", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Host = "harbour.example"
	if res, err := http.DefaultClient.Do(req); err != nil || res.StatusCode != http.StatusMisdirectedRequest {
		t.Errorf("another name: %v %v", res, err)
	}
	if res, body := v.get("/healthz"); res.StatusCode != http.StatusOK || body != "ok\n" {
		t.Errorf("healthz: %d %q", res.StatusCode, body)
	}
	if res, _ := v.get("/static/x/vendor/fonts/"); res.StatusCode != http.StatusNotFound {
		t.Errorf("a folder is listed: %d", res.StatusCode)
	}
}

func TestSignInIsLimited(t *testing.T) {
	h := serve(t)
	v := visit(t, h)
	last := 0
	for range 8 {
		last = v.signIn("maren", "wrong wrong wrong").StatusCode
	}
	if last != http.StatusTooManyRequests {
		t.Errorf("the eighth try gets %d", last)
	}
}

// A device's own words stay words on every page, and no page holds a password.
func TestPagesEscapeDevicesAndHoldNoSecrets(t *testing.T) {
	h := serve(t)
	evil := `<script>alert("x")</script>`
	at := h.Net.At(".1.66")
	if _, err := h.Store.AddDevice(t.Context(), store.Device{SiteID: h.Site, Kind: identity.Camera, Place: evil, Make: evil, Model: evil, Address: &at}); err != nil {
		t.Fatal(err)
	}
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	secrets := []string{h.Secrets.House, h.Secrets.Former, h.Secrets.Terminal, h.Secrets.Lead}
	for _, p := range pages {
		for _, q := range []string{"", "?sheet=19", "?q=" + url.QueryEscape(evil)} {
			res, body := v.get("/sites/1/" + p + q)
			if res.StatusCode != http.StatusOK {
				t.Errorf("%s%s: %d", p, q, res.StatusCode)
			}
			if strings.Contains(body, "<script>alert") {
				t.Errorf("%s%s runs a device's words", p, q)
			}
			for _, s := range secrets {
				if strings.Contains(body, s) {
					t.Errorf("%s%s holds a password", p, q)
				}
			}
		}
	}
}

func TestTheFilterObeys(t *testing.T) {
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	for q, want := range map[string]int{"": 15, "ramp": 2, "make:otter": 4, "make:otter net:quay": 3, "net:terminal": 6, "ramp make:skerry": 1, "nothing like it": 0, "state:blocked": 0} {
		_, body := v.get("/sites/1/board?q=" + url.QueryEscape(q))
		if got := strings.Count(body, "<tr data-row="); got != want {
			t.Errorf("%q shows %d rows, want %d", q, got, want)
		}
	}
}

func TestABadNetworkOrSetIsRefusedInASentence(t *testing.T) {
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	token := v.token("/sites/1/settings")
	for _, form := range []url.Values{{"name": {"x"}, "prefix": {"10.0.0.0/8"}}, {"name": {""}, "prefix": {"127.9.1.0/24"}}, {"name": {"x"}, "prefix": {"nonsense"}}} {
		form.Set("_csrf", token)
		form.Set("back", "/sites/1/settings")
		v.post("/sites/1/settings/network", form)
		if _, body := v.get("/sites/1/settings"); !strings.Contains(body, "A network has a name and an IPv4 prefix") {
			t.Errorf("%v isn't refused in a sentence", form)
		}
	}
	v.post("/sites/1/settings/set", url.Values{"_csrf": {token}, "back": {"/sites/1/settings"}, "name": {"Spare"}, "username": {"u"}, "password": {"low-tide-1234"}})
	if _, body := v.get("/sites/1/settings"); !strings.Contains(body, "Spare was added") || strings.Contains(body, "low-tide-1234") {
		t.Error("a set isn't added, or its password is on the page")
	}
	var found bool
	if err := h.Store.Pool.QueryRow(t.Context(), `select exists (select 1 from credential_set where position('low-tide-1234'::bytea in sealed) > 0)`).Scan(&found); err != nil || found {
		t.Errorf("the password lies open in the database: %v %v", found, err)
	}
}

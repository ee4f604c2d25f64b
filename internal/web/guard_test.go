package web_test

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
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
	return &visitor{t, &http.Client{Jar: jar, Timeout: 2 * time.Minute,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, h.url}
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

var previewed = regexp.MustCompile(`[?&]preview=(\d+)`)

// make has shown what an act would change, and makes it.
func (v *visitor) make(path string, form url.Values) {
	v.t.Helper()
	at := v.post(path, form).Header.Get("Location")
	m := previewed.FindStringSubmatch(at)
	if m == nil {
		v.t.Fatalf("%s shows nothing that will be changed: %s", path, at)
	}
	site := strings.Join(strings.Split(path, "/")[:3], "/")
	v.post(site+"/previews/"+m[1]+"/make", form)
}

func (v *visitor) signIn(login, password string) *http.Response {
	v.t.Helper()
	return v.post("/sign-in", url.Values{"_csrf": {v.token("/sign-in")}, "login": {login}, "password": {password}})
}

var pages = []string{"board", "find", "sign-in", "clock", "streams", "channels", "recording", "analytics", "routes",
	"prove", "handover", "sightings", "log", "log?part=people", "settings", "account", "expected", "known"}

func TestWhoMaySeeAndChangeWhat(t *testing.T) {
	t.Parallel()
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
	for _, p := range pages {
		if res, _ := viewer.get("/sites/1/" + p); res.StatusCode != http.StatusOK {
			t.Errorf("the viewer gets %d at %s", res.StatusCode, p)
		}
	}
	lead := visit(t, h)
	lead.signIn(demo.Lead, h.Secrets.Lead)
	if res, _ := lead.get("/sites/2/board"); res.StatusCode != http.StatusNotFound {
		t.Errorf("a site that isn't there: %d", res.StatusCode)
	}
	if res := lead.post("/sites/1/find/read", url.Values{"_csrf": {lead.token("/sites/1/find")},
		"back": {"//elsewhere.example/"}}); res.Header.Get("Location") != "/sites/1/board" {
		t.Errorf("sent to %s", res.Header.Get("Location"))
	}
}

func TestHeadersAndHostNames(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	res, body := v.get("/sign-in")
	csp := res.Header.Get("Content-Security-Policy")
	for _, want := range []string{"default-src 'none'", "script-src 'self'", "frame-ancestors 'none'"} {
		if !strings.Contains(csp, want) {
			t.Errorf("the policy %q lacks %q", csp, want)
		}
	}
	if elsewhere, err := http.NewRequest(http.MethodGet, h.url+"/sign-in", nil); err == nil { // an answer that refuses carries them too
		elsewhere.Host = "harbour.example"
		if res, err := http.DefaultClient.Do(elsewhere); err != nil || res.Header.Get("Content-Security-Policy") != csp {
			t.Errorf("a refusal's headers: %v %v", res, err)
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
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	last := 0
	for range 8 {
		last = v.signIn("maren", "wrong wrong wrong").StatusCode
	}
	if last != http.StatusTooManyRequests {
		t.Errorf("the eighth try gets %d", last)
	}
	// Who tries a name from elsewhere doesn't shut the person out who has it.
	elsewhere := visit(t, h)
	elsewhere.c.Transport = &http.Transport{DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 77)}}).DialContext}
	if res := elsewhere.signIn("maren", h.Secrets.Lead); res.StatusCode != http.StatusSeeOther {
		t.Errorf("from another address: %d", res.StatusCode)
	}
	// An address that a request makes up changes nothing: nobody was told to trust it.
	forged, err := http.NewRequest(http.MethodPost, h.url+"/sign-in", strings.NewReader(url.Values{"_csrf": {v.token("/sign-in")},
		"login": {"maren"}, "password": {h.Secrets.Lead}}.Encode()))
	if err != nil {
		t.Fatal(err)
	}
	forged.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	forged.Header.Set("X-Forwarded-For", "192.0.2.9")
	forged.Header.Set("X-Real-Ip", "192.0.2.9")
	if res, err := v.c.Do(forged); err != nil || res.StatusCode != http.StatusTooManyRequests {
		t.Errorf("with a made-up address: %v %v", res, err)
	}
	// The person who comes in begins anew: tries of before aren't held against them.
	for range 4 {
		elsewhere.signIn("maren", "wrong wrong wrong")
	}
	if res := elsewhere.signIn("maren", h.Secrets.Lead); res.StatusCode != http.StatusSeeOther {
		t.Errorf("after four more: %d", res.StatusCode)
	}
}

// serveAs serves the harbour's pages once more, as opt says, and has the test use those.
func (h *harbour) serveAs(opt shell.Options) {
	h.t.Helper()
	pages, err := h.app.Pages(h.Vault, opt)
	if err != nil {
		h.t.Fatal(err)
	}
	h.t.Cleanup(pages.Close)
	srv := httptest.NewServer(pages.Handler())
	h.t.Cleanup(srv.Close)
	h.url = srv.URL
}

// Of a proxy that is trusted, and of nobody else, the word on a visitor's address is taken.
func TestATrustedProxysWordIsTaken(t *testing.T) {
	t.Parallel()
	h := serve(t)
	h.serveAs(shell.Options{Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.88/32")}})
	for from, want := range map[string]string{"127.0.0.88": "192.0.2.9", "127.0.0.89": "127.0.0.89"} {
		v := visit(t, h)
		v.c.Transport = forwarding{&http.Transport{DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).DialContext}}
		if res := v.signIn("maren", h.Secrets.Lead); res.StatusCode != http.StatusSeeOther {
			t.Fatalf("from %s: %d", from, res.StatusCode)
		}
		if n := count(h, `select count(*) from audit where act = 'signed in' and detail = 'from `+want+`'`); n != 1 {
			t.Errorf("from %s: %d sign-ins are told as from %s", from, n, want)
		}
	}
}

// forwarding says of every request that it comes from elsewhere, twice forged before.
type forwarding struct{ *http.Transport }

func (f forwarding) RoundTrip(r *http.Request) (*http.Response, error) {
	r.Header.Set("X-Forwarded-For", "198.51.100.1, 203.0.113.5, 192.0.2.9")
	return f.Transport.RoundTrip(r)
}

// What no text holds is refused in a sentence, wherever it comes; a program that asks for what
// isn't there is answered as programs are; a method that a client makes up makes no figure.
func TestWhatIsNoTextIsRefused(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn("maren", h.Secrets.Lead)
	token := v.token("/sites/1/board")
	for _, path := range []string{"/sites/1/board?q=%00", "/sites/1/board?q=%ff%fe", "/sites/1/board?%00=x", "/sites/1/bo%00ard", "/sites/1/log?q=a%00"} {
		if res, body := v.get(path); res.StatusCode != http.StatusBadRequest || !strings.Contains(body, "no text has") {
			t.Errorf("%s: %d", path, res.StatusCode)
		}
	}
	for _, bad := range []string{"a\x00b", "\xff\xfe", "\xc3\x28"} {
		res := v.post("/sites/1/settings/sets", url.Values{"_csrf": {token}, "name": {bad}, "username": {"x"}, "password": {"y"}})
		if res.StatusCode != http.StatusBadRequest {
			t.Errorf("%q as a set's name: %d", bad, res.StatusCode)
		}
	}
	for _, path := range []string{"/api/v1/nothing", "/api/"} {
		res, body := v.get(path)
		if res.StatusCode != http.StatusNotFound || !strings.HasPrefix(res.Header.Get("Content-Type"), "application/json") || !strings.Contains(body, `"error"`) {
			t.Errorf("%s: %d %s %.60q", path, res.StatusCode, res.Header.Get("Content-Type"), body)
		}
		if res.Header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s carries no headers", path)
		}
	}
	odd, err := http.NewRequest("BREW-"+strings.Repeat("A", 40), h.url+"/healthz", nil)
	if err != nil {
		t.Fatal(err)
	}
	if res, err := v.c.Do(odd); err != nil || res.StatusCode < 400 {
		t.Errorf("a made-up method: %v %v", res, err)
	}
	if figures := newProgram(t, h, h.Secrets.Token).do("GET", "/metrics", "", 200)["text"].(string); strings.Contains(figures, "BREW") || !strings.Contains(figures, `method="other"`) {
		t.Error("a made-up method is a label of the metrics")
	}
}

// A database that accepts and stays silent gives a page in time that says so.
func TestAHungDatabaseIsSaid(t *testing.T) {
	t.Parallel()
	h := serve(t)
	h.serveAs(shell.Options{})
	v := visit(t, h)
	v.signIn("maren", h.Secrets.Lead)
	hold, err := h.Store.Pool.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = hold.Rollback(context.WithoutCancel(t.Context())) }()
	if _, err := hold.Exec(t.Context(), "lock table device in access exclusive mode"); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	res, body := v.get("/sites/1/board")
	if res.StatusCode != http.StatusServiceUnavailable || !strings.Contains(body, "The database doesn") || time.Since(began) > 20*time.Second {
		t.Errorf("%d after %v: %.200q", res.StatusCode, time.Since(began), body)
	}
}

// sum is a fingerprint of all that a person or program could change of a site.
func (h *harbour) sum() string {
	h.t.Helper()
	var out string
	err := h.Store.Pool.QueryRow(h.t.Context(), `select concat_ws('/', (select count(*) from run), (select count(*) from change), (select count(*) from device), (select count(*) from network),
		(select md5(string_agg(sealed::text || name, ',' order by id)) from credential_set), (select string_agg(person_id || role, ',' order by person_id, site_id) from membership),
		(select count(*) from invitation), (select string_agg(id || coalesce(ended_at::text, ''), ',' order by id) from api_token), (select count(*) from person), (select count(*) from river_job))`).Scan(&out)
	if err != nil {
		h.t.Fatal(err)
	}
	return out
}

var param = regexp.MustCompile(`:[a-z]+`)

// Every route: a viewer, a stranger and a token that may only read change nothing, whatever they
// send; and a lead without a form's token neither. A method that a path doesn't answer to changes
// nothing even for a lead with one.
func TestNobodyChangesWhatTheyMayNot(t *testing.T) {
	t.Parallel()
	h := serve(t)
	own := []string{"/sign-in", "/sign-out", "/join", "/account/password", "/account/sign-ins/:id/end"} // a person's own, no site's
	viewer, stranger, lead, program := visit(t, h), visit(t, h), visit(t, h), visit(t, h)
	viewer.signIn("office", h.Secrets.Viewer)
	lead.signIn(demo.Lead, h.Secrets.Lead)
	token, leads := viewer.token("/sites/1/account"), lead.token("/sites/1/account")
	_, hash := people.NewToken()
	reader, hash2 := people.NewToken()
	for name, x := range map[string][]byte{"other": hash, "reader": hash2} {
		if _, err := h.Store.AddToken(t.Context(), h.Site, 0, name, []string{"read"}, x, nil); err != nil {
			t.Fatal(err)
		}
	}
	answers := map[string][]string{} // methods of each path
	for _, r := range h.web.Answers() {
		answers[r[1]] = append(answers[r[1]], r[0])
	}
	form := func(token string) url.Values {
		f := url.Values{"device": {"4"}, "source": {"4"}, "pick": {"4"}, "stage": {"clock"}, "name": {"x"}, "prefix": {"127.9.1.0/24"},
			"role": {"viewer"}, "note": {"x"}, "days": {"9"}, "username": {"u"}, "password": {h.Secrets.Viewer}}
		if token != "" {
			f.Set("_csrf", token)
		}
		return f
	}
	before, posts, walked := h.sum(), 0, 0
	for pattern, methods := range answers {
		api := strings.HasPrefix(pattern, "/api/") || pattern == "/metrics"
		for _, st := range []string{"clock", "any"} {
			path := strings.ReplaceAll(strings.ReplaceAll(pattern, ":stage", st), "*", "x")
			path = param.ReplaceAllString(path, "1")
			for _, method := range []string{"POST", "PUT", "PATCH", "DELETE"} {
				walked++
				if !slices.Contains(methods, method) {
					if status := lead.send(method, path, form(leads), ""); status < 400 {
						t.Errorf("%s %s, which nothing answers to: %d", method, path, status)
					}
					continue
				}
				posts++
				if slices.Contains(own, pattern) {
					continue
				}
				refused := map[string]int{"a stranger": stranger.send(method, path, form(""), ""), "a viewer": viewer.send(method, path, form(token), "")}
				if !api {
					refused["a lead without a form's token"] = lead.send(method, path, form(""), "")
				}
				refused["a token that may read"] = program.send(method, path, nil, reader)
				for who, status := range refused {
					if status < 400 {
						t.Errorf("%s: %s %s answers %d", who, method, path, status)
					}
				}
				if status := refused["a token that may read"]; api && status != http.StatusForbidden {
					t.Errorf("a token that may read: %s %s answers %d, want 403", method, path, status)
				}
			}
			if !strings.Contains(pattern, ":stage") {
				break
			}
		}
	}
	// Looking changes nothing either.
	for pattern, methods := range answers {
		if !slices.Contains(methods, "GET") || strings.HasSuffix(pattern, "/live") || strings.HasSuffix(pattern, "/events") {
			continue
		}
		path := param.ReplaceAllString(strings.ReplaceAll(strings.ReplaceAll(pattern, ":stage", "clock"), "*", "x"), "1")
		viewer.send("GET", path, form(token), "")
		stranger.send("GET", path, form(""), "")
	}
	if posts < 30 || walked < 200 {
		t.Errorf("only %d forms of %d were walked", posts, walked)
	}
	if after := h.sum(); after != before {
		t.Errorf("something changed:\n%s\n%s", before, after)
	}
}

func (v *visitor) send(method, path string, form url.Values, bearer string) int {
	v.t.Helper()
	req, err := http.NewRequest(method, v.base+path, strings.NewReader(form.Encode()))
	if err != nil {
		v.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if bearer != "" {
		req.Header.Set("Authorization", "Bearer "+bearer)
		req.Header.Set("Content-Type", "application/json")
		req.Body = io.NopCloser(strings.NewReader(`{"stage": "clock"}`))
		req.ContentLength = -1
	}
	res, err := v.c.Do(req)
	if err != nil {
		v.t.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, res.Body)
	_ = res.Body.Close()
	return res.StatusCode
}

func (h *harbour) visitAs(bearer, method, path string) int {
	h.t.Helper()
	return visit(h.t, h).send(method, path, nil, bearer)
}

// A device's own words stay words on every page, and no page holds a password.
func TestPagesEscapeDevicesAndHoldNoSecrets(t *testing.T) {
	t.Parallel()
	h := serve(t)
	evil := `<script>alert("x")</script>`
	at := h.Net.At(".1.66")
	d, err := h.Store.AddDevice(t.Context(), store.Device{SiteID: h.Site, Kind: identity.Camera, Place: evil,
		Make: evil, Model: evil, Address: &at})
	if err != nil {
		t.Fatal(err)
	}
	// Its views have words of their own too.
	if err := h.Store.PickViews(t.Context(), d, []string{evil, "b"}, []string{"a", evil}); err != nil {
		t.Fatal(err)
	}
	row, err := h.Store.Source(t.Context(), store.Target{Device: d})
	if err != nil {
		t.Fatal(err)
	}
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	secrets := []string{h.Secrets.House, h.Secrets.Former, h.Secrets.Terminal, h.Secrets.Lead, h.Secrets.Token}
	for _, p := range pages {
		for _, q := range []string{"", "?sheet=" + strconv.FormatInt(row.ID, 10), "?q=" + url.QueryEscape(evil)} {
			if strings.Contains(p, "?") {
				q = strings.Replace(q, "?", "&", 1)
			}
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
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	for q, want := range map[string]int{"": 15, "ramp": 2, "make:otter": 4, "make:otter net:quay": 3,
		"recorder:quay": 5, "stage:clok": 0, "state:notyet": 15, `make:"pinnock & daw"`: 3, "net:terminal": 6, "ramp make:skerry": 1, "nothing like it": 0, "state:blocked": 0} {
		_, body := v.get("/sites/1/board?q=" + url.QueryEscape(q))
		if got := strings.Count(body, "<tr data-row="); got != want {
			t.Errorf("%q shows %d rows, want %d", q, got, want)
		}
	}
}

func TestABadNetworkOrSetIsRefusedInASentence(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	token := v.token("/sites/1/settings")
	for says, form := range map[string]url.Values{"“10.0.0.0/8” is no IPv4 network": {"name": {"x"}, "prefix": {"10.0.0.0/8"}},
		"A network has a name": {"name": {""}, "prefix": {"127.9.1.0/24"}}, "“nonsense” is no IPv4 network": {"name": {"x"}, "prefix": {"nonsense"}}} {
		form.Set("_csrf", token)
		form.Set("back", "/sites/1/settings")
		v.post("/sites/1/settings/network", form)
		if _, body := v.get("/sites/1/settings"); !strings.Contains(body, says) {
			t.Errorf("%v isn't refused in a sentence", form)
		}
	}
	v.post("/sites/1/settings/set", url.Values{"_csrf": {token}, "back": {"/sites/1/settings"}, "name": {"Spare"},
		"username": {"u"}, "password": {"low-tide-1234"}})
	if _, body := v.get("/sites/1/settings"); !strings.Contains(body, "Spare was added") || strings.Contains(body, "low-tide-1234") {
		t.Error("a set isn't added, or its password is on the page")
	}
	var found bool
	if err := h.Store.Pool.QueryRow(t.Context(), `select exists (select 1 from credential_set where position('low-tide-1234'::bytea in sealed) > 0)`).Scan(&found); err != nil || found {
		t.Errorf("the password lies open in the database: %v %v", found, err)
	}
}

// What is picked beyond the limit is not dropped in silence.
func TestTooManyPicksAreRefused(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	form := url.Values{"_csrf": {v.token("/sites/1/board")}}
	for i := range 1001 {
		form.Add("pick", strconv.Itoa(i+1))
	}
	if res := v.post("/sites/1/clock/read", form); res.StatusCode != http.StatusBadRequest {
		t.Errorf("1,001 picks: %d", res.StatusCode)
	}
	if n := count(h, `select count(*) from run`); n != 0 {
		t.Errorf("%d runs began", n)
	}
}

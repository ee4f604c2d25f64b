package web_test

import (
	"bufio"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/web/shell"
)

var secret = regexp.MustCompile(`id="secret">([^<]+)<`)

// body posts a form and returns the page that comes.
func (v *visitor) body(path string, form url.Values) (int, string) {
	v.t.Helper()
	res, err := v.c.PostForm(v.base+path, form)
	if err != nil {
		v.t.Fatal(err)
	}
	defer res.Body.Close()
	b := new(strings.Builder)
	if _, err := io.Copy(b, res.Body); err != nil {
		v.t.Fatal(err)
	}
	return res.StatusCode, b.String()
}

func TestAnInvitationLetsOnePersonInOnce(t *testing.T) {
	t.Parallel()
	h := serve(t)
	lead := visit(t, h)
	lead.signIn(demo.Lead, h.Secrets.Lead)
	token := lead.token("/sites/1/settings")
	status, body := lead.body("/sites/1/settings/invite", url.Values{"_csrf": {token}, "note": {"Night shift"}, "role": {"viewer"}})
	m := secret.FindStringSubmatch(body)
	if status != http.StatusOK || m == nil {
		t.Fatalf("%d %s", status, body)
	}
	if _, page := lead.get("/sites/1/settings"); strings.Contains(page, m[1]) || !strings.Contains(page, "Night shift") {
		t.Error("the code is shown again, or the invitation isn't listed")
	}
	guest := visit(t, h)
	join := func(code, login, password string) (int, string) {
		return guest.body("/join", url.Values{"_csrf": {guest.token("/join")}, "code": {code}, "login": {login},
			"name": {"Guest"}, "password": {password}})
	}
	for _, bad := range [][3]string{{"aaaaa-bbbbb-ccccc-ddddd", "guest", "a long password"}, {m[1], "guest", "short"},
		{m[1], demo.Lead, "a long password"}, {m[1], "", "a long password"}} {
		if status, body := join(bad[0], bad[1], bad[2]); status != http.StatusUnprocessableEntity || strings.Contains(body, bad[2]) {
			t.Errorf("%v: %d", bad, status)
		}
	}
	if status, _ := guest.body("/sign-in", url.Values{"_csrf": {guest.token("/sign-in")}, "login": {demo.Lead},
		"password": {"a long password"}}); status == http.StatusSeeOther {
		t.Fatal("joining under a name that was taken changed its password")
	}
	if status, _ := join(strings.ToUpper(strings.ReplaceAll(m[1], "-", " ")), "guest",
		"a long password"); status != http.StatusSeeOther && status != http.StatusTooManyRequests {
		t.Errorf("the code doesn't open: %d", status)
	} else if status == http.StatusTooManyRequests {
		t.Fatal("the limit is below what this test needs")
	}
	if res, page := guest.get("/sites/1/settings"); res.StatusCode != http.StatusOK || strings.Contains(page, "Invite") {
		t.Errorf("the guest gets %d, or may invite", res.StatusCode)
	}
	if n := count(h, `select count(*) from invitation where used_at is not null`); n != 1 {
		t.Errorf("%d invitations are used", n)
	}
}

func count(h *harbour, sql string, args ...any) (n int) {
	h.t.Helper()
	if err := h.Store.Pool.QueryRow(h.t.Context(), sql, args...).Scan(&n); err != nil {
		h.t.Fatal(err)
	}
	return n
}

func TestPasswordsAndSignIns(t *testing.T) {
	t.Parallel()
	h := serve(t)
	one, two := visit(t, h), visit(t, h)
	one.signIn(demo.Lead, h.Secrets.Lead)
	two.signIn(demo.Lead, h.Secrets.Lead)
	token := one.token("/sites/1/account")
	if _, page := one.get("/sites/1/account"); strings.Count(page,
		`<th scope="row" class="mono">`) != 2 || !strings.Contains(page, "this one") {
		t.Errorf("two sign-ins aren't listed: %s", page)
	}
	change := func(now, fresh, again string) string {
		one.post("/account/password", url.Values{"_csrf": {token}, "password": {now}, "new": {fresh}, "again": {again},
			"back": {"/sites/1/account"}})
		_, page := one.get("/sites/1/account")
		return page
	}
	for _, bad := range [][4]string{{"wrong wrong", "a new password", "a new password", "is another"},
		{h.Secrets.Lead, "a new password", "another one", "two ways"}, {h.Secrets.Lead, "short", "short", "10 to 200"}} {
		if page := change(bad[0], bad[1], bad[2]); !strings.Contains(page, bad[3]) {
			t.Errorf("%v isn't refused in a sentence", bad[3])
		}
	}
	if page := change(h.Secrets.Lead, "a new password", "a new password"); !strings.Contains(page, "was changed") {
		t.Error("the password isn't changed")
	}
	if res, _ := two.get("/sites/1/board"); res.StatusCode != http.StatusSeeOther {
		t.Errorf("another browser is still signed in: %d", res.StatusCode)
	}
	if res, _ := one.get("/sites/1/board"); res.StatusCode != http.StatusOK {
		t.Errorf("this browser is signed out: %d", res.StatusCode)
	}
	if res := two.signIn(demo.Lead, h.Secrets.Lead); res.StatusCode == http.StatusSeeOther {
		t.Error("the old password opens")
	}
	if res := two.signIn(demo.Lead, "a new password"); res.StatusCode != http.StatusSeeOther {
		t.Error("the new password doesn't open")
	}
	one.post("/account/sign-ins/0/end", url.Values{"_csrf": {token}})
	if res, _ := two.get("/sites/1/board"); res.StatusCode != http.StatusSeeOther {
		t.Error("an ended sign-in goes on")
	}
}

func TestRolesChangeAndALeadStays(t *testing.T) {
	t.Parallel()
	h := serve(t)
	lead, tech := visit(t, h), visit(t, h)
	lead.signIn(demo.Lead, h.Secrets.Lead)
	tech.signIn("anselm", h.Secrets.Tech)
	if res := tech.post("/sites/1/settings/invite",
		url.Values{"_csrf": {tech.token("/sites/1/settings")}, "note": {"x"}, "role": {"lead"}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("a technician invites: %d", res.StatusCode)
	}
	token := lead.token("/sites/1/settings")
	role := func(id, role string) string {
		lead.post("/sites/1/settings/people/"+id+"/role", url.Values{"_csrf": {token}, "role": {role}, "back": {"/sites/1/settings"}})
		_, page := lead.get("/sites/1/settings")
		return page
	}
	if page := role("1", "viewer"); !strings.Contains(page, "at least one lead") {
		t.Error("the last lead can be taken off")
	}
	role("2", "off")
	if res, _ := tech.get("/sites/1/board"); res.StatusCode != http.StatusNotFound {
		t.Errorf("someone taken off the site still sees it: %d", res.StatusCode)
	}
	if page := role("3", "lead"); !strings.Contains(page, "Port office is lead") {
		t.Error("the viewer isn't made lead")
	}
	role("1", "viewer")
	if _, page := lead.get("/sites/1/settings"); strings.Contains(page, "Invite</button>") {
		t.Error("who was lead still invites")
	}
}

// A password is shown on a deliberate act, to who gives their own again, and logged.
func TestShowingAPassword(t *testing.T) {
	t.Parallel()
	h := serve(t)
	tech := visit(t, h)
	tech.signIn("anselm", h.Secrets.Tech)
	token := tech.token("/sites/1/settings")
	id := "1"
	if res := tech.post("/sites/1/settings/set/"+id+"/reveal",
		url.Values{"_csrf": {token}, "password": {"not mine at all"}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("a wrong password: %d", res.StatusCode)
	}
	status, body := tech.body("/sites/1/settings/set/"+id+"/reveal", url.Values{"_csrf": {token}, "password": {h.Secrets.Tech}})
	if m := secret.FindStringSubmatch(body); status != http.StatusOK || m == nil || m[1] != h.Secrets.House {
		t.Errorf("%d: it isn't shown", status)
	}
	if _, page := tech.get("/sites/1/log?part=people"); !strings.Contains(page,
		"was shown a password") || !strings.Contains(page, "was refused a password") || strings.Contains(page, h.Secrets.House) {
		t.Error("it isn't logged as it should be")
	}
	if status, _ := tech.body("/sites/1/settings/set/99/reveal",
		url.Values{"_csrf": {token}, "password": {h.Secrets.Tech}}); status != http.StatusNotFound {
		t.Errorf("a set that isn't there: %d", status)
	}
	if status := h.visitAs(h.Secrets.Token, "POST", "/sites/1/settings/set/1/reveal"); status < 400 {
		t.Errorf("a program is shown a password: %d", status)
	}
}

// A page's live connection ends with the sign-in that opened it; until then it beats.
func TestALiveConnectionEndsWithItsSignIn(t *testing.T) {
	t.Parallel()
	h := serve(t)
	pages, err := h.app.Pages(h.Vault, shell.Options{Beat: 100 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(pages.Handler())
	t.Cleanup(func() { srv.CloseClientConnections(); srv.Close(); pages.Close() })
	v := visit(t, h)
	v.base = srv.URL
	v.signIn(demo.Lead, h.Secrets.Lead)
	res, err := v.c.Get(v.base + "/sites/1/live")
	if err != nil || res.StatusCode != http.StatusOK {
		t.Fatalf("%v %v", res, err)
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	beats := 0
	for lines.Scan() {
		if !strings.Contains(lines.Text(), "event: beat") {
			continue
		}
		if beats++; beats == 3 {
			if _, err := h.Store.Pool.Exec(t.Context(), `update signin set ended_at = now()`); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := lines.Err(); err != nil || beats < 3 {
		t.Errorf("%d beats, then: %v", beats, err)
	}
}

// A password that is asked for in place is answered to the page's script alone, after the
// person's own; what is refused says why, and both are in the log.
func TestAPasswordIsShownInPlace(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	set := jsonNumber(count(h, `select id from credential_set where name = 'House account'`))
	ask := func(password string) (int, string, string) {
		form := url.Values{"_csrf": {v.token("/sites/1/settings")}, "password": {password}}
		req, err := http.NewRequest(http.MethodPost, h.url+"/sites/1/settings/set/"+set+"/reveal", strings.NewReader(form.Encode()))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		req.Header.Set("Accept", "application/json")
		res, err := v.c.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, string(body), res.Header.Get("Cache-Control")
	}
	if status, body, _ := ask("not mine at all"); status != http.StatusUnprocessableEntity || !strings.Contains(body, "isn't your own password") || strings.Contains(body, h.Secrets.House) {
		t.Errorf("with another password: %d %s", status, body)
	}
	if status, body, kept := ask(h.Secrets.Lead); status != http.StatusOK || !strings.Contains(body, h.Secrets.House) || kept != "no-store" {
		t.Errorf("with their own: %d, kept %q", status, kept)
	}
	if n := count(h, `select count(*) from audit where act in ('was shown a password', 'was refused a password')`); n != 2 {
		t.Errorf("%d lines in the log", n)
	}
}

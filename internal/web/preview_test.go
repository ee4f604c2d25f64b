package web_test

import (
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"

	"duskyharbor/internal/demo"
)

// What will be written is shown first, and is nobody's to make but who saw it, within half
// an hour, once: pressed in two tabs at the same moment it is one run.
func TestAPreviewIsMadeOnceByWhoSawIt(t *testing.T) {
	t.Parallel()
	h := serve(t)
	lead, other := visit(t, h), visit(t, h)
	lead.signIn(demo.Lead, h.Secrets.Lead)
	other.signIn("anselm", h.Secrets.Tech)
	back := url.Values{"_csrf": {lead.token("/sites/1/board")}, "back": {"/sites/1/clock"}}
	for _, st := range []string{"find", "sign-in", "clock"} {
		lead.post("/sites/1/"+st+"/read", back)
		h.quiet()
	}
	runs := func() int { return count(h, `select count(*) from run where act = 'apply'`) }
	at := lead.post("/sites/1/clock/apply", back).Header.Get("Location")
	m := previewed.FindStringSubmatch(at)
	if m == nil {
		t.Fatalf("nothing is shown: %s", at)
	}
	_, page := lead.get(at)
	for _, part := range []string{"What will be changed", "Berth 1 ramp", "→", "Nothing is written before you press the button.",
		"of the selection, for which nothing is proposed."} {
		if !strings.Contains(strings.Join(strings.Fields(page), " "), part) {
			t.Errorf("the preview doesn't show %q", part)
		}
	}
	if runs() != 0 || count(h, `select count(*) from change`) != 0 {
		t.Fatal("something was asked for by looking")
	}
	makes := "/sites/1/previews/" + m[1] + "/make"
	theirs := url.Values{"_csrf": {other.token("/sites/1/board")}, "back": {"/sites/1/clock"}}
	if r := other.post(makes, theirs); r.StatusCode != http.StatusNotFound {
		t.Errorf("somebody else's is answered with %d", r.StatusCode)
	}
	if _, page := other.get(at); strings.Contains(page, "What will be changed") {
		t.Error("somebody else's is shown")
	}
	age := func(sign string) {
		t.Helper()
		if _, err := h.Store.Pool.Exec(t.Context(), `update preview set made_at = made_at `+sign+` interval '31 minutes'`); err != nil {
			t.Fatal(err)
		}
	}
	age("-")
	lead.post(makes, back)
	if _, page := lead.get("/sites/1/clock"); !strings.Contains(page, "more than half an hour ago") || runs() != 0 {
		t.Errorf("an old one is made: %d runs", runs())
	}
	age("+")
	var tabs sync.WaitGroup
	for range 4 {
		tabs.Go(func() { lead.post(makes, back) })
	}
	tabs.Wait()
	h.quiet()
	if n := runs(); n != 1 {
		t.Errorf("%d runs were begun", n)
	}
	if n := count(h, `select count(*) from change where state in ('verified', 'read back')`); n == 0 {
		t.Error("nothing was made")
	}
	if _, page := lead.get(at); !strings.Contains(page, "This was made") {
		t.Error("that it was made isn't said")
	}
}

// New passwords are shown before they are given: by camera, the account, each recorder that
// holds it. Looking again makes no further password, and a form that is sent twice no further
// token.
func TestNewPasswordsAreShownFirst(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	back := url.Values{"_csrf": {v.token("/sites/1/board")}, "back": {"/sites/1/sign-in"}}
	for _, st := range []string{"find", "sign-in"} {
		v.post("/sites/1/"+st+"/read", back)
		h.quiet()
	}
	ask := url.Values{"_csrf": back["_csrf"], "back": back["back"], "all": {"1"}}
	at := v.post("/sites/1/sign-in/rotate", ask).Header.Get("Location")
	if previewed.FindStringSubmatch(at) == nil {
		t.Fatalf("nothing is shown: %s", at)
	}
	sets := count(h, `select count(*) from credential_set where device_id is not null`)
	_, page := v.get(at)
	page = strings.Join(strings.Fields(page), " ")
	for _, part := range []string{"New passwords for", "Password of otter", "The account: otter, with a new password made by its rule and sealed here.", "Undo: Put the old password back."} {
		if !strings.Contains(page, part) {
			t.Errorf("the preview doesn't show %q", part)
		}
	}
	if count(h, `select count(*) from change`) != 0 || sets == 0 {
		t.Errorf("looking asked for something, or made no password: %d", sets)
	}
	v.post("/sites/1/sign-in/rotate", ask)
	if n := count(h, `select count(*) from credential_set where device_id is not null`); n != sets {
		t.Errorf("looking twice made %d passwords, want %d", n, sets)
	}
	token := url.Values{"_csrf": back["_csrf"], "back": {"/sites/1/settings"}, "name": {"watcher"}, "scope": {"read"}, "days": {"30"}}
	if res := v.post("/sites/1/settings/token", token); res.StatusCode != http.StatusOK {
		t.Fatalf("no token: %d", res.StatusCode)
	}
	made := count(h, `select count(*) from api_token`)
	v.post("/sites/1/settings/token", token)
	if _, page := v.get("/sites/1/settings"); count(h, `select count(*) from api_token`) != made || !strings.Contains(page, "A token watcher is there already") {
		t.Error("a form that was sent twice made a second token")
	}
}

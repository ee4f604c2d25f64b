package web_test

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"duskyharbor/internal/demo"
)

// Addresses that no page links to: a number that no database holds shows the page from its beginning
// or is refused, and never is our trouble; a filter that matches nothing has nothing read.
func TestOddAddressesAreNoTroubleOfOurs(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	for _, page := range []string{"log", "log?part=runs", "log?part=people", "board", "streams", "channels", "recording", "find", "clock"} {
		for _, n := range []string{"9223372036854775808", "99999999999999999999999", "-9223372036854775808", "-1", "0", "1e9", "x"} {
			sep := "?"
			if strings.Contains(page, "?") {
				sep = "&"
			}
			for _, key := range []string{"from", "camera", "recorder", "sheet"} {
				if res, _ := v.get("/sites/1/" + page + sep + key + "=" + n); res.StatusCode >= 500 {
					t.Errorf("%s with %s=%s: %d", page, key, n, res.StatusCode)
				}
			}
		}
	}
	for _, st := range []string{"clock", "streams", "channels"} {
		v.post("/sites/1/"+st+"/read", url.Values{"_csrf": {v.token("/sites/1/board")}, "all": {"1"}, "q": {"nothing like it"}})
	}
	if n := count(h, `select count(*) from run`); n != 0 {
		t.Errorf("%d runs began of nothing", n)
	}
}

// What is accepted, marked, drawn or heard of one camera isn't taken where the page showed another's
// picture, and a removal is asked about by name before anything goes.
func TestWhatIsShownAndWhoGoesIsNamed(t *testing.T) {
	t.Parallel()
	h := serve(t)
	v := visit(t, h)
	v.signIn(demo.Lead, h.Secrets.Lead)
	token := v.token("/sites/1/streams")
	slip, berth := fmt.Sprint(h.number("Slipway")), fmt.Sprint(h.number("Berth 1 ramp"))
	for act, more := range map[string]url.Values{
		"streams/accept": {"light": {"day"}},
		"streams/marks":  {"marks": {"[]"}},
		"streams/masks":  {"masks": {"0,0 1,0 1,1"}},
	} {
		form := url.Values{"_csrf": {token}, "source": {slip}, "shown": {berth}, "back": {"/sites/1/streams"}}
		for k, all := range more {
			form[k] = all
		}
		res := v.post("/sites/1/"+act, form)
		if _, page := v.get("/sites/1/streams"); !strings.Contains(page, "The picture on the page wasn&#39;t that of Slipway") {
			t.Errorf("%s of another camera's picture: %d", act, res.StatusCode)
		}
	}
	if n := count(h, `select count(*) from accepted_still`); n != 0 {
		t.Errorf("%d pictures were accepted", n)
	}
	for path, says := range map[string]string{"cameras/remove": "Slipway", fmt.Sprintf("settings/recorder/%d/remove", h.recorder("Quay recorder")): "Quay recorder"} {
		before := count(h, `select count(*) from device`)
		res, err := v.c.PostForm(v.base+"/sites/1/"+path, url.Values{"_csrf": {token}, "pick": {slip}})
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(res.Body)
		_ = res.Body.Close()
		if err != nil || res.StatusCode != http.StatusOK || !strings.Contains(string(body), "Remove "+says+"?") || count(h, `select count(*) from device`) != before {
			t.Errorf("%s: %d, %v\n%.600s", path, res.StatusCode, err, body)
		}
	}
}

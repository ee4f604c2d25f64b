package web_test

import (
	"html"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

var (
	unseen = regexp.MustCompile(`(?s)<(script|template|title)\b.*?</(script|template|title)>`)
	markup = regexp.MustCompile(`<[^>]*>`)
	spaces = regexp.MustCompile(`\s+`)
)

// text is what a page of the site says to the lead before any script runs: words need no browser.
func (h *harbour) text(page string) string {
	h.t.Helper()
	if h.lead == nil {
		h.lead = visit(h.t, h)
		if res := h.lead.signIn(demo.Lead, h.Secrets.Lead); res.StatusCode != http.StatusSeeOther {
			h.t.Fatalf("the lead isn't let in: %d", res.StatusCode)
		}
	}
	res, body := h.lead.get("/sites/" + h.site + "/" + page)
	if res.StatusCode != http.StatusOK {
		h.t.Fatalf("%s: %d", page, res.StatusCode)
	}
	return said(body)
}

// said is the text of a page's source.
func said(source string) string {
	plain := markup.ReplaceAllString(unseen.ReplaceAllString(source, " "), " ")
	plain = spaces.ReplaceAllString(html.UnescapeString(plain), " ")
	return strings.NewReplacer(" .", ".", " ,", ",", " :", ":").Replace(plain)
}

// says waits until a page says all parts.
func (h *harbour) says(page string, parts ...string) {
	h.t.Helper()
	text, missing := "", ""
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		text, missing = h.text(page), ""
		for _, part := range parts {
			if !strings.Contains(text, part) {
				missing = part
			}
		}
		if missing == "" {
			return
		}
	}
	h.t.Fatalf("%s doesn't say %q. It says:\n%s", page, missing, text)
}

func TestWhatASourceSays(t *testing.T) {
	t.Parallel()
	source := "<title>No</title><p>It is <b>5 &amp; 6</b>.\n <script>let no = '<p>'</script><i>“Slip”</i></p>"
	if got := strings.TrimSpace(said(source)); got != "It is 5 & 6. “Slip”" {
		t.Errorf("%q", got)
	}
}

// The channel faces of each kind of recorder, as full as they get: nothing for axe-core, and nothing scrolls sideways.
func TestFacesAreLegibleAndFit(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Crew mess", "Fuel jetty", "Freight scale", "Quay recorder", "Terminal recorder", "Store recorder", "Harbour desk"), nil)
	a := whole(t, h)
	h.ready("find", "sign-in", "streams", "channels")
	desk := h.deskListed(a)
	h.ready("channels", "channels!")
	a.keeps("channels/cascading", args{"recorder_id": desk, "takes_channels": true})
	a.keeps("cameras/plan", args{"cameras": []any{a.camera("Freight scale")}, "recorder_id": a.recorder("Store recorder")})
	a.keeps("channels/bench", args{"recorder_id": a.recorder("Store recorder"), "channels": 4, "port": 8090, "picture": "/picture/{n}", "codecs": []string{"H264"}})
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	for _, of := range []struct{ place, says string }{
		{"Harbour desk", "Channels of other recorders"}, {"Store recorder", "Bench sheet of Store recorder"}, {"Quay recorder", "picture: Ice house door"},
	} {
		h.on(p, "channels?recorder="+string(a.recorder(of.place)))
		p.Sees(30*time.Second, of.says)
		p.AccessibleIn("main", of.place)
		h.fits(p, of.place)
	}
}

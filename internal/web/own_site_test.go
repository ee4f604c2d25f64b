package web_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/people"
	"duskyharbor/internal/site"
	"duskyharbor/internal/testbed"
)

// TestASiteOfOnesOwnByButtonsOnly goes from an empty database to planned cameras: the first code, the site, two networks,
// a recorder, an account, the list; all on the pages. Nothing is seeded. TestASiteOfOnesOwnTakesFewPresses goes on to
// what is recorded.
func TestASiteOfOnesOwnByButtonsOnly(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartBare(t, 0, "Slipway", "Berth 1 ramp", "Ticket hall", "Terminal recorder"), nil)
	p := testbed.Browser(t, 1280, 800)
	shoot := func(name string) {
		if dir := os.Getenv("SHOTS"); dir != "" {
			p.Wait(time.Second)
			if err := os.WriteFile(filepath.Join(dir, name+".png"), p.Shot(), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	code, hash := people.NewCode()
	if err := h.Store.KeepFirstCode(t.Context(), hash); err != nil {
		t.Fatal(err)
	}
	clearAndType := func(field, text string) {
		testbed.Until(t, 20*time.Second, field+" is there", func() bool {
			return testbed.Glance[bool](p, "document.readyState === 'complete' && !!document.querySelector('"+field+"')")
		})
		testbed.Eval[bool](p, "(document.querySelector('"+field+"').value = '', true)")
		if text != "" {
			p.Type(field, text)
		}
	}
	p.Go(h.url + "/") // nobody can sign in: the first page is shown
	p.Sees(20*time.Second, "Set this server up")
	fill := func(code string) {
		for field, text := range map[string]string{"#code": code, "#name": "Maren Ostby", "#login": "maren", "#password": "a long password",
			"#site": "Gannet Point", "#zone": "Europe/Lisbon", "#net-name-0": "Quay", "#net-prefix-0": h.Net.Prefix(1).String(),
			"#net-name-1": "Terminal", "#net-prefix-1": h.Net.Prefix(2).String(), "#set-name": "House account", "#set-user": "otter",
			"#set-password": h.Secrets.House} {
			clearAndType(field, text)
		}
	}
	fill("abcde-abcde-abcde-abcde")
	shoot("start")
	p.Press("Set the site up")
	p.Sees(20*time.Second, "That code opens nothing")
	testbed.Until(t, 20*time.Second, "what was typed is kept, passwords too, though the server sends none back", func() bool {
		return testbed.Glance[string](p, "['#site', '#net-prefix-1', '#set-password'].map(f => document.querySelector(f).value).join('|')") == "Gannet Point|"+h.Net.Prefix(2).String()+"|"+h.Secrets.House
	})
	fill(code)
	p.Press("Set the site up")
	p.Sees(20*time.Second, "Board", "Gannet Point")
	if yes, err := h.Store.Untouched(context.Background()); err != nil || yes {
		t.Fatal("nobody can sign in", err)
	}
	s, err := h.Store.SiteNamed(context.Background(), "Gannet Point")
	if err != nil || s.ZonePosix != "WET0WEST,M3.5.0/1,M10.5.0" {
		t.Fatalf("%+v %v", s, err)
	}
	h.site = fmt.Sprint(s.ID)

	// What answers is found, the recorder among it.
	h.on(p, "find")
	h.run(p, "body", "Look at 2 networks")
	p.Sees(30*time.Second, "needs you, or not expected", h.Net.At(".1.11").String(), h.Net.At(".2.5").String())
	testbed.Until(t, 20*time.Second, "what is on no list is listed as it is found, without a reload", func() bool {
		return testbed.Glance[int64](p, "document.querySelectorAll('[id^=stranger-]').length") == 3
	})
	shoot("own-find")
	h.on(p, "settings")
	p.Sees(20*time.Second, "Recorders", "none: it can't be read")
	h.clickOn(p, `section summary[aria-label^="Change"][aria-label*="`+h.recorderPlace()+`"]`)
	clearAndType(".reveal[open] input[name=place]", "Terminal recorder")
	p.PressIn("details[open]", "Keep")
	p.Sees(20*time.Second, "Terminal recorder was changed; nothing was written to it.")

	// Its account is a set; it is given to it.
	h.clickOn(p, `#sets details.adder summary`)
	shoot("own-settings-form")
	p.Type("#s-0-name", "Recorder's account")
	p.Type("#s-0-username", "install")
	p.Type("#s-0-password", h.Secrets.Terminal)
	p.Press("Add the set")
	p.Sees(20*time.Second, "Recorder's account was added; its password is sealed.")
	// It is shown where it is asked for, after the person's own password.
	h.clickOn(p, `summary[aria-label="Show the password of Recorder's account"]`)
	p.Type("details[open] input[type=password]", "not mine at all")
	p.PressIn("details[open] form[data-reveal]", "Show")
	p.Sees(20*time.Second, "That isn't your own password.")
	p.Type("details[open] input[type=password]", "a long password")
	p.PressIn("details[open] form[data-reveal]", "Show")
	p.Sees(20*time.Second, h.Secrets.Terminal)
	h.on(p, "settings")
	h.clickOn(p, `summary[aria-label="Change Terminal recorder"]`)
	testbed.Eval[bool](p, `((s) => { s.value = [...s.options].find(o => o.text.includes("Recorder's")).value; return true })(document.querySelector('details[open] select[name=set]'))`)
	p.PressIn("details[open]", "Keep")
	p.Sees(20*time.Second, "Read it on Channels")
	shoot("own-settings")

	// Nothing is sent to what nobody said belongs here: first they are put on the list.
	h.on(p, "find")
	shoot("own-strangers")
	p.Press("Put the ticked ones on the list")
	p.Sees(20*time.Second, "3 cameras on the list: this site's sets may be sent there.")

	// Sign-in never sends the recorder's account to a camera.
	h.on(p, "sign-in")
	h.run(p, "body", "Sign in to 3 cameras")
	v := h.snapshot(t, s.ID)
	for _, d := range v.Cameras() {
		for _, try := range v.Tries[d.ID] {
			if try.Set != "House account" {
				t.Errorf("%s was sent %s", d.Place, try.Set)
			}
		}
	}
	slipway := h.at(t, v, h.Net.At(".1.11").String())
	h.on(p, fmt.Sprintf("find?sheet=%d", slipway))
	h.clickOn(p, `.sheet details:has(#say-place) summary`)
	clearAndType("#say-place", "Slipway")
	testbed.Eval[bool](p, `((s) => { s.value = [...s.options].find(o => o.text === "Terminal recorder").value; return true })(document.querySelector('#say-recorder'))`)
	p.PressIn(".sheet", "Keep")
	p.Sees(20*time.Second, "Kept. Nothing was written to Slipway.", "planned for Terminal recorder")

	// The others are planned together, on the Board.
	h.on(p, "board")
	p.Sees(20*time.Second, "Slipway")
	for _, x := range []string{".1.12", ".2.21"} {
		testbed.Eval[bool](p, fmt.Sprintf("(document.querySelector('tr[data-row] input[value=\"%d\"]').click(), true)", h.at(t, v, h.Net.At(x).String())))
	}
	p.Press("Plan")
	p.Sees(20*time.Second, "2 views planned for Terminal recorder")

	// One is taken off the site again; it is asked once more, focus is on the harmless button.
	h.on(p, fmt.Sprintf("find?sheet=%d", h.at(t, v, h.Net.At(".1.12").String())))
	h.clickOn(p, `.sheet details:has(#say-place) summary`)
	p.PressIn(".sheet", "Remove "+h.Net.At(".1.12").String()+" from the site")
	p.Sees(20*time.Second, "goes from this site")
	if got := testbed.Eval[string](p, "document.activeElement.innerText"); got != "Leave it" {
		t.Errorf("focus stands on %q", got)
	}
	p.PressIn(".ask", "Remove 1 camera")
	p.Sees(20*time.Second, "1 camera with 1 view", "went from the site")

	// A second site, empty; the first is put away and taken out again.
	p.Go(h.url + "/sites")
	p.Type("#name", "Lee shore")
	p.Press("Make the site")
	p.Sees(20*time.Second, "Lee shore was made", "No network yet", "No recorder yet")
	p.Go(h.url + "/sites/" + h.site + "/settings")
	p.Press("Put the site away")
	p.PressIn("#confirm", "Put Gannet Point away")
	p.Sees(20*time.Second, "Gannet Point is put away")
	shoot("sites")
	p.Accessible("the sites")
	p.Press("Take Gannet Point out again")
	p.Sees(20*time.Second, "Board", "Slipway")
	p.Resize(390, 800)
	for _, path := range []string{"settings", "find", "board"} {
		h.on(p, path)
		if w := testbed.Eval[int64](p, "document.documentElement.scrollWidth"); w > 390 {
			t.Errorf("%s scrolls sideways on a phone: %d", path, w)
		}
	}
}

func (h *harbour) snapshot(t *testing.T, id int64) *site.Snapshot {
	t.Helper()
	v, err := site.Load(context.Background(), h.Store, id, nil)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// at is the number of the first view of what answers at an address.
func (h *harbour) at(t *testing.T, v *site.Snapshot, address string) int64 {
	t.Helper()
	for _, d := range v.Devices {
		if d.Address != nil && d.Address.String() == address {
			return v.Of(d).ID
		}
	}
	t.Fatalf("nothing was found at %s", address)
	return 0
}

// clickOn clicks the first element of a selector, once it is there.
func (h *harbour) clickOn(p *testbed.Page, selector string) {
	h.t.Helper()
	quoted, _ := json.Marshal(selector)
	testbed.Until(h.t, 20*time.Second, selector+" is there", func() bool {
		return testbed.Glance[bool](p, "document.readyState === 'complete' && (document.querySelector("+string(quoted)+").click(), true)")
	})
}

// recorderPlace is what the one recorder of the site is called.
func (h *harbour) recorderPlace() string {
	h.t.Helper()
	var place string
	if err := h.Store.Pool.QueryRow(context.Background(), `select place from device where kind = 'recorder'`).Scan(&place); err != nil {
		h.t.Fatal(err)
	}
	return place
}

// A network that overlaps another, or whose gateway isn't in it, is refused; one that is
// changed is judged by; a set that is given another password opens nothing for certain.
func TestNetworksAndSetsAreChangedOnSettings(t *testing.T) {
	t.Parallel()
	h := serve(t)
	lead := visit(t, h)
	lead.signIn("maren", h.Secrets.Lead)
	say := func(path string, form map[string][]string) string {
		t.Helper()
		form["_csrf"] = []string{lead.token("/sites/1/settings")}
		form["back"] = []string{"/sites/1/settings"}
		if r := lead.post("/sites/1/settings/"+path, form); r.StatusCode >= 400 {
			t.Fatalf("%s: %d", path, r.StatusCode)
		}
		_, page := lead.get("/sites/1/settings")
		return page
	}
	quay, terminal := h.Net.Prefix(1).String(), h.Net.Prefix(2).String()
	for name, c := range map[string]struct {
		form map[string][]string
		says string
	}{
		"overlaps":        {map[string][]string{"name": {"All"}, "prefix": {strings.Replace(quay, ".1.0/24", ".0.0/16", 1)}}, "overlaps Quay"},
		"too wide":        {map[string][]string{"name": {"All"}, "prefix": {"127.0.0.0/8"}}, "is no IPv4 network of at most 65,536 addresses"},
		"gateway outside": {map[string][]string{"name": {"Lee"}, "prefix": {h.Net.Prefix(7).String()}, "gateway": {h.Net.At(".1.1").String()}}, "is no address of"},
		"no port":         {map[string][]string{"name": {"Lee"}, "prefix": {h.Net.Prefix(7).String()}, "ports": {"web"}}, "is no port"},
	} {
		if page := say("network", c.form); !strings.Contains(page, c.says) {
			t.Errorf("%s isn't told: %q", name, c.says)
		}
	}
	say("network/1", map[string][]string{"name": {"Quay"}, "prefix": {quay}, "gateway": {h.Net.At(".1.254").String()},
		"time-server": {h.Net.At(".2.5").String()}, "ports": {"8081, 80"}, "at-once": {"3"}})
	all, err := h.Store.Networks(t.Context(), 1)
	if err != nil || all[0].Gateway == nil || all[0].Gateway.String() != h.Net.At(".1.254").String() || len(all[0].Ports) != 1 || all[0].AtOnce != 3 || all[0].TimeServer == nil {
		t.Fatalf("%+v %v", all[0], err)
	}
	if page := say("network/2/remove", map[string][]string{}); !strings.Contains(page, "is looked at no more") || strings.Contains(page, terminal) {
		t.Error("the network isn't removed, or not said to be")
	}
	if _, err := h.Store.Pool.Exec(t.Context(), `update device set opened_set = 1 where place = 'Slipway'`); err != nil {
		t.Fatal(err)
	}
	if page := say("set/1", map[string][]string{"name": {"House account"}, "username": {"otter"}, "password": {"another one"}}); !strings.Contains(page, "has another password, sealed") {
		t.Error("another password isn't told")
	}
	d, err := h.Store.Devices(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range d {
		if x.OpenedSet != nil && *x.OpenedSet == 1 {
			t.Errorf("%s opens with a password that nobody tried", x.Place)
		}
	}
	if page := say("set/1/remove", map[string][]string{}); !strings.Contains(page, "House account is gone") {
		t.Error("the set isn't removed")
	}
	if _, err := h.Store.Set(t.Context(), 1); err == nil {
		t.Error("its password is kept")
	}

	// A site that is put away is shown nowhere but in the list, and its programs are shut out.
	token, hash := people.NewToken()
	if _, err := h.Store.AddToken(t.Context(), 1, 0, "program", []string{"read"}, hash, nil); err != nil {
		t.Fatal(err)
	}
	lead.post("/sites/1/settings/put-away", url.Values{"_csrf": {lead.token("/sites/1/settings")}})
	if r, _ := lead.get("/sites/1/board"); r.StatusCode != http.StatusNotFound {
		t.Errorf("its Board answers %d", r.StatusCode)
	}
	if status := lead.send(http.MethodGet, "/api/v1/sites/1/cameras", nil, token); status != http.StatusUnauthorized {
		t.Errorf("its programs are answered %d", status)
	}
	lead.post("/sites/1/take-out", url.Values{"_csrf": {lead.token("/sites")}})
	if r, _ := lead.get("/sites/1/board"); r.StatusCode != http.StatusOK {
		t.Errorf("taken out, its Board answers %d", r.StatusCode)
	}
}

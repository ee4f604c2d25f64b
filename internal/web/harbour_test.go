package web_test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/site"
	"duskyharbor/internal/testbed"
)

// on opens a page of the site.
func (h *harbour) on(p *testbed.Page, page string) { p.Go(h.url + "/sites/" + h.site + "/" + page) }

// number of a camera by its place.
func (h *harbour) number(place string) int64 {
	h.t.Helper()
	var id int64
	if err := h.Store.Pool.QueryRow(context.Background(), `select id from source where name = $1`, place).Scan(&id); err != nil {
		h.t.Fatalf("%s: %v", place, err)
	}
	return id
}

// ready has stages read, one after the other, as a program asks for it; one with a ! has what it proposes made too:
// what a test that is about a hand begins with.
func (h *harbour) ready(stages ...string) {
	h.t.Helper()
	a := whole(h.t, h)
	for _, st := range stages {
		st, makes := strings.CutSuffix(st, "!")
		if !makes {
			a.ends(a.do("POST", a.site+"/runs", `{"stage": "`+st+`"}`, http.StatusAccepted))
			continue
		}
		shown := a.do("POST", a.site+"/previews", `{"stage": "`+st+`"}`, http.StatusCreated)
		a.wait(a.do("POST", a.site+"/previews/"+jsonNumber(shown["id"])+"/make", "", http.StatusAccepted))
	}
}

// idle waits until no run is under way.
func (h *harbour) idle() {
	h.t.Helper()
	testbed.Until(h.t, 90*time.Second, "no run is under way", func() bool {
		return count(h,
			`select count(*) from run where ended_at is null`) == 0
	})
}

// makes presses a button that shows what is to be changed, and then the preview's.
func (h *harbour) makes(p *testbed.Page, button string) {
	h.t.Helper()
	p.Press(button)
	h.takes(p)
}

// takes presses the button of the preview that is shown.
func (h *harbour) takes(p *testbed.Page) {
	h.t.Helper()
	button := ""
	testbed.Until(h.t, 30*time.Second, "what will be changed is shown", func() bool {
		button = testbed.Glance[string](p, "(document.getElementById('preview-make') || {innerText: ''}).innerText")
		return button != ""
	})
	p.PressIn(".preview", button)
}

// run presses a button that starts a run, and waits until it has ended. What is to be
// written is shown first: then the preview's button is pressed.
func (h *harbour) run(p *testbed.Page, within, button string) {
	h.t.Helper()
	before, shown := count(h, `select count(*) from run`), false
	p.PressIn(within, button)
	for end := time.Now().Add(2 * time.Minute); count(h, `select count(*) from run`) == before; time.Sleep(100 * time.Millisecond) {
		if makes := testbed.Glance[string](p, "(document.getElementById('preview-make') || {innerText: ''}).innerText"); makes != "" && !shown {
			shown = true
			if dir := os.Getenv("SHOTS"); dir != "" && strings.HasPrefix(button, "Set the clock on") {
				_ = os.WriteFile(filepath.Join(dir, "preview.png"), p.Shot(), 0o644)
			}
			p.PressIn(".preview", makes)
		}
		if testbed.Glance[bool](p, "!!(document.getElementById('confirm') || {}).open") {
			if yes := testbed.Glance[string](p, "document.querySelector('#confirm .btn-primary').innerText"); yes != "" {
				p.PressIn("#confirm", yes)
			}
		}
		if time.Now().After(end) {
			p.Fail(button + " starts no run")
		}
	}
	h.idle()
}

// sheet opens a camera's sheet in a stage.
func (h *harbour) sheet(p *testbed.Page, page, place string) {
	h.t.Helper()
	h.on(p, fmt.Sprintf("%s?sheet=%d", page, h.number(place)))
	p.Sees(30*time.Second, place+" · ")
}

// needy lists what needs a person in stages 1 to 3, over all devices.
func (h *harbour) needy() string {
	h.t.Helper()
	v, err := site.Load(context.Background(), h.Store, 1, nil)
	if err != nil {
		h.t.Fatal(err)
	}
	out := ""
	for _, d := range v.Devices {
		for _, st := range []stage.Stage{stage.Find, stage.SignIn, stage.Clock} {
			out += h.needs(v, v.Of(d), st)
		}
	}
	return out
}

func (h *harbour) needs(v *site.Snapshot, of site.Source, st stage.Stage) (out string) {
	for _, f := range h.app.Findings(time.Now(), v, of, st) {
		if f.Severity > finding.Note {
			out += fmt.Sprintf("%s: %s: %s\n", of.Place, f.Code, f.Sentence)
		}
	}
	return out
}

// byButtons goes through stages 1 to 3 of the whole harbour, by buttons only, until
// nothing of them needs a person, stage by stage, as the pictures show it.
func byButtons(t *testing.T, h *harbour, p *testbed.Page, shoot func(string)) {
	mast := h.Net.At(".250.64").String()
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	h.on(p, "find")
	h.run(p, "body", "Look at 3 networks")
	h.on(p, "find")
	p.Type("#also-at", mast)
	p.Press("Look there")
	p.Sees(20*time.Second, mast+" is in none of the networks of Gannet Point Ferry Terminal")
	h.run(p, "body", "Look at "+mast+" all the same")
	h.on(p, "sign-in")
	h.run(p, "body", "Sign in to 14 cameras")
	h.on(p, "find")
	p.Sees(30*time.Second, "Address plan", "are neither camera nor recorder:",
		"is bound to its port and holds a dead entry", "1 device outside the site's networks")
	p.Wait(16 * time.Second) // the last run's line is gone
	shoot("find")
	h.on(p, "sign-in")
	p.Sees(30*time.Second, "no ONVIF", "old account", "web only", "2 changes proposed")
	shoot("sign-in")
	h.on(p, "clock")
	h.run(p, "body", "Read the clock of 14 cameras")
	readings := 0
	testbed.Until(t, 2*time.Minute, "its drift is known, which takes some readings", func() bool {
		// What is seen is the page as it is after the last reading, loaded afresh: a wide
		// reading may take back what the one before showed.
		h.sheet(p, "clock", "Freight scale")
		if testbed.Glance[bool](p, "document.body.innerText.includes('Its clock drifts by')") && (os.Getenv("SHOTS") == "" || readings >= 9) {
			return true
		}
		h.run(p, ".sheet", "Read Clock of Freight scale again")
		readings++
		p.Wait(8 * time.Second) // pictures show the scenario's own drift, over nine readings
		return false
	})
	p.Sees(30*time.Second, "Its clock drifts by", "It leaves what is usable on", "reading by reading")
	shoot("clock-drift")
	h.on(p, "clock")
	p.Sees(30*time.Second, "+1 h", "its NTP server isn't reached", "Quay recorder", "serves NTP")
	shoot("clock")
	h.sheet(p, "clock", "Berth 1 ramp")
	p.Sees(30*time.Second, "1 h ahead of Terminal recorder", "though the password is right")
	shoot("sheet")

	// The ways out.
	h.on(p, "sign-in")
	h.run(p, "body", "Set accounts on 2 cameras")
	h.sheet(p, "sign-in", "Gangway")
	h.run(p, ".sheet", "Give Gangway a new password")
	h.sheet(p, "find", mast)
	p.PressIn(".sheet", "Take over")
	p.Sees(30*time.Second, "is Signal mast from now on")
	h.sheet(p, "sign-in", "Signal mast")
	h.run(p, ".sheet", "Read Sign-in of Signal mast again")
	h.on(p, "find")
	h.run(p, "body", "Put 2 devices right")
	h.sheet(p, "find", "Lifeboat house")
	p.PressIn(".sheet", "Accept it as it is")
	p.Sees(30*time.Second, "Accepted by Maren Ostby")
	for place, views := range map[string][]string{"Ticket hall": {"vs0"}, "Customs shed": {"vs0", "vs1"}, "Bonded store": {"vs0", "vs1"}} {
		h.sheet(p, "find", place)
		for _, v := range views {
			testbed.Eval[bool](p, "document.querySelector('.sheet input[name=view][value="+v+"]').click(); true")
		}
		p.PressIn(".sheet", "Keep these views")
		p.Sees(30*time.Second, "picked:")
	}
	h.sheet(p, "find", "Customs shed")
	p.PressIn(".sheet", "Keep these views")
	p.Sees(30*time.Second, "A view whose tick is gone leaves the Board")
	p.PressIn("#confirm", "Leave it")
	h.on(p, "clock")
	p.Sees(30*time.Second, "Set the clock on 6 cameras")
	h.run(p, "body", "Set the clock on 6 cameras")
	h.listDesk(p)
	h.listAnalysers(p)
	h.on(p, "find")
	h.run(p, "body", "Look at 3 networks")
	h.on(p, "sign-in")
	h.run(p, "body", "Sign in to 15 cameras")
	h.cascades(p, fmt.Sprintf("channels?recorder=%d", h.recorder("Harbour desk")))
	h.on(p, "clock")
	h.run(p, "body", "Read the clock of 14 cameras")
	if left := h.needy(); left != "" {
		t.Errorf("after the ways out:\n%s", left)
	}
}

// click runs the first button of a selector, whatever it says just now.
func (h *harbour) click(p *testbed.Page, selector string) {
	h.t.Helper()
	before := count(h, `select count(*) from run`)
	testbed.Until(h.t, 30*time.Second, selector+" starts a run", func() bool {
		if count(h, `select count(*) from run`) > before {
			return true
		}
		testbed.Glance[bool](p, "(() => { const b = document.querySelector('"+selector+"'); if (b && !b.dataset.once && !b.disabled) { b.dataset.once = 1; b.click(); } const m = document.getElementById('preview-make'); if (m && !m.dataset.once) { m.dataset.once = 1; m.click(); } return true })()")
		return false
	})
	h.idle()
}

// The sheets of the harbour's odd cameras, and where each stage's picture is fullest: nothing for axe-core in either
// theme, and nothing scrolls sideways.
func TestSheetsAreLegibleAndFit(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartWhole(t), nil)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "clock", "streams")
	looks := []string{"find", "sign-in", "clock", "run?id=2", "settings"}
	for stage, places := range map[string][]string{"find": {"Customs shed", "Quay recorder port 3"}, "sign-in": {"Gangway"}, "clock": {"Freight scale"}, "streams": {"Lifeboat house", "Net loft"}} {
		for _, place := range places {
			looks = append(looks, fmt.Sprintf("%s?sheet=%d", stage, h.number(place)))
		}
	}
	for _, name := range looks {
		h.on(p, name)
		within := "main"
		if strings.Contains(name, "sheet=") {
			within = ".sheet"
		}
		p.AccessibleIn(within, name)
		h.fits(p, name)
		p.Resize(390, 3000) // so high that what sticks to its lower edge covers no row
		p.Theme("dark")
		p.LegibleIn(within, name+" in dark at 390")
		p.Resize(1280, 800)
		p.Theme("light")
	}
}

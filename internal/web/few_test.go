package web_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/testbed"
)

// presses is how often the walk of the harbour from Find to Recording may press at the most: whatever is pressed counts,
// also what leads from page to page, ticks a box, or says yes.
const presses = 85

// The harbour is taken from Find to Recording, by what a person presses alone, until nothing in these stages needs one.
func TestTheHarbourTakesFewPresses(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartWhole(t), nil)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	p.Sees(30*time.Second, "Nothing was looked for yet")
	signedIn := p.Presses()
	lap := func(of string) { h.lap(p, of) }
	// All that can be read, in one.
	h.run(p, "body", "Look, and read on")
	h.chainEnds()
	lap("Board")

	goes := func(slug string) { h.goes(p, slug) }
	mast := h.Net.At(".250.64").String()
	goes("find")
	p.Type("#also-at", mast)
	p.Press("Look there")
	p.Sees(20*time.Second, mast+" is in none of the networks of Gannet Point Ferry Terminal")
	h.run(p, "body", "Look at "+mast+" all the same")
	p.PressIn("main", mast)
	p.PressIn(".sheet", "Take over")
	p.Sees(30*time.Second, "is Signal mast from now on")
	lap("Find, first")

	on := func() { h.next(p) }
	on()
	lap("what is next")
	// The Board's cells open each camera's sheet where it needs somebody.
	opens := func(place, stage string) {
		t.Helper()
		p.Tap(fmt.Sprintf(`tr[data-row="%d"] a[href*="stage=%s"]`, h.number(place), stage))
		p.Sees(30*time.Second, place+" · ")
	}
	opens("Gangway", "sign-in")
	h.run(p, ".sheet", "Give Gangway a new password")
	lap("Sign-in")
	opens("Ticket hall", "find")
	p.Tap(".sheet input[name=view][value=vs0]")
	p.PressIn(".sheet", "Keep these views")
	p.Sees(30*time.Second, "1 view of Ticket hall picked:")
	opens("Customs shed", "find")
	p.Tap(".sheet input[name=view][value=vs0]")
	p.Tap(".sheet input[name=view][value=vs1]")
	p.PressIn(".sheet", "Keep these views")
	p.Sees(30*time.Second, "2 views of Customs shed picked:")
	opens("Bonded store", "find")
	p.PressIn(".sheet", "Use all 2")
	p.Sees(30*time.Second, "2 views of Bonded store picked:")
	opens("Lifeboat house", "find")
	p.PressIn(".sheet", "Accept it as it is")
	p.Sees(30*time.Second, "Accepted by Maren Ostby")
	lap("Find, views")
	opens("Ice plant", "streams")
	p.Sees(30*time.Second, "It sends H.265, and Quay recorder takes H.264 only.", "Plan it for a recorder that takes it: Terminal recorder.")
	p.PressIn(".sheet", "Plan it for Terminal recorder")
	p.Sees(30*time.Second, "1 view planned for Terminal recorder.")
	opens("Net loft", "streams")
	p.Sees(30*time.Second, "no consent to record sound here is on record", "Talkback of Quay recorder wants G.711 µ-law, and this sends AAC.")
	p.Type("#consent-text", "Letter of the net makers, folder 3")
	p.PressIn(".sheet", "Write this consent down")
	p.Sees(30*time.Second, "Letter of the net makers, folder 3")
	opens("Lifeboat house", "streams")
	p.Sees(30*time.Second, "nobody said at which addresses its streams are had")
	if says := whole(t, h).refused("streams/paths", args{"camera_id": h.number("Lifeboat house"), "paths": "http://192.0.2.7/main"}, http.StatusUnprocessableEntity); !strings.Contains(says, "is no rtsp:// address.") {
		t.Errorf("%s", says)
	}
	p.PressIn(".sheet", "Ask it for the usual addresses")
	p.Sees(30*time.Second, "Streams of Lifeboat house: /main, /sub.")
	lap("Streams")

	// The desk, which nobody listed, and the store recorder, which has no way in.
	goes("settings")
	p.Tap("#sets details.adder summary")
	p.Type("#s-0-name", "Desk account")
	p.Type("#s-0-username", "install")
	p.Type("#s-0-password", h.Secrets.Desk)
	p.Press("Add the set")
	p.Sees(20*time.Second, "Desk account was added; its password is sealed.")
	desk := h.Net.At(".2.8").String()
	p.Tap(`section summary[aria-label^="Change"][aria-label*="` + desk + `"]`)
	testbed.Eval[bool](p, `((f) => { f.elements.place.value = "Harbour desk"; f.elements.set.value = [...f.elements.set.options].find((o) => o.text.includes("Desk account")).value; return true })(document.querySelector("details.reveal[open] form"))`)
	p.Tap("details.reveal[open] select[name=set]") // counted: it is chosen by hand
	p.PressIn("details.reveal[open]", "Keep")
	p.Sees(20*time.Second, "Harbour desk was changed")
	lap("the desk, on Settings")
	goes("channels")
	p.PressIn("main", "Store recorder")
	p.Press("It has no interface? Set it up by a bench sheet")
	p.Set("input[name=channels]", "4")
	p.Set(".benchset input[name=port]", fmt.Sprint(recorder.ScreenPort))
	p.Set(".benchset input[name=picture]", "/picture/{n}")
	p.PressIn(".bench", "Keep this")
	p.Sees(20*time.Second, "Bench sheet of Store recorder")
	p.PressIn("main", "Quay recorder")
	h.run(p, "main", "Renew its models")
	lap("Channels")
	on()
	lap("what is next")
	goes("channels")
	p.PressIn("main", "Quay recorder")
	h.run(p, "main", "Make room for 1 source")
	on()
	lap("room, and what is next")
	goes("channels")
	p.PressIn("main", "Harbour desk")
	p.Sees(30*time.Second, "let it take other recorders’ channels instead")
	p.Tap("details.cascading summary")
	p.PressIn(".cascading", "Harbour desk takes other recorders’ channels")
	p.Sees(30*time.Second, "Channels of other recorders")
	h.run(p, "main", "Take over the ticked channels")
	lap("the desk's channels")
	goes("recording")
	p.Set("input[name=least]", "30")
	p.Set("input[name=most]", "45")
	p.PressIn(".keeping", "Keep these")
	p.Sees(30*time.Second, "Kept; every recording is judged by it.")
	h.run(p, "#plan", testbed.Eval[string](p, "document.getElementById('write').innerText"))
	lap("Recording")
	if n := p.Presses() - h.beyond - signedIn; n > presses {
		t.Errorf("%d presses, %d may be", n, presses)
	}
	h.recorded(17) // all but Signal mast, which no recorder is planned for

	// A view that was picked is a row of the Board; what is the device's stands once.
	h.on(p, "board")
	p.Sees(30*time.Second, "Customs shed · Input 2", "Bonded store · Heat")
	rows := func(of string) int64 {
		return testbed.Eval[int64](p, "[...document.querySelectorAll('tr[data-row] th')].filter((e) => e.innerText.includes('"+of+"')).length")
	}
	if n := rows("Customs shed"); n != 2 {
		t.Errorf("the Board has %d rows of the shed's two views", n)
	}
	for _, name := range []string{"find", "sign-in", "clock"} {
		if h.on(p, name); rows("Customs shed") != 1 {
			t.Errorf("%s has %d rows of one device", name, rows("Customs shed"))
		}
	}
	// A view's sheet tells of its own streams; an address that leads elsewhere is told; a recorder's change leads to no
	// camera's history.
	h.sheet(p, "streams", "Customs shed · Input 2")
	p.Sees(30*time.Second, "Input 2 main declares", "Input 2 main sends")
	if testbed.Eval[bool](p, "document.querySelector('.sheet').innerText.includes('Input 1 main')") {
		t.Error("the sheet of one view tells of another's streams")
	}
	h.sheet(p, "streams", "Freight scale")
	p.Sees(30*time.Second, "which isn't where it was reached; its path and port are used at its own address")
	h.on(p, "log")
	if testbed.Eval[bool](p, "!!document.querySelector('a[href$=\"camera=0\"]')") {
		t.Error("the log leads to the history of no camera")
	}
	// The relayed page opens only by the recorder; the device's own link carries no account.
	h.on(p, fmt.Sprintf("find?sheet=%d", h.number("Quay recorder port 3")))
	if href := testbed.Eval[string](p, "document.querySelector('.sheet a[target=_blank]').getAttribute('href')"); !strings.HasSuffix(href, ":8443/ports/3/page/") || strings.Contains(href, "@") {
		t.Errorf("the relay is %q", href)
	}
}

// lap logs how often was pressed since the last one.
func (h *harbour) lap(p *testbed.Page, of string) {
	h.t.Logf("%s: %d presses, of which %d beyond Recording", of, p.Presses(), h.beyond)
}

// goes opens a page by the passage.
func (h *harbour) goes(p *testbed.Page, slug string) {
	h.t.Helper()
	p.Passage(slug)
	testbed.Until(h.t, 20*time.Second, slug+" is there", func() bool {
		return testbed.Glance[bool](p, "document.readyState === 'complete' && location.pathname.endsWith('/"+slug+"')")
	})
}

// chainEnds waits until no run is under way, and none follows.
func (h *harbour) chainEnds() {
	h.t.Helper()
	testbed.Until(h.t, 3*time.Minute, "the chain is at its end", func() bool {
		return count(h, `select count(*) from run where ended_at is null or then_read <> '{}'`) == 0
	})
}

// next lets the Board do what it says is next, until that is a person's. What it does beyond Recording isn't counted.
func (h *harbour) next(p *testbed.Page) {
	h.t.Helper()
	h.goes(p, "board")
	for range 60 {
		h.idle()
		says := ""
		testbed.Until(h.t, 20*time.Second, "the Board says what is next", func() bool {
			says = testbed.Glance[string](p, "(() => { const n = document.querySelector('.next'); if (!n) return ''; const b = n.querySelector('button'); return n.innerText.replaceAll(String.fromCharCode(10), ' ') + '|' + (b ? b.innerText.trim() : '') })()")
			return says != ""
		})
		words, does, _ := strings.Cut(says, "|")
		h.t.Log(words)
		if strings.Contains(words, "is lost, and nothing of it is recorded") { // it was set otherwise, and its recorder asks again
			h.ready("channels")
			p.Go(h.url + "/sites/" + h.site + "/board")
			continue
		}
		if does == "" {
			return
		}
		before := p.Presses()
		h.run(p, ".next", does)
		h.chainEnds()
		if strings.HasPrefix(words, "Next: Routes") || strings.HasPrefix(words, "Next: Analytics") {
			h.beyond += p.Presses() - before
		}
		p.Go(h.url + "/sites/" + h.site + "/board")
	}
	p.Fail("the Board finds no end")
}

// recorded waits until so many views are received by their recorders, with a plan that was chosen.
func (h *harbour) recorded(views int) {
	h.t.Helper()
	testbed.Until(h.t, 60*time.Second, fmt.Sprintf("%d views are received, by plan", views), func() bool {
		h.ready("channels")
		v, n := h.snapshot(h.t, h.Site), 0
		for _, of := range v.Sources {
			if _, slot, _ := v.HolderOf(of); slot != nil && slot.State == "receiving" && of.PlanID != nil {
				n++
			}
		}
		return n >= views
	})
}

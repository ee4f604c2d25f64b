package web_test

import (
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/people"
	"duskyharbor/internal/testbed"
)

// A site of one's own is taken from an empty database to three cameras that are recorded, by few presses.
func TestASiteOfOnesOwnTakesFewPresses(t *testing.T) {
	t.Parallel()
	const presses = 30
	h := serveOn(t, testbed.StartBare(t, 0, "Slipway", "Berth 1 ramp", "Ticket hall", "Terminal recorder"), nil)
	p := testbed.Browser(t, 1280, 800)
	code, hash := people.NewCode()
	if err := h.Store.KeepFirstCode(t.Context(), hash); err != nil {
		t.Fatal(err)
	}
	p.Go(h.url + "/")
	p.Sees(20*time.Second, "Set this server up")
	for field, text := range map[string]string{"#code": code, "#name": "Maren Ostby", "#login": "maren", "#password": "a long password",
		"#site": "Gannet Point", "#net-name-0": "Quay", "#net-prefix-0": h.Net.Prefix(1).String(), "#net-name-1": "Terminal", "#net-prefix-1": h.Net.Prefix(2).String(),
		"#set-name": "House account", "#set-user": "otter", "#set-password": h.Secrets.House} {
		p.Set(field, text)
	}
	p.Set("#zone", "Europe/Lisbon")
	p.Press("Set the site up")
	p.Sees(20*time.Second, "Board", "Gannet Point")
	s, err := h.Store.SiteNamed(t.Context(), "Gannet Point")
	if err != nil {
		t.Fatal(err)
	}
	h.site, h.Site = fmt.Sprint(s.ID), s.ID
	h.lap(p, "set up")
	h.run(p, "body", "Look, and read on")
	h.chainEnds()
	h.lap(p, "looked")

	// What was found is put on the list; the recorder gets its account.
	h.goes(p, "find")
	p.Press("Put the ticked ones on the list")
	p.Sees(20*time.Second, "3 cameras on the list: this site's sets may be sent there.")
	h.goes(p, "settings")
	p.Tap("#sets details.adder summary")
	p.Type("#s-0-name", "Recorder's account")
	p.Type("#s-0-username", "install")
	p.Type("#s-0-password", h.Secrets.Terminal)
	p.Press("Add the set")
	p.Sees(20*time.Second, "Recorder's account was added; its password is sealed.")
	p.Tap(`section summary[aria-label^="Change"][aria-label*="` + h.recorderPlace() + `"]`)
	testbed.Eval[bool](p, `((f) => { f.elements.set.value = [...f.elements.set.options].find((o) => o.text.includes("Recorder's")).value; return true })(document.querySelector("details.reveal[open] form"))`)
	p.Tap("details.reveal[open] select[name=set]")
	p.PressIn("details.reveal[open]", "Keep")
	p.Sees(20*time.Second, "was changed")
	h.lap(p, "listed")

	// They are planned together, and the Board goes on.
	h.goes(p, "board")
	p.Tap("[data-pick-all]")
	p.Press("Plan")
	p.Sees(20*time.Second, "3 views planned for")
	h.next(p)
	h.lap(p, "what is next")
	h.goes(p, "recording")
	h.run(p, "#plan", testbed.Eval[string](p, "document.getElementById('write').innerText"))
	h.lap(p, "recording")
	if n := p.Presses() - h.beyond; n > presses {
		t.Errorf("%d presses, %d may be", n, presses)
	}
	h.recorded(3)
}

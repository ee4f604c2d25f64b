package web_test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// The keyboard alone: sign in, look, filter, select, run a stage, open a sheet, apply a
// change, see it settled, and take it back.
func TestTheKeyboardAlone(t *testing.T) {
	t.Parallel()
	h := serve(t)
	p := testbed.Browser(t, 1280, 800)
	p.Go(h.url + "/sign-in")
	p.Keys(demo.Lead, kb.Tab, h.Secrets.Lead, kb.Enter)
	p.Sees(20*time.Second, "Nothing was looked for yet")
	p.Keys("?")
	p.Sees(5*time.Second, "these keys")
	p.Keys(kb.Escape)
	page := func(key, sees string) {
		t.Helper()
		p.Keys("g", key)
		at := map[string]string{"1": "/find", "2": "/sign-in", "3": "/clock", "b": "/board", "l": "/log"}[key]
		testbed.Until(t, 20*time.Second, "the page is "+at, func() bool { return strings.HasSuffix(testbed.Glance[string](p, "location.pathname"), at) })
		p.Sees(20*time.Second, sees)
	}
	reads := func() {
		t.Helper()
		before := count(h, `select count(*) from run`)
		p.Keys("r")
		testbed.Until(t, 20*time.Second, "a run begins", func() bool { return count(h, `select count(*) from run`) > before })
		h.idle() // of some networks, say, a look takes longer than of others
	}
	page("1", "What is on these networks?")
	reads()
	p.Sees(60*time.Second, "multicast heard 2", "Expected here, and nothing answers.")
	page("2", "Which account opens which device?")
	reads()
	p.Sees(60*time.Second, "WS-UsernameToken, Administrator")
	page("3", "Whose time is wrong, and why?")
	reads()
	p.Sees(60*time.Second, "zone typed wrongly", "Set the clock on 1 camera")

	page("b", "Berth 1 ramp")
	p.Keys("/")
	if got := testbed.Eval[string](p, "document.activeElement.id"); got != "filter" {
		t.Fatalf("/ goes to %q", got)
	}
	p.Keys(kb.Backspace, "ramp", kb.Enter) // the driver types the / that a keyboard wouldn't
	testbed.Until(t, 20*time.Second, "the filter holds", func() bool {
		return testbed.Glance[int](p, "document.querySelectorAll('tr[data-row]').length") == 2
	})
	p.Keys("j", "x", "j", "X")
	if got := testbed.Eval[string](p, "document.querySelector('#selbar b').innerText"); got != "2 selected" {
		t.Errorf("%q after a range was selected", got)
	}
	p.Keys("a", "k", "x") // none, the first one again
	if got := testbed.Eval[string](p, "document.querySelector('#selbar .btn-primary').innerText"); got != "Read 1 camera" {
		t.Errorf("the bar offers %q", got)
	}
	testbed.Until(t, 20*time.Second, "the bar is shown", func() bool {
		return testbed.Glance[bool](p, "document.querySelector('#selbar').offsetParent !== null")
	})
	p.Keys("r")
	p.Sees(60*time.Second, "Read Sign-in of 1 camera", "1 done")
	p.Keys(kb.Enter) // the cursor stayed on its row
	p.Sees(20*time.Second, "Berth 1 ramp · Find")
	if got := testbed.Eval[string](p, "location.search"); !strings.Contains(got, "q=ramp") || !strings.Contains(got, "sheet=") {
		t.Errorf("the address holds %q", got)
	}
	p.Keys("]", "[", kb.Escape)
	testbed.Until(t, 10*time.Second, "the sheet is closed", func() bool {
		return testbed.Glance[bool](p, "!document.querySelector('.sheet')")
	})

	page("3", "Set the clock on 1 camera")
	p.Keys("j", kb.Enter)
	p.Sees(20*time.Second, "Berth 1 ramp · Clock", "Proposed changes")
	p.Keys("c") // shows what will be changed; Enter on what has the focus leaves it
	p.Sees(20*time.Second, "What will be changed", "Nothing is written before you press the button.")
	testbed.Until(t, 10*time.Second, "focus stands on the harmless button", func() bool {
		return testbed.Glance[string](p, "document.activeElement.id") == "preview-leave"
	})
	p.Keys(kb.Escape)
	p.Sees(20*time.Second, "Berth 1 ramp · Clock", "Proposed changes")
	if n := count(h, `select count(*) from change`); n != 0 {
		t.Errorf("%d changes were asked for by looking at them", n)
	}
	p.Keys("c")
	h.takes(p)
	p.Sees(75*time.Second, "verified, after 5 s", "Its time agrees with Terminal recorder's.")
	page("l", "Who changed what")
	p.Sees(20*time.Second, "WET0 · daylight off → WET0WEST,M3.5.0/1,M10.5.0 · daylight on", "verified")
	// Tab reaches the undo of the newest change, and Enter presses it.
	for range 80 {
		if testbed.Eval[bool](p, "(document.activeElement.getAttribute('aria-label') || '') === 'Undo Zone rule of Berth 1 ramp'") {
			break
		}
		p.Keys(kb.Tab)
	}
	p.Keys(kb.Enter)
	h.takes(p)
	p.Sees(60*time.Second, "Undo: Zone rule", "undone")
}

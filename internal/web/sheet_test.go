package web_test

import (
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// What a sheet offers besides changes: an address is copied, selected where the browser gives
// no clipboard, and a clock is watched, by whoever asks first.
func TestASheetCopiesAnAddressAndWatchesAClock(t *testing.T) {
	t.Parallel()
	h := serve(t)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in")

	h.sheet(p, "find", "Slipway")
	at := h.Net.At(".1.11").String()
	clipboard := func(then string) {
		t.Helper()
		testbed.Eval[bool](p, `Object.defineProperty(navigator, "clipboard", {configurable: true, value: {writeText: (text) => `+then+`}}); true`)
		p.PressIn(".sheet", "Copy Answers at")
	}
	clipboard("{ window.copied = text; return Promise.resolve() }")
	testbed.Until(t, 20*time.Second, "the address is copied", func() bool { return testbed.Glance[string](p, "window.copied || ''") == at })
	clipboard("Promise.reject(new Error('no'))")
	testbed.Until(t, 20*time.Second, "the address is selected", func() bool { return testbed.Glance[string](p, "getSelection().toString()") == at })

	h.sheet(p, "clock", "Slipway")
	h.run(p, ".sheet", "Read Clock of Slipway again")
	h.sheet(p, "clock", "Slipway")
	readings := func() int {
		return count(h, `select count(*) from fact_history where device_id = (select device_id from source where id = $1) and name = 'clock.reading'`, h.number("Slipway"))
	}
	before := readings()
	p.PressIn(".sheet", "Watch its clock for a minute")
	p.Sees(30*time.Second, "It is read every few seconds until")
	if testbed.Eval[bool](p, `[...document.querySelectorAll(".sheet button")].some(b => b.innerText.trim().startsWith("Watch its clock"))`) {
		t.Error("what is watched is offered to be watched")
	}
	testbed.Until(t, 60*time.Second, "it is read again without a press", func() bool { return readings() > before })
	if n := count(h, `select count(*) from audit where act = 'had a clock watched'`); n != 1 {
		t.Errorf("the log has %d of it", n)
	}
}

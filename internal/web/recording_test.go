package web_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// What is kept is painted, said, reckoned beside it, kept under a name and written: each channel
// reads back what was shown. A plan by which a camera would never record isn't written to it.
func TestAPlanIsPaintedAndWritten(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Lifeboat house", "Terminal recorder"), nil)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in")
	h.sheet(p, "streams", "Lifeboat house")
	p.PressIn(".sheet", "Ask it for the usual addresses")
	p.Sees(30*time.Second, "Streams of Lifeboat house: /main, /sub.")
	h.on(p, "streams")
	h.click(p, "#read button")
	h.on(p, "channels")
	h.click(p, "#read button")
	h.on(p, "channels")
	h.run(p, "body", "Place 2 cameras")
	h.on(p, "recording")
	p.Sees(30*time.Second, "no plan", "Nobody said for how many days this site keeps.", "What takes most room on Terminal recorder")
	p.Set("input[name=least]", "50")
	p.Set("input[name=most]", "20")
	p.PressIn(".keeping", "Keep these")
	p.Sees(30*time.Second, "The contract's least is more than the privacy rule's most.")
	p.Set("input[name=least]", "30")
	p.Set("input[name=most]", "45")
	p.PressIn(".keeping", "Keep these")
	p.Sees(30*time.Second, "Kept; every recording is judged by it.")
	// A kind of hours more, and out again: nothing of the form's token gets into the address.
	p.PressIn("#plan", "More kinds of hours")
	kinds := func() int64 { return testbed.Glance[int64](p, "document.querySelectorAll('.hoursname').length") }
	testbed.Until(t, 30*time.Second, "there are three kinds of hours", func() bool { return kinds() == 3 })
	if at := testbed.Eval[string](p, "location.href"); strings.Contains(at, "csrf") || !strings.Contains(at, "m2_name=hours") {
		t.Errorf("the address is %s", at)
	}
	testbed.Eval[bool](p, "document.querySelectorAll('.drop')[2].click(); true")
	testbed.Until(t, 30*time.Second, "there are two again", func() bool { return kinds() == 2 })
	// The week is painted by keys and by pointer, and typed; the server says what it makes.
	p.Set("#m0-name", "open")
	p.Set("#m1-name", "closed")
	testbed.Eval[bool](p, "document.querySelector('.typed').open = true; true")
	testbed.Eval[bool](p, `(() => { const w = document.querySelector("svg.week"); w.focus();
		const k = (key, shiftKey) => w.dispatchEvent(new KeyboardEvent("keydown", { key, shiftKey, bubbles: true, cancelable: true }));
		for (let i = 0; i < 6; i++) k("ArrowDown"); for (let i = 0; i < 47; i++) k("ArrowRight", true); k("2"); k("c"); k("ArrowUp"); k("v"); return true; })()`)
	day := func(n string) string {
		return testbed.Eval[string](p, "document.querySelector('input[name=d"+n+"]').value")
	}
	if day("6") != "closed" || day("5") != "closed" || day("0") != "closed 00:00-06:00, open 06:00-20:00, closed 20:00-24:00" {
		t.Fatalf("Sunday %q, Saturday %q, Monday %q", day("6"), day("5"), day("0"))
	}
	p.Drag("svg.week", 0.45, 0.12, 0.55, 0.3)
	testbed.Until(t, 10*time.Second, "hours are painted by pointer", func() bool { return strings.Count(day("0"), "open") == 1 })
	p.Set("input[name=d2]", "nonsense")
	testbed.Eval[bool](p, "document.querySelector('input[name=d2]').dispatchEvent(new Event('change', {bubbles: true})); true")
	p.Sees(30*time.Second, `Wed: "nonsense" isn't hours of a day: type one of open, closed, and from when to when by half hours`)
	p.Set("input[name=d2]", "closed 0-8, open 8-24")
	testbed.Eval[bool](p, "document.querySelector('input[name=d2]').dispatchEvent(new Event('change', {bubbles: true})); true")
	testbed.Until(t, 10*time.Second, "what was typed is drawn", func() bool {
		return testbed.Glance[int64](p, "document.querySelectorAll('rect.half.m1[data-day=\"2\"]').length") == 16
	})
	// In closed hours nothing is kept but what a camera event brings: of a camera that is taken by
	// its stream's address that is nothing at all.
	testbed.Eval[bool](p, `(() => { const f = document.getElementById("plan"); f.elements.m1_idle.value = "nothing"; f.elements.m0_idle.value = "record"; f.elements.name.value = "Quay by night"; f.dispatchEvent(new Event("input", {bubbles: true})); return true; })()`)
	p.PressIn("#plan", "Keep the plan")
	p.Sees(30*time.Second, "Quay by night is kept. Nothing was written to a recorder.", "chosen for no camera yet")
	// Its name is taken now: another plan is told so at its name, with all that was painted still there.
	kept := testbed.Eval[string](p, "location.href")
	h.on(p, "recording?plan=new")
	p.Set("#plan-name", "Quay by night")
	p.Set("#m0-name", "all day")
	p.PressIn("#plan", "Keep the plan")
	testbed.Until(t, 30*time.Second, "its name is told to be taken, beside it", func() bool {
		return strings.HasPrefix(testbed.Glance[string](p, "document.querySelector('#plan-name ~ .wrong')?.innerText || ''"), `Another plan is called "Quay by night"`)
	})
	testbed.Until(t, 10*time.Second, "what was typed stands", func() bool { // once the page is there as a whole
		return testbed.Glance[string](p, "(document.getElementById('m0-name') || {}).value || ''") == "all day"
	})
	p.Go(kept)
	testbed.Until(t, 30*time.Second, "the page's scripts run", func() bool {
		return testbed.Glance[bool](p, "!!(document.querySelector('[x-data]') || {})._x_dataStack")
	})
	for _, place := range []string{"Slipway", "Lifeboat house"} {
		testbed.Eval[bool](p, fmt.Sprintf("document.querySelector('tr[data-row=\"%d\"] input[name=pick]').click(); true", h.number(place)))
	}
	p.PressIn("#plan", "Write the plan to 2 cameras…")
	p.Sees(30*time.Second, "What will be changed", "Lifeboat house: Closed: it would wait for motion or a camera event, and its way in (RTSP) passes none: it never would record.")
	button := testbed.Eval[string](p, "document.getElementById('preview-make').innerText")
	p.PressIn(".preview", button)
	h.idle()
	plan := `select value->'slots'->0->'recording'->'plan'->>'week' from fact where name = 'recorder.status' and device_id = $1`
	testbed.Until(t, 30*time.Second, "the channel keeps by it", func() bool {
		var week string
		_ = h.Store.Pool.QueryRow(t.Context(), plan, h.recorder("Terminal recorder")).Scan(&week)
		return strings.Contains(week, strings.Repeat("1", 48))
	})
	h.sheet(p, "recording", "Lifeboat house")
	p.Sees(30*time.Second, `"Quay by night" isn't written to it. Closed: it would wait for motion or a camera event, and its way in (RTSP) passes none`)
	p.AccessibleIn(".sheet", "what is kept of a camera")
	h.on(p, "recording")
	p.Sees(30*time.Second, "chosen for 2 cameras")
	p.AccessibleIn("main", "the week and what it makes")
	for _, width := range []int64{1280, 1024, 390} {
		p.Resize(width, 800)
		h.on(p, "recording")
		p.Sees(30*time.Second, "What takes most room")
		if w := testbed.Eval[int64](p, "document.documentElement.scrollWidth"); w > width {
			t.Errorf("at %d it scrolls sideways: %d", width, w)
		}
	}
}

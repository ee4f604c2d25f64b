package web_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/testbed"
)

// A recorder that has no way in but its own screen is set up by its bench sheet: what stands there is
// typed into that screen, ticked, and then the camera's picture is seen from outside. A tick without
// typing is told as not seen.
func TestABenchSheetIsFollowed(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Crew mess", "Store recorder"), nil)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "streams")
	store := fmt.Sprintf("channels?recorder=%d", h.recorder("Store recorder"))
	h.on(p, "channels")
	// Both are planned for it.
	for _, place := range []string{"Slipway", "Crew mess"} {
		if _, err := h.Store.Plan(t.Context(), 1, int64(h.recorder("Store recorder")), []int64{h.number(place)}); err != nil {
			t.Fatal(err)
		}
	}
	h.on(p, store)
	p.Sees(30*time.Second, "It has no interface? Set it up by a bench sheet")
	testbed.Eval[bool](p, "document.querySelector('.bench details').open = true; true")
	p.Set(".benchset input[name=port]", fmt.Sprint(recorder.ScreenPort))
	p.Set(".benchset input[name=picture]", "picture")
	p.PressIn(".benchset", "Keep this")
	p.Sees(30*time.Second, "is a path with {n} for the channel")
	testbed.Eval[bool](p, "document.querySelector('.bench details').open = true; true")
	p.Set(".benchset input[name=port]", fmt.Sprint(recorder.ScreenPort))
	p.Set(".benchset input[name=picture]", "/picture/{n}")
	p.PressIn(".benchset", "Keep this")
	p.Sees(30*time.Second, "Bench sheet of Store recorder", "Open channel", "Typed in: Slipway", "Typed in: Crew mess")
	h.idle()
	h.on(p, store)
	p.Sees(30*time.Second, "IP 4", "Typed in: Slipway")
	p.Accessible("a bench sheet")
	steps := func(name string) []string {
		return testbed.Eval[[]string](p, fmt.Sprintf(`Array.from(document.querySelectorAll('[data-bench="%s"] [data-copied]')).map(x => x.textContent.trim())`, name))
	}
	sheet := steps("Slipway") // page, channel, name, address, port, user, profile
	if len(sheet) != 7 || sheet[2] != "Slipway" {
		t.Fatalf("the sheet says %q", sheet)
	}
	// A person types it into the recorder's own screen, in a browser of its own.
	own := testbed.Browser(t, 1000, 700)
	own.Do(chromedp.Navigate(fmt.Sprintf("http://install:%s@%s:%d/setup", h.Secrets.Store, h.Net.At(".2.6"), recorder.ScreenPort)))
	for i, field := range []string{"number", "name", "address", "port", "user"} {
		own.Type("input[name="+field+"]", sheet[i+1])
	}
	own.Type("input[name=password]", h.Secrets.House)
	own.Type("input[name=profile]", sheet[6])
	own.Press("Save")
	own.Sees(30*time.Second, "Channel "+sheet[1]+" is saved: receiving.")
	p.PressIn(`[data-bench="Slipway"]`, "Typed in: Slipway")
	p.Sees(30*time.Second, "Ticked. Whether channel")
	h.idle()
	slot := `select coalesce((select s->>'state' || ': ' || (s->>'detail') from fact, jsonb_array_elements(value->'slots') s where name = 'recorder.status' and device_id = $1 and s->>'name' = '%s'), '')`
	state := func(place string) (says string) {
		if err := h.Store.Pool.QueryRow(t.Context(), fmt.Sprintf(slot, place), h.recorder("Store recorder")).Scan(&says); err != nil {
			t.Fatal(err)
		}
		return says
	}
	testbed.Until(t, 60*time.Second, "the camera is verified from outside", func() bool {
		says := state("Slipway")
		if strings.HasPrefix(says, "receiving") {
			return true
		}
		t.Log(says)
		h.on(p, store)
		h.click(p, "#read button")
		h.idle()
		return false
	})
	// The other is ticked, and nobody typed it in.
	h.on(p, store)
	p.PressIn(`[data-bench="Crew mess"]`, "Typed in: Crew mess")
	p.Sees(30*time.Second, "Ticked. Whether channel")
	h.idle()
	testbed.Until(t, 30*time.Second, "what wasn't typed in isn't seen", func() bool { return strings.HasPrefix(state("Crew mess"), "lost") })
	h.sheet(p, "channels", "Slipway")
	p.Sees(30*time.Second, "alike), seen from outside")
	h.on(p, store)
	p.PressIn(".front", "Not there any more")
	p.Sees(30*time.Second, "isn't ticked any more.")
	h.idle()
	// What an old one holds is typed in as a table: a line that can't be is named, and nothing is lost.
	table := func(text, sees string) {
		testbed.Until(t, 20*time.Second, "the table can be typed", func() bool {
			return testbed.Glance[bool](p, "(() => { const x = document.querySelector('.bench textarea'); if (x) x.closest('details').open = true; return !!x })()")
		})
		p.Set(".bench textarea", text)
		p.PressIn(".bench", "Keep this table")
		p.Sees(30*time.Second, sees)
	}
	h.on(p, store)
	at := h.Net.At(".1.11").String()
	table("4; Old slip; "+h.Net.At(".1.99").String(), "Line 1: no camera of this site is at "+h.Net.At(".1.99").String())
	testbed.Until(t, 20*time.Second, "what was typed is there again", func() bool {
		return strings.Contains(testbed.Glance[string](p, "(document.querySelector('.bench textarea') || {}).value || ''"), "Old slip")
	})
	table("9; Old slip; "+at, "Line 1: Store recorder has channels 1 to 4.")
	table("4; Old slip; "+at, "Kept: 1 channel of Store recorder.")
	h.idle()
	testbed.Until(t, 30*time.Second, "the typed channel is known by its name there", func() bool { return state("Old slip") != "" })
}

package web_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// Pictures are accepted on the wall by a key each: yes is written down with its picture, later goes on, no opens the sheet;
// those that were accepted aren't asked for again, in that light.
func TestPicturesAreAcceptedByAKeyEach(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Gangway", "Berth 1 ramp", "Terminal recorder"), nil)
	h.ready("find", "sign-in", "streams")
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "streams?wall=1&accept=day")
	p.Sees(30*time.Second, "3 pictures that nobody accepted by day")
	p.Accessible("pictures to accept")
	at := func() string {
		return testbed.Glance[string](p, "(document.activeElement.closest('[data-accepts]') || {id: ''}).id")
	}
	id := func(place string) string { return fmt.Sprint("wall-", h.number(place)) }
	accepted := func() (out string) {
		rows, err := h.Store.Pool.Query(t.Context(), `select name from source where pictures -> 'day' is not null order by name`)
		if err != nil {
			t.Fatal(err)
		}
		defer rows.Close()
		for rows.Next() {
			var name string
			if err := rows.Scan(&name); err != nil {
				t.Fatal(err)
			}
			out += name + " "
		}
		return out
	}
	p.Keys("l") // the first one is left for later
	testbed.Until(t, 10*time.Second, "the second has the focus", func() bool { return at() == id("Berth 1 ramp") })
	p.Keys("y")
	testbed.Until(t, 30*time.Second, "it is accepted", func() bool { return strings.HasPrefix(accepted(), "Berth 1 ramp ") })
	testbed.Until(t, 10*time.Second, "the third has the focus", func() bool { return at() == id("Gangway") })
	// One whose camera is gone says so, and stays.
	h.Fleet.Camera("Gangway").Close()
	p.Keys("y")
	testbed.Until(t, 60*time.Second, "it says why not", func() bool {
		return len(testbed.Glance[string](p, "(document.querySelector('#"+id("Gangway")+" .verdict [role=status]') || {}).innerText || ''")) > 10
	})
	if got := accepted(); got != "Berth 1 ramp " {
		t.Errorf("accepted: %s", got)
	}
	h.on(p, "streams?wall=1&accept=day")
	p.Sees(30*time.Second, "2 pictures that nobody accepted by day")
	p.Keys("n")
	p.Sees(30*time.Second, "Slipway · Streams", "Accept it by day")
	h.on(p, "streams?wall=1&accept=night")
	p.Sees(30*time.Second, "3 pictures that nobody accepted by night")
	for _, width := range []int64{1024, 390} {
		p.Resize(width, 800)
		if w := testbed.Eval[int64](p, "document.documentElement.scrollWidth"); w > width {
			t.Errorf("at %d it scrolls sideways: %d", width, w)
		}
	}
}

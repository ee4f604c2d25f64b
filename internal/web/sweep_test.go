package web_test

import (
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// Rows are selected by drawing over their boxes, from the first to where the pointer is let go; drawing from one that is
// selected lets go of them; a press on one box is that one alone.
func TestRowsAreSelectedByDrawingOverThem(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway"), nil)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "board")
	p.Sees(30*time.Second, "Slipway", "Gangway")
	testbed.Until(t, 30*time.Second, "the page's scripts run", func() bool {
		return testbed.Glance[bool](p, "!!(document.querySelector('[x-data]') || {})._x_dataStack")
	})
	picked := func() string {
		return testbed.Eval[string](p, "Array.from(document.querySelectorAll('tbody input[name=pick]')).slice(0, 7).map((b) => b.checked ? 'x' : '.').join('')")
	}
	for _, x := range []struct {
		what     string
		row      string // that it begins in
		downward float64
		want     string
	}{
		{"three downwards", "2", 2.5, ".xxx..."},
		{"two upwards", "7", -0.5, ".xxx.xx"},
		{"from a selected one upwards", "3", -0.5, "...x.xx"},
	} {
		p.Drag("tbody tr:nth-child("+x.row+") td.tick", 0.5, 0.5, 0.5, x.downward)
		if got := picked(); got != x.want {
			t.Fatalf("%s: %s, want %s", x.what, got, x.want)
		}
	}
	h.clickOn(p, "tbody tr:nth-child(1) input[name=pick]") // what was drawn over takes no later press back
	if got := picked(); got != "x..x.xx" {
		t.Errorf("one press: %s", got)
	}
	p.Sees(10*time.Second, "4 selected")
}

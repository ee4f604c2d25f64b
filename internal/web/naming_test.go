package web_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// Cameras are named by a pattern after what each would be called was shown, by a list in the site's order, and not at all
// where two would be called alike or another is called so.
func TestManyAreNamedByAPattern(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway"), nil)
	a := whole(t, h)
	slip, gang := a.camera("Slipway"), a.camera("Gangway")
	both := []any{slip, gang}
	ask := func(x args, status int) string {
		return fmt.Sprint(a.do("POST", a.site+"/acts/cameras/name", jsonNumber(x), status))
	}
	for _, x := range []struct {
		of     args
		status int
		says   string
	}{
		{args{"cameras": both, "pattern": "Quay"}, http.StatusUnprocessableEntity, "would be called"},
		{args{"cameras": both, "pattern": "{channel}"}, http.StatusUnprocessableEntity, "means nothing here"},
		{args{"cameras": both, "names": []string{"One"}}, http.StatusUnprocessableEntity, "1 name for 2 cameras"},
		{args{"cameras": both, "names": []string{"One\ntwo", "three"}}, http.StatusUnprocessableEntity, "in one line"},
		{args{"cameras": both, "names": []string{"One", "two"}, "pattern": "x {n}"}, http.StatusUnprocessableEntity, "not both"},
		{args{"cameras": both, "names": []string{"One", "Net loft"}}, http.StatusConflict, `Another camera is called "Net loft" already`},
		{args{"cameras": both, "pattern": "{place}"}, http.StatusConflict, "called so already"},
		{args{"cameras": both, "pattern": "Quay {nn}"}, http.StatusConflict, "Slipway → Quay 01; Gangway → Quay 02"},
	} {
		if got := ask(x.of, x.status); !strings.Contains(got, x.says) {
			t.Errorf("%v: %s, want %q", x.of, got, x.says)
		}
	}
	a.camera("Slipway")                                                                    // nobody was named
	a.sure("cameras/name", args{"cameras": both, "names": []string{"Gangway", "Slipway"}}) // they change places
	if a.camera("Slipway") != gang || a.camera("Gangway") != slip {
		t.Error("they didn't change places")
	}
	// By hand: ticked, a pattern typed, looked at, and named.
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "board?q=way")
	for _, id := range both {
		testbed.Eval[bool](p, fmt.Sprintf("document.querySelector('tr[data-row=\"%s\"] input[name=pick]').click(); true", id))
	}
	testbed.Eval[bool](p, "document.querySelector('.namer').open = true; true")
	p.Accessible("names of many")
	p.Set("#act-pattern", "Pier {n}")
	p.PressIn(".namer", "Show the names")
	p.Sees(30*time.Second, "Name 2 cameras?", "Gangway → Pier 1; Slipway → Pier 2")
	p.Press("Name 2 cameras")
	p.Sees(30*time.Second, "2 cameras named.")
	a.camera("Pier 2")
}

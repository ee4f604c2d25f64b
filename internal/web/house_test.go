package web_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// An account is typed for one camera, which no set of the site opens: it opens, and nothing else is tried. Then the
// site's own account is made on it, its recorder is given that, and the old one goes once it was seen to work: no try
// was wrong on the way, and what was done is taken back.
func TestTheSitesOwnAccountTakesOver(t *testing.T) {
	t.Parallel()
	b := testbed.StartOnly(t, "Slipway", "Terminal recorder")
	cam := b.Fleet.Camera("Slipway")
	cam.Close()
	cfg := cam.Config()
	cfg.StateFile, cfg.Username, cfg.Password = "", "pilot", "Pilot-2026-pier"
	cam, err := camera.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cam.Close)
	h := serveOn(t, b, nil)
	a := whole(t, h)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find")
	h.sheet(p, "sign-in", "Slipway")
	p.Press("Type the account that it has…")
	p.Type("#typed-user", "pilot")
	p.PressIn(".sheet", "Sign in with it")
	p.Sees(20*time.Second, "A password has 1 to 128 characters.")
	p.Type("#typed-password", "Pilot-2026-pier") // the name stands as it was typed
	h.run(p, ".sheet", "Sign in with it")
	h.sheet(p, "sign-in", "Slipway")
	p.Sees(30*time.Second, "Slipway · typed", "Its own")

	// A channel holds it; then the site's own account takes over.
	slipway := a.camera("Slipway")
	h.ready("streams", "channels", "channels!")
	a.received(t, "Terminal recorder", "Slipway")
	house := a.id("sets", "sets", "username", "otter")
	for _, bad := range []json.Number{"0", "99999"} {
		if says := a.refused("sign-in/house", args{"cameras": []any{slipway}, "set_id": bad}, http.StatusUnprocessableEntity); !strings.Contains(says, "Choose a credential set") {
			t.Errorf("%s", says)
		}
	}
	h.sheet(p, "sign-in", "Slipway")
	testbed.Eval[bool](p, "document.querySelector('.sheet [name=take]').click(), true")
	h.run(p, ".sheet", "Show what would change")
	a.received(t, "Terminal recorder", "Slipway")
	facts := jsonNumber(a.do("GET", a.site+"/cameras/"+string(slipway)+"/facts", "", http.StatusOK))
	if !strings.Contains(facts, `["otter, Administrator"]`) {
		t.Errorf("its accounts are %s", facts)
	}
	if says := a.refused("sign-in/house", args{"cameras": []any{slipway}, "set_id": house}, http.StatusConflict); !strings.Contains(says, "opens all of them already") {
		t.Errorf("%s", says)
	}

	// Taken back, the old one is there again.
	id := int64(0)
	if err := h.Store.Pool.QueryRow(t.Context(), `select id from change where kind = 'account.take'`).Scan(&id); err != nil {
		t.Fatal(err)
	}
	shown := a.do("POST", a.site+"/changes/"+jsonNumber(id)+"/undo", "", http.StatusCreated)
	a.wait(a.do("POST", a.site+"/previews/"+jsonNumber(shown["id"])+"/make", "", http.StatusAccepted))
	h.ready("sign-in")
	if facts := jsonNumber(a.do("GET", a.site+"/cameras/"+string(slipway)+"/facts", "", http.StatusOK)); !strings.Contains(facts, `pilot, Administrator`) {
		t.Errorf("its accounts are %s", facts)
	}
	if n := cam.Wrongs(); n != 0 {
		t.Errorf("%d wrong tries on the way", n)
	}
}

package web_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// table is which channels of a recorder hold what, as it says on its wire: number and name.
func (a *acts) table(recorder string) string {
	a.t.Helper()
	a.wait(a.do("POST", a.site+"/runs", `{"stage": "channels"}`, http.StatusAccepted))
	var out []string
	for _, r := range a.all("recorders", "recorders") {
		if r["place"] != recorder {
			continue
		}
		all, _ := r["channels"].([]any)
		for _, c := range all {
			if c := c.(map[string]any); c["name"] != "Old quay camera" { // which is dead
				out = append(out, fmt.Sprintf("%v %v %v", c["number"], c["name"], c["state"]))
			}
		}
	}
	return strings.Join(out, ", ")
}

// Cameras are moved to another recorder as one change: taken out where they were once they are received there. One that
// isn't received there stays where it was, and is taken out there again.
func TestCamerasMoveToAnotherRecorder(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Slipway", "Net loft", "Terminal recorder", "Quay recorder"), app.Options{Away: 5 * time.Second})
	a := whole(t, h)
	h.ready("find", "sign-in", "streams", "channels")
	terminal, quay := a.recorder("Terminal recorder"), a.recorder("Quay recorder")
	slipway, loft := a.camera("Slipway"), a.camera("Net loft")
	a.keeps("cameras/plan", args{"cameras": []any{slipway, loft}, "recorder_id": terminal})
	h.ready("channels!")
	a.received(t, "Terminal recorder", "Slipway", "Net loft")

	// As a program asks, and as the change reads: both on one, then on the other.
	a.makes("cameras/move", args{"cameras": []any{slipway, loft}, "recorder_id": quay})
	a.received(t, "Quay recorder", "Slipway", "Net loft")
	a.received(t, "Terminal recorder")
	if n := count(h, `select count(*) from source where recorder_id = (select id from device where place = 'Quay recorder')`); n < 2 {
		t.Errorf("%d are planned for it", n)
	}
	for _, x := range []struct {
		with   args
		says   string
		status int
	}{
		{args{"cameras": []any{slipway}, "recorder_id": quay}, "nothing to change", http.StatusConflict},
		{args{"cameras": []any{slipway}, "recorder_id": 0}, "Choose the recorder", http.StatusUnprocessableEntity},
		{args{"cameras": []any{slipway, loft}, "recorder_id": terminal, "channel": 3}, "A channel is chosen for one", http.StatusUnprocessableEntity},
		{args{"cameras": []any{slipway}, "recorder_id": terminal, "channel": 99}, "Terminal recorder has channels 1", http.StatusUnprocessableEntity},
	} {
		if says := a.refused("cameras/move", x.with, x.status); !strings.Contains(says, x.says) {
			t.Errorf("%v: %s", x.with, says)
		}
	}

	// The camera has no session left for a second recorder: it stays.
	h.Fleet.Camera("Slipway").Limit(1)
	shown := a.do("POST", a.site+"/acts/cameras/move", jsonNumber(args{"cameras": []any{slipway}, "recorder_id": terminal, "channel": 5}), http.StatusCreated)
	run := a.ends(a.do("POST", a.site+"/previews/"+jsonNumber(shown["id"])+"/make", "", http.StatusAccepted))
	if run["failed"].(float64) != 1 {
		t.Errorf("%v", run)
	}
	says := ""
	for _, s := range a.all("runs/"+jsonNumber(run["id"]), "steps") {
		says += fmt.Sprint(s["says"])
	}
	if !strings.Contains(says, "Terminal recorder doesn't receive it") || !strings.Contains(says, "taken back") {
		t.Errorf("%s", says)
	}
	a.received(t, "Quay recorder", "Slipway", "Net loft")
	a.received(t, "Terminal recorder")

	// By hand: another channel of the same recorder, and out of it.
	h.Fleet.Camera("Slipway").Limit(0)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.sheet(p, "channels", "Slipway")
	p.Set("#move-recorder", string(quay))
	p.Set("#move-channel", "99")
	p.PressIn(".sheet", "Move it")
	p.Sees(20*time.Second, "Quay recorder has channels 1 to")
	p.Set("#move-recorder", string(terminal))
	p.Set("#move-channel", "7")
	h.run(p, ".sheet", "Move it")
	a.received(t, "Terminal recorder", "Slipway")
	if says := a.table("Terminal recorder"); !strings.HasPrefix(says, "7 Slipway") {
		t.Errorf("%s", says)
	}
	a.makes("cameras/leave", args{"cameras": []any{slipway, loft}})
	a.received(t, "Terminal recorder")
	a.received(t, "Quay recorder")
	if says := a.refused("cameras/leave", args{"cameras": []any{slipway}}, http.StatusConflict); !strings.Contains(says, "No recorder holds any of them.") {
		t.Errorf("%s", says)
	}
	if says := a.refused("cameras/move", args{"cameras": []any{slipway}, "recorder_id": quay}, http.StatusConflict); !strings.Contains(says, "no recorder holds it") {
		t.Errorf("%s", says)
	}
}

// received waits until a recorder receives just these.
func (a *acts) received(t *testing.T, recorder string, places ...string) {
	t.Helper()
	testbed.Until(t, 60*time.Second, recorder+" receives just these", func() bool {
		last := a.table(recorder)
		ok := strings.Count(last, ",") == max(0, len(places)-1) && (last == "") == (len(places) == 0)
		for _, p := range places {
			ok = ok && strings.Contains(last, p+" receiving")
		}
		return ok
	})
}

// refused is why an act isn't done.
func (a *acts) refused(name string, with args, status int) string {
	a.t.Helper()
	return fmt.Sprint(a.do("POST", a.site+"/acts/"+name, jsonNumber(with), status)["error"])
}

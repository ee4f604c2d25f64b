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

// One press looks, signs in, and reads clocks and streams, one after the other; each run says what it leaves to a
// person. A stopped one goes on with nothing.
func TestOneRunGoesOnWithTheNext(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Gangway", "Berth 1 ramp", "Terminal recorder"), nil)
	a := whole(t, h)
	for _, bad := range []string{`{"stage": "clock", "then": ["find"]}`, `{"stage": "find", "then": ["nonsense"]}`, `{"stage": "find", "then": ["handover"]}`, `{"stage": "sign-in", "then": ["clock", "clock"]}`} {
		a.do("POST", a.site+"/runs", bad, http.StatusBadRequest)
	}
	a.do("POST", a.site+"/previews", `{"stage": "clock", "then": ["streams"]}`, http.StatusBadRequest)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "find")
	p.Sees(30*time.Second, "Look, and read on to Streams")
	h.on(p, "board")
	p.Press("Look, and read on")
	p.Sees(60*time.Second, "Look at 3 networks")
	var runs []map[string]any
	testbed.Until(t, 90*time.Second, "the streams are read", func() bool {
		runs = a.all("runs", "runs")
		return len(runs) == 4 && runs[0]["ended_at"] != nil
	})
	var stages []string
	for _, r := range runs {
		stages = append(stages, fmt.Sprint(r["stage"]))
		if r["stage"] != "find" && r["chain"] != runs[3]["id"] {
			t.Errorf("%v didn't go on from the first", r)
		}
	}
	if got := strings.Join(stages, " "); got != "streams clock sign-in find" {
		t.Fatalf("%s", got)
	}
	if n := runs[0]["done"].(float64); n != 3 {
		t.Errorf("streams of %v views were read", n)
	}
	h.on(p, "run?id="+string(jsonNumber(runs[3]["id"])))
	p.Sees(30*time.Second, "Look at 3 networks", "12 cameras blocked in Find", "Read Sign-in of", "1 camera needs you in Sign-in", "Read Clock of", "camera blocked in Clock", "Read Streams of")
	p.Accessible("a chain")
	// What the Board says next is done from there: what is to be written is shown.
	h.on(p, "board")
	next := testbed.Eval[string](p, "document.getElementById('next').innerText")
	if !strings.HasPrefix(next, "Show ") {
		t.Fatalf("next is %q", next)
	}
	p.Press(next)
	p.Sees(30*time.Second, "What will be changed", "Nothing is written before you press the button.")
	if at := testbed.Eval[string](p, "location.pathname"); !strings.HasSuffix(at, "/board") {
		t.Errorf("it is shown on %s", at)
	}
	// Stopped, it goes on with nothing.
	for _, place := range []string{"Slipway", "Gangway", "Berth 1 ramp"} {
		h.Fleet.Camera(place).Stall("GetDeviceInformation")
	}
	run := a.do("POST", a.site+"/runs", `{"stage": "sign-in", "then": ["clock", "streams"]}`, http.StatusAccepted)
	if fmt.Sprint(run["then"]) != "[clock streams]" {
		t.Errorf("%v", run)
	}
	a.do("POST", a.site+"/runs/"+string(jsonNumber(run["id"]))+"/stop", "", http.StatusAccepted)
	testbed.Until(t, 90*time.Second, "it ends, and goes on no more", func() bool {
		r := a.do("GET", a.site+"/runs/"+string(jsonNumber(run["id"])), "", http.StatusOK)
		return r["ended_at"] != nil && r["then"] == nil
	})
	if n := len(a.all("runs", "runs")); n != 5 {
		t.Errorf("%d runs", n)
	}
}

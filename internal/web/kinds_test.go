package web_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// Every kind of rule is drawn, written, read back by the camera's own account of it, and fires on what moves there as often as
// it is foretold: those that the standard has a type for by that, the others by the make's own.
func TestEveryKindIsWrittenAndFiresAsForetold(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Berth 2 ramp", "Quay recorder"), app.Options{Gather: true})
	cam := h.Fleet.Camera("Berth 2 ramp")
	habits := cam.Config().Manners.Engine
	habits.Grid = scene.Grid{Columns: 22, Rows: 18}
	cam.Think(habits)
	h.ready("find", "sign-in", "sign-in!", "sign-in", "streams", "analytics")
	a := whole(t, h)
	berth := a.the("cameras", "cameras", "place", "Berth 2 ramp")["id"]
	const ramp = "30 55, 95 55, 95 99, 30 99"
	kinds := map[rule.Kind]args{
		rule.Crosses: {"points": "50 80, 95 70"}, rule.ComesInto: {"points": "55 50, 80 50, 80 80, 55 80"}, rule.GoesOut: {"points": "50 85, 75 85, 75 99, 50 99"}, rule.Inside: {"points": ramp}, rule.FirstSeen: {"points": ramp},
		rule.LastSeen: {"points": ramp}, rule.Stays: {"points": ramp, "for_seconds": 3}, rule.Left: {"points": ramp, "for_seconds": 3}, rule.Taken: {"points": ramp, "for_seconds": 3},
		rule.Crowd: {"points": "30 40, 99 40, 99 99, 30 99", "count": 2, "for_seconds": 1, "classes": []string{"Human"}}, rule.Faster: {"points": ramp, "speed": 0.06},
		rule.Moves: {"cells": cellsOn(22, 18)},
	}
	ids := map[rule.Kind]any{}
	for _, k := range rule.Kinds {
		x := args{"camera_id": berth, "name": "the " + string(k), "kind": string(k)}
		for name, value := range kinds[k] {
			x[name] = value
		}
		ids[k] = a.keeps("analytics/draw", x)["id"]
	}
	a.makes("analytics/write", args{"cameras": []any{berth}})
	if all := cam.Rules(); len(all) != len(rule.Kinds) {
		t.Fatalf("the camera has %d rules: %+v", len(all), all)
	}
	for _, k := range rule.Kinds {
		if on, there := ruleOn(cam, "the "+string(k)); !there || on.Kind != k {
			t.Errorf("%s: the camera has %+v %t", k, on, there)
		}
	}
	for _, r := range a.all(fmt.Sprintf("cameras/%v/rules", berth), "rules") {
		if r["state"] != string(rule.AsDrawn) {
			t.Errorf("%v reads back %v", r["name"], r["state"])
		}
	}
	a.keeps("analytics/watch", args{"cameras": []any{berth}})
	testbed.Until(t, 30*time.Second, "a server listens", func() bool { return count(h, `select count(*) from gathering where documents > 0`) == 1 })
	if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(res, err)
	}
	testbed.Until(t, 60*time.Second, "all were seen, and are gone", func() bool {
		return count(h, `select count(distinct object) from seen where (select max(ended_at) from seen) < now() - interval '6 seconds'`) == 6
	})
	for _, k := range rule.Kinds {
		name := "the " + string(k)
		fired := cam.Fired(name)
		if fired == 0 {
			t.Errorf("%s never fired", k)
		}
		if !k.Foretold() {
			continue
		}
		x := args{"minutes": 10, "name": name, "kind": string(k)}
		for field, value := range kinds[k] {
			x[field] = value
		}
		got := a.do("POST", fmt.Sprintf("%s/cameras/%v/rehearsal", a.site, berth), jsonNumber(x), http.StatusOK)
		if got["fires"] != float64(fired) {
			t.Errorf("%s: %v foretold, %d fired", k, got["fires"], fired)
		}
		if told, _ := got["fired"].([]any); k != rule.Inside && len(told) != fired {
			t.Errorf("%s: %d heard of, %d fired", k, len(told), fired)
		}
	}
	// What was left there is shown by the picture that the camera sent of it.
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, fmt.Sprintf("analytics?camera=%v&rule=%v", berth, ids[rule.Left]))
	p.Sees(30*time.Second, "1 would have fired")
	testbed.Eval[bool](p, "(document.querySelector('.hit').dispatchEvent(new MouseEvent('click', {bubbles: true})), true)")
	testbed.Until(t, 20*time.Second, "its picture is seen", func() bool {
		return testbed.Glance[bool](p, "(() => { const c = document.querySelector('.picked .crop'); return !c.hidden && c.naturalWidth > 5 && c.alt === 'What the camera sent of it: Other' })()")
	})
	p.Accessible("a picture of what fired")
}

// cellsOn are cells of a grid in which all but the upper third are painted.
func cellsOn(columns, rows int) (out string) {
	for y := range rows {
		if y > 0 {
			out += "/"
		}
		for range columns {
			if y < rows/3 {
				out += "."
			} else {
				out += "#"
			}
		}
	}
	return out
}

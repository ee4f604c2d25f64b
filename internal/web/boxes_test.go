package web_test

import (
	"fmt"
	"math"
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// What a camera's analytics see lies over its moving picture while that is asked for, where it stands in the picture also when
// they look at it turned; a second one is told that somebody looks already.
func TestWhatAnalyticsSeeLiesOverTheMovingPicture(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Slipway", "Crew mess", "Terminal recorder"), app.Options{Live: "127.0.0.1:0"})
	cam := h.Fleet.Camera("Slipway")
	cam.Think(camera.EngineHabits{Over: true, Dress: true})
	h.ready("find", "sign-in", "streams", "analytics")
	a := whole(t, h)
	slip := a.camera("Slipway")
	a.keeps("analytics/turn", args{"camera_id": slip, "quarter_turns": 2})
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, fmt.Sprintf("streams?camera=%d", h.number("Crew mess")))
	p.Sees(20*time.Second, "Full screen")
	if testbed.Eval[bool](p, "!!document.querySelector('[data-boxes]')") {
		t.Error("a camera whose streams carry none is asked for boxes")
	}
	h.on(p, fmt.Sprintf("streams?camera=%v", slip))
	p.Sees(20*time.Second, "Boxes")
	p.Press("Boxes")
	walk := func() {
		t.Helper()
		if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
			t.Fatal(res, err)
		}
	}
	walk()
	testbed.Until(t, 60*time.Second, "who walks is boxed", func() bool {
		return testbed.Glance[string](p, "document.querySelector('.seenboxes span b')?.textContent || ''") == "Human 90 %, purple"
	})
	// She comes down the slip, in the lower two thirds of the picture.
	if top := testbed.Eval[string](p, "document.querySelector('.seenboxes span')?.style.top || '50%'"); top < "40" || top > "79" {
		t.Errorf("the box is %s from the top", top)
	}
	q := testbed.Browser(t, 1280, 800)
	h.signIn(q, demo.Lead, h.Secrets.Lead)
	h.on(q, fmt.Sprintf("streams?camera=%v", slip))
	q.Sees(20*time.Second, "Boxes")
	q.Press("Boxes")
	q.Sees(20*time.Second, "Somebody looks at what its analytics see already.")
	p.Press("Boxes")
	testbed.Until(t, 20*time.Second, "nothing lies over it", func() bool {
		return testbed.Glance[bool](p, "document.querySelector('.seenboxes').hidden && !document.querySelector('.seenboxes span')")
	})
	q.Press("Boxes")
	walk()
	testbed.Until(t, 60*time.Second, "the other sees them now", func() bool { return testbed.Glance[bool](q, "!!document.querySelector('.seenboxes span')") })
}

// Boxes that lie beside what moves in the picture are told by the stills, with how far; it is looked for anew when that is asked
// for.
func TestBoxesThatSitBesideAreTold(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Slipway", "Terminal recorder"), app.Options{Gather: true})
	cam := h.Fleet.Camera("Slipway")
	cam.Think(camera.EngineHabits{Shifted: scene.Point{X: 0.16, Y: -0.2}, Late: 800 * time.Millisecond})
	h.ready("find", "sign-in", "streams", "analytics")
	a := whole(t, h)
	slip := a.camera("Slipway")
	a.keeps("analytics/watch", args{"cameras": []any{slip}})
	sits := func() (words string) {
		for _, f := range a.all("findings?stage=analytics", "findings") {
			if f["code"] == "analytics.shifted" {
				words = f["sentence"].(string)
			}
		}
		return words
	}
	walks := func(ok func() bool) {
		t.Helper()
		testbed.Until(t, 30*time.Second, "a server listens", func() bool { return count(h, `select count(*) from gathering where documents > 0`) == 1 })
		if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
			t.Fatal(res, err)
		}
		testbed.Until(t, 60*time.Second, "it is seen how boxes sit", ok)
	}
	walks(func() bool { return count(h, `select count(*) from fact where name = 'analytics.sits'`) == 1 })
	testbed.Until(t, 20*time.Second, "it is told", func() bool { return sits() != "" })
	if says := sits(); !strings.Contains(says, "they lie ") || !strings.Contains(says, "to the right") || !strings.Contains(says, "below of it") {
		t.Error(says)
	}
	// It hangs upside down, and its analytics look at the picture before that is turned.
	cam.Think(camera.EngineHabits{Over: true})
	a.keeps("analytics/look-again", args{"cameras": []any{slip}})
	if says := sits(); says != "" {
		t.Errorf("it is told yet: %s", says)
	}
	walks(func() bool {
		return count(h, `select count(*) from fact where name = 'analytics.sits' and value->>'turned' = '2'`) == 1
	})
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, fmt.Sprintf("analytics?camera=%v", slip))
	p.Sees(20*time.Second, "Its analytics look at this picture turned by 180°")
	p.Press("Count them turned by 180°")
	p.Sees(20*time.Second, "are taken to look at its picture turned by 180°")
	a.keeps("analytics/draw", args{"camera_id": slip, "name": "Upper line", "kind": "Crosses", "points": "10 20, 90 30", "direction": "Left"})
	a.makes("analytics/write", args{"cameras": []any{slip}, "name": "Upper line"})
	on, _ := ruleOn(cam, "Upper line")
	if on.Direction != rule.RightToLeft || len(on.Line) != 2 || math.Abs(on.Line[0].X-0.8) > 1e-3 || math.Abs(on.Line[0].Y+0.6) > 1e-3 || math.Abs(on.Line[1].X+0.8) > 1e-3 {
		t.Errorf("the camera has it as %+v", on)
	}
	for _, r := range a.all(fmt.Sprintf("cameras/%v/rules", slip), "rules") {
		if r["name"] == "Upper line" && r["state"] != string(rule.AsDrawn) {
			t.Errorf("it reads back %v", r["state"])
		}
	}
}

package web_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"duskyharbor/internal/app"
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

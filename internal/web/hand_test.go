package web_test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/testbed"
)

// A camera is turned on its picture: by keys while they are held, by a press, by a box. It stops when a key is let up,
// when the link breaks, and when another takes it over, who is told whose it was; it is put back when it is let go.
func TestACameraIsTurnedByHand(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Ticket hall", "Terminal recorder"), app.Options{})
	p, q := testbed.Browser(t, 1280, 800), testbed.Browser(t, 390, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "sign-in!", "streams")
	cam := h.Fleet.Camera("Ticket hall")
	aim := func() picture.Aim {
		pan, tilt, zoom := cam.Looks()
		return picture.Aim{Pan: pan, Tilt: tilt, Zoom: zoom}
	}
	stands := func(says string) picture.Aim {
		t.Helper()
		last := aim()
		testbed.Until(t, 20*time.Second, says, func() bool {
			now := aim()
			same := now == last
			last = now
			return same
		})
		return last
	}
	open := func(p *testbed.Page) {
		t.Helper()
		h.on(p, "streams")
		testbed.Until(t, 20*time.Second, "it can be turned", func() bool {
			return testbed.Glance[bool](p, "(document.querySelector('figure.still [data-hand]') || {}).hears === true")
		})
	}
	holds := func(p *testbed.Page) {
		t.Helper()
		p.Press("Turn it by hand")
		p.Sees(20*time.Second, "it is sent back to pan")
	}

	// A key moves it as long as it is held.
	open(p)
	holds(p)
	p.AccessibleIn("figure.still", "a camera that is held")
	p.Hold("ArrowRight")
	testbed.Until(t, 20*time.Second, "it turns right", func() bool { return aim().Pan > 0.8 })
	p.LetUp("ArrowRight")
	if at := stands("it stops"); at.Tilt != 0 || at.Zoom != 0 {
		t.Errorf("right was held, and it looks at %v", at)
	}

	// A press looks there, a box is gone nearer to.
	p.Drag("figure.still .frame", 0.2, 0.5, 0.2, 0.5)
	testbed.Until(t, 20*time.Second, "it looks to the left", func() bool { return math.Abs(aim().Pan-0.4) < 0.25 })
	stands("it stands")
	p.Drag("figure.still .frame", 0.3, 0.3, 0.7, 0.7)
	p.Sees(10*time.Second, "Going nearer")
	testbed.Until(t, 40*time.Second, "a box of 0.4 fills the picture: 2.5 times nearer", func() bool {
		return math.Abs(1+3*aim().Zoom-2.5) < 0.4
	})
	p.Sees(20*time.Second, "zoom 0.")

	// The link breaks while a key is held: the camera stops by itself, and is put back once nobody is there.
	p.Hold("ArrowRight")
	testbed.Until(t, 20*time.Second, "it is at its end", func() bool { return aim().Pan == 1 })
	p.LetUp("ArrowRight")
	p.Sees(20*time.Second, "pan 1.00")
	p.Hold("ArrowLeft")
	testbed.Until(t, 20*time.Second, "it turns left", func() bool { return aim().Pan < 0.95 })
	p.Link(true)
	if at := stands("it stops without the link"); at.Pan < -0.9 {
		t.Errorf("it turned to its end without a hand: %v", at)
	}
	testbed.Until(t, 60*time.Second, "it is put back", func() bool { return aim().Near(picture.Aim{}) })
	p.Link(false)
	p.LetUp("ArrowLeft")
	p.Sees(20*time.Second, "You don't hold it any more")
	h.idle()

	// Two people: the second is told whose it is, and takes it over; then the first is told.
	holds(p)
	h.signIn(q, "anselm", h.Secrets.Tech)
	q.Sees(30*time.Second, "Gannet Point Ferry Terminal")
	open(q)
	q.Press("Turn it by hand")
	q.Sees(20*time.Second, "Maren Ostby turns Ticket hall by hand now.", "Take it over")
	p.Hold("ArrowRight")
	testbed.Until(t, 20*time.Second, "it turns right", func() bool { return aim().Pan > 0.1 })
	q.Press("Take it over")
	q.Sees(20*time.Second, "it is sent back to pan")
	p.Sees(20*time.Second, "You don't hold it any more")
	p.LetUp("ArrowRight")
	was := stands("who doesn't hold it moves nothing")

	// On a phone: a button is held as a key is. What is left so stays, and is known.
	q.Drag("figure.still [data-push=ArrowUp]", 0.5, 0.5, 0.5, 0.5)
	testbed.Until(t, 20*time.Second, "it tilts", func() bool { return aim().Tilt > was.Tilt })
	q.Press("Leave it so")
	q.Sees(20*time.Second, "Let go: it stays as it looks now.")
	left := stands("it stays")
	v := h.snapshot(t, h.Site)
	for _, of := range v.Sources {
		if s, _ := facts.ForPicture(v, of); s != nil && of.Place == "Ticket hall" && !s.PTZ.At.Near(left) {
			t.Errorf("it looks at %v, and %v is known", left, s.PTZ.At)
		}
	}
	for did, n := range map[string]int{"took a camera by hand": 2, "took a camera by hand from Maren Ostby": 1, "left a camera where they turned it by hand": 1,
		"put a camera back that nobody held by hand any more": 1} {
		if got := count(h, fmt.Sprintf("select count(*) from audit where act = '%s'", did)); got != n {
			t.Errorf("%s: %d in the log", did, got)
		}
	}

	// Taken again and let go by Escape it is put back where it was left, as a change that is read back.
	open(q)
	holds(q)
	q.Hold("ArrowDown")
	testbed.Until(t, 20*time.Second, "it tilts down", func() bool { return aim().Tilt < left.Tilt-0.05 })
	q.LetUp("ArrowDown")
	stands("it stops")
	q.Hold("Escape")
	q.Sees(20*time.Second, "it is sent back to where it looked")
	testbed.Until(t, 30*time.Second, "it is put back", func() bool { return aim().Near(left) })
	h.idle()
	if n := count(h, `select count(*) from change where kind = 'view.aim' and state = 'verified'`); n != 2 {
		t.Errorf("%d times put back as a change that was read back", n)
	}
	if n := count(h, `select count(*) from hand`); n != 0 {
		t.Errorf("%d hands hold it still", n)
	}
}

// The picture is looked at closer by the still of its record stream, and fills the screen.
func TestAPictureIsLookedAtCloser(t *testing.T) {
	t.Parallel()
	h := serveWith(t, testbed.StartOnly(t, "Slipway", "Terminal recorder"), app.Options{})
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "streams")
	h.on(p, "streams")
	testbed.Until(t, 20*time.Second, "it can be looked at", func() bool {
		return testbed.Glance[bool](p, "(document.querySelector('figure.still .picturebar') || {}).closes === true")
	})
	for range 2 {
		testbed.Eval[bool](p, "document.querySelector('[data-closer=\"1\"]').click(), true")
	}
	p.Sees(10*time.Second, "2 ×")
	wide := func() int {
		return testbed.Glance[int](p, "(document.querySelector('figure.still img.whole') || {}).naturalWidth || 0")
	}
	small := testbed.Glance[int](p, "document.querySelector('figure.still .frame > img').naturalWidth")
	testbed.Until(t, 20*time.Second, "the still of the record stream is shown", func() bool { return wide() > small })
	p.Drag("figure.still .frame", 0.5, 0.5, 0.9, 0.5)
	if x := testbed.Glance[string](p, "document.querySelector('figure.still .frame').style.getPropertyValue('--zoom-x')"); !strings.HasPrefix(x, "10") {
		t.Errorf("dragged to the right it is looked at around %s", x)
	}
	p.Press("Full screen")
	testbed.Until(t, 10*time.Second, "it fills the screen", func() bool {
		return testbed.Glance[bool](p, "document.fullscreenElement === document.querySelector('figure.still')")
	})
	p.Press("Leave full screen")
	for range 2 {
		testbed.Eval[bool](p, "document.querySelector('[data-closer=\"-1\"]').click(), true")
	}
	testbed.Until(t, 10*time.Second, "it is as it comes", func() bool { return wide() == 0 })
	if n := h.Fleet.Camera("Slipway").Wrongs(); n != 0 {
		t.Errorf("%d wrong passwords", n)
	}
}

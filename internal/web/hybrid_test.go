package web_test

import (
	"fmt"
	"testing"
	"time"

	"duskyharbor/internal/demo"
	"duskyharbor/internal/testbed"
)

// A hybrid recorder gets room for those who have no channel: analog inputs without a picture are
// switched off, one restart serves all, and what waits is told apart from what is. An input with a
// picture is never among them; a person who switches it off is told what it shows.
func TestAHybridRecorderMakesRoomByOneRestart(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Berth 2 ramp", "Net loft", "Fuel jetty", "Freight scale", "Quay recorder"), nil)
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.ready("find", "sign-in", "sign-in!", "streams")
	h.on(p, "channels")
	h.click(p, "#read button")
	quay := fmt.Sprintf("channels?recorder=%d", h.recorder("Quay recorder"))
	h.on(p, quay)
	// Its list doesn't know one of them, and it takes no other makes: the newer list does.
	p.Sees(30*time.Second, "Pinnock & Daw PND X9 isn't in its list of models (2025-03), and it takes no other makes", "a newer one, 2026-10, can be had")
	h.run(p, "body", "Renew its models")
	h.on(p, quay)
	p.Sees(30*time.Second, "1 / 4", "Models by its list of 2026-10", "picture: Ice house door", "those before it take the last channels", "1 source has no channel.")
	// One is switched by hand first: it waits, and the restart that follows serves it too.
	h.run(p, ".analog", "Switch off A8")
	h.on(p, quay)
	p.Sees(30*time.Second, "goes off", "waits for the restart", "1 change waits for a restart.", "One restart for one change; 1 channel records nothing meanwhile, for about 4 s.")
	h.run(p, "body", "Restart Quay recorder")
	h.on(p, quay)
	p.Sees(30*time.Second, "1 / 5")
	h.run(p, "body", "Place 4 cameras")
	testbed.Until(t, 30*time.Second, "all four are on channels", func() bool {
		return count(h, `select jsonb_array_length(value->'slots') from fact where name = 'recorder.status' and device_id = $1`, h.recorder("Quay recorder")) == 5
	})
	h.on(p, quay)
	p.Sees(30*time.Second, "5 / 5")
	// The picture that would be lost is named before anything is written, and back leaves it.
	p.PressIn(".analog", "Switch off A1")
	p.Sees(30*time.Second, "There is a picture on it (Ice house door): it isn't recorded any more.")
	p.PressIn(".preview", "Leave it")
	h.on(p, quay)
	p.Sees(30*time.Second, "5 / 5", "picture: Ice house door")
	if n := count(h, `select count(*) from change where kind = 'channel.input'`); n != 1 {
		t.Errorf("%d inputs were switched, and one was asked for", n)
	}
	p.Accessible("the channel face of a hybrid recorder")
	if w := testbed.Eval[int64](p, "document.documentElement.scrollWidth"); w > 1280 {
		t.Errorf("it scrolls sideways: %d", w)
	}
	p.Resize(390, 844)
	h.on(p, quay)
	p.Sees(30*time.Second, "A1", "IP 5")
	if w := testbed.Eval[int64](p, "document.documentElement.scrollWidth"); w > 390 {
		t.Errorf("on a phone it scrolls sideways: %d", w)
	}
}

// recorder is the number of a recorder by its place.
func (h *harbour) recorder(place string) int {
	h.t.Helper()
	return count(h, `select id from device where kind = 'recorder' and place = $1`, place)
}

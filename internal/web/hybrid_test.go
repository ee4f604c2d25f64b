package web_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/testbed"
)

// A hybrid recorder gets room for those who have no channel: analog inputs without a picture are
// switched off, one restart serves all, and what waits is told apart from what is. An input with a
// picture is never among them; a person who switches it off is told what it shows.
func TestAHybridRecorderMakesRoomByOneRestart(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Berth 2 ramp", "Net loft", "Fuel jetty", "Freight scale", "Quay recorder"), nil)
	a := whole(t, h)
	h.ready("find", "sign-in", "sign-in!", "streams", "channels")
	quay := a.recorder("Quay recorder")
	face := "channels?recorder=" + string(quay)
	// Its list doesn't know one of them, and it takes no other makes: the newer list does.
	h.says(face, "Pinnock & Daw PND X9 isn't in its list of models (2025-03), and it takes no other makes", "a newer one, 2026-10, can be had")
	a.makes("channels/models", args{"recorder_id": quay})
	h.says(face, "1 / 4", "Models by its list of 2026-10", "picture: Ice house door", "those before it take the last channels", "1 source has no channel.")
	// One is switched by hand first: it waits, and the restart that follows serves it too.
	a.makes("channels/input", args{"recorder_id": quay, "input": 8, "on": false})
	h.says(face, "goes off", "waits for the restart", "1 change waits for a restart.", "One restart for one change; 1 channel records nothing meanwhile, for about 4 s.")
	a.makes("channels/room", args{"recorder_id": quay, "more": 0})
	h.says(face, "1 / 5")
	h.ready("channels!")
	testbed.Until(t, 30*time.Second, "all four are on channels", func() bool {
		return count(h, `select jsonb_array_length(value->'slots') from fact where name = 'recorder.status' and device_id = $1`, quay) == 5
	})
	h.says(face, "5 / 5")
	// The picture that would be lost is named before anything is written, and nothing is where nobody goes on.
	shown := a.do("POST", a.site+"/acts/channels/input", jsonNumber(args{"recorder_id": quay, "input": 1, "on": false}), http.StatusCreated)
	if says := jsonNumber(shown); !strings.Contains(says, "There is a picture on it (Ice house door): it isn't recorded any more.") {
		t.Errorf("it shows %s", says)
	}
	h.says(face, "5 / 5", "picture: Ice house door")
	if n := count(h, `select count(*) from change where kind = 'channel.input'`); n != 1 {
		t.Errorf("%d inputs were switched, and one was asked for", n)
	}
}

// recorder is the number of a recorder by its place.
func (h *harbour) recorder(place string) int {
	h.t.Helper()
	return count(h, `select id from device where kind = 'recorder' and place = $1`, place)
}

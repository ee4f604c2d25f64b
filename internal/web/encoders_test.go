package web_test

import (
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// words are a list of an answer, as one text.
func words(answer map[string]any, name string) string {
	var out []string
	list, _ := answer[name].([]any)
	for _, x := range list {
		out = append(out, fmt.Sprint(x))
	}
	return strings.Join(out, "\n")
}

// record is the record stream of a place, and what it delivered at last.
func (h *harbour) record(place string) (stream.Profile, stream.Measured, *channel.Slot) {
	h.t.Helper()
	of, err := h.Store.SourceByID(h.t.Context(), h.number(place))
	if err != nil {
		h.t.Fatal(err)
	}
	s, err := site.Load(h.t.Context(), h.Store, h.Site, []int64{of.Device.ID})
	if err != nil {
		h.t.Fatal(err)
	}
	_, slot, _ := s.HolderOf(of)
	f, w := facts.ForStreams(s, of)
	record, _ := stream.Roles(f.Profiles, w.Codecs)
	p, m, _ := f.Find(record)
	if m == nil {
		m = &stream.Measured{}
	}
	return p, *m, slot
}

func (h *harbour) measured(place string) stream.Measured {
	h.t.Helper()
	_, m, _ := h.record(place)
	return m
}

// Forty cameras' encoders are set alike in one act, five are left out for reasons that are named; each is read back and
// measured. One of the forty starts again when it is set.
func TestEncodersOfFortyAreSetAlike(t *testing.T) {
	t.Parallel()
	left := []string{"Lifeboat house", "Net loft", "Ice plant", "Customs shed", "Crew mess"}
	h := serveOn(t, testbed.StartBulkOnly(t, 40, left...), nil)
	h.Fleet.Camera(demo.BulkPlace(7)).Behave(camera.Quirks{RestartsOnSet: true})
	h.Fleet.Camera(demo.BulkPlace(8)).Behave(camera.Quirks{Depends: true})
	h.ready("find", "sign-in", "streams")
	a := whole(t, h)
	// A size that the devices don't all offer, and words that mean nothing, are refused at their fields.
	for field, bad := range map[string]args{"size": {"size": "wide"}, "fps": {"fps": 241}, "kbps": {"kbps": -1}, "quality": {"quality": 101}, "key": {"key_frame_every": 0.1}, "of": {"of": "both", "fps": 5}, "codec": {"q": "shed"}} {
		if got := a.do("POST", a.site+"/acts/streams/encoders", jsonNumber(bad), http.StatusUnprocessableEntity); got["field"] != field {
			t.Errorf("%v is refused at %v", bad, got)
		}
	}
	shown := a.do("POST", a.site+"/acts/streams/encoders", jsonNumber(args{"of": "record", "fps": 5, "kbps": 1500}), http.StatusCreated)
	cant := words(shown, "cant")
	for _, why := range []string{"Lifeboat house: no account opens its settings.", "Net loft: its frame rates in H.264 are 15.", "Ice plant: its frame rates in H.265 are 15.",
		"Customs shed: its frame rates in H.264 are 15.", "Crew mess: its frame rates in H.264 are 15."} {
		if !strings.Contains(cant, why) {
			t.Errorf("%q isn't said:\n%s", why, cant)
		}
	}
	if changes := shown["changes"].([]any); len(changes) != 40 {
		t.Fatalf("%d changes, and can't:\n%s", len(changes), cant)
	}
	a.wait(a.do("POST", a.site+"/previews/"+jsonNumber(shown["id"])+"/make", "", http.StatusAccepted))
	for i := range 40 {
		if m := h.measured(demo.BulkPlace(i)); m.FPS < 4.5 || m.FPS > 5.5 || m.Trouble != "" {
			t.Errorf("%s sends %+v", demo.BulkPlace(i), m)
		}
	}
	again := a.do("POST", a.site+"/acts/streams/encoders", jsonNumber(args{"q": "shed", "of": "record", "fps": 5, "kbps": 1500}), http.StatusConflict)
	if !strings.Contains(fmt.Sprint(again), "Nothing is changed. Customs shed: its frame rates") { // which the words match too
		t.Errorf("asked again: %v", again)
	}
}

// A named setting is kept, compared with what the cameras have, and what drifts is a finding with a change that mends it;
// what a camera takes and doesn't keep is told with what it took.
func TestANamedSettingIsHeldAgainstTheCameras(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Berth 1 ramp", "Net loft", "Terminal recorder"), nil)
	h.ready("find", "sign-in", "clock", "clock!", "streams", "channels", "channels!", "channels", "recording")
	a := whole(t, h)
	slip, berth, loft := a.camera("Slipway"), a.camera("Berth 1 ramp"), a.camera("Net loft")
	night := args{"name": "Quay by night", "of": "record", "fps": 5, "key_frame_every": 1}
	id := a.keeps("streams/setting", night)["id"]
	if got := a.do("POST", a.site+"/acts/streams/setting", jsonNumber(night), http.StatusUnprocessableEntity); got["field"] != "name" {
		t.Errorf("its name is taken: %v", got)
	}
	night["id"] = id
	a.keeps("streams/setting", night)
	shown := a.do("POST", a.site+"/acts/streams/setting/write", jsonNumber(args{"cameras": []any{slip, berth, loft}, "id": id}), http.StatusCreated)
	if n := len(shown["changes"].([]any)); n != 2 || !strings.Contains(words(shown, "cant"), "Net loft: its frame rates in H.264 are 15.") {
		t.Fatalf("%d changes, can't %s", n, words(shown, "cant"))
	}
	if says := words(shown, "makes"); !strings.Contains(says, "Terminal recorder: ") || !strings.Contains(says, "days") {
		t.Errorf("what it makes of the recorder is %q", says)
	}
	a.wait(a.do("POST", a.site+"/previews/"+jsonNumber(shown["id"])+"/make", "", http.StatusAccepted))
	if m := h.measured("Slipway"); math.Abs(m.FPS-5) > 0.5 || m.Trouble != "" {
		t.Errorf("it sends %+v", m)
	}
	drifts := func() (out []string) {
		for _, f := range a.all("findings?stage=streams", "findings") {
			if code := fmt.Sprint(f["code"]); strings.HasPrefix(code, "stream.drift") || strings.HasPrefix(code, "stream.took") || strings.HasPrefix(code, "stream.setting") {
				out = append(out, fmt.Sprint(f["place"], ": ", code, ": ", f["sentence"]))
			}
		}
		slices.Sort(out)
		return out
	}
	if got := drifts(); len(got) > 0 {
		t.Errorf("right after it was set: %q", got)
	}
	// Somebody sets one otherwise, on its own page.
	h.Fleet.Camera("Slipway").Reset("main")
	h.ready("streams")
	if got := drifts(); len(got) != 1 || !strings.HasPrefix(got[0], `Slipway: stream.drift: Main isn't set as "Quay by night" says: it is H.264 1280 × 720, 15/s`) {
		t.Errorf("drift: %q", got)
	}
	h.ready("streams!")
	if got := drifts(); len(got) > 0 {
		t.Errorf("mended: %q", got)
	}
	// What a camera takes and doesn't keep is put back and told.
	h.Fleet.Camera("Slipway").Behave(camera.Quirks{Lies: true})
	lied := a.do("POST", a.site+"/acts/streams/encoders", jsonNumber(args{"cameras": []any{slip}, "of": "record", "kbps": 300}), http.StatusCreated)
	if run := a.ends(a.do("POST", a.site+"/previews/"+jsonNumber(lied["id"])+"/make", "", http.StatusAccepted)); run["failed"] != 1.0 {
		t.Errorf("%v", run)
	}
	if got := drifts(); len(got) != 1 || !strings.Contains(got[0], "Slipway: stream.took-otherwise: Main's encoder said yes to") || !strings.Contains(got[0], "≤ 300 kbit/s") || !strings.Contains(got[0], "≤ 1024 kbit/s") {
		t.Errorf("what it took: %q", got)
	}
	h.Fleet.Camera("Slipway").Behave(camera.Quirks{})
	a.makes("streams/encoders", args{"cameras": []any{slip}, "of": "record", "kbps": 300})
	if got := drifts(); len(got) > 0 {
		t.Errorf("it keeps it now: %q", got)
	}
	// No setting is chosen any more: nothing is compared.
	a.keeps("streams/setting/remove", args{"id": id})
	h.Fleet.Camera("Slipway").Reset("main")
	h.ready("streams")
	if got := drifts(); len(got) > 0 {
		t.Errorf("after it was taken off: %q", got)
	}
}

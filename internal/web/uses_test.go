package web_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/testbed"
)

// What a stream is for is a person's to say: the recorder is told to take the one that was chosen, and the best again
// when the rule picks. Multicast is turned on for two cameras that left the box with one group: each stream is given its
// own; who knows none is named; it is turned off again.
func TestStreamsAreChosenAndSentToGroups(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Berth 1 ramp", "Crew mess", "Terminal recorder"), nil)
	h.ready("find", "sign-in", "clock", "clock!", "streams", "channels", "channels!", "channels")
	a := whole(t, h)
	slip, berth, mess := a.camera("Slipway"), a.camera("Berth 1 ramp"), a.camera("Crew mess")
	held := func() string {
		_, _, slot := h.record("Slipway")
		return slot.Profile
	}
	if held() != "main" {
		t.Fatalf("the recorder takes %q", held())
	}
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.sheet(p, "streams", "Slipway")
	p.PressIn(".sheet", "What its streams are for")
	p.Set("#use-view", "main")
	p.Set("#use-record", "main")
	p.PressIn(".sheet", "Keep these uses")
	p.Sees(20*time.Second, "Slipway: the stream that is looked at is another one than the stream that is recorded.")
	p.Set("#use-view", stream.ByRule)
	p.Set("#use-record", "sub")
	p.PressIn(".sheet", "Keep these uses")
	p.Sees(20*time.Second, "Recorded: Sub; looked at: by rule, of 1 camera.")
	h.ready("channels", "channels!", "channels")
	if held() != "sub" {
		t.Errorf("the recorder takes %q", held())
	}
	if says := a.refused("streams/use", args{"cameras": []any{slip}, "record": "Third"}, http.StatusUnprocessableEntity); !strings.Contains(says, `Slipway: it has no stream called "Third"`) {
		t.Errorf("%s", says)
	}
	a.keeps("streams/use", args{"cameras": []any{slip, berth}, "record": stream.ByRule})
	h.ready("channels", "channels!", "channels")
	if held() != "main" {
		t.Errorf("the recorder takes %q again", held())
	}

	groups := func() (on []string) {
		v := h.snapshot(t, h.Site)
		for _, of := range v.Sources {
			f, _ := facts.ForStreams(v, of)
			for _, x := range f.Profiles {
				if x.Cast != nil && x.Cast.On {
					on = append(on, x.Cast.Group)
				}
			}
		}
		return on
	}
	all := []any{slip, berth, mess}
	for field, bad := range map[string]args{"first_group": {"first_group": "10.0.0.1"}, "port": {"port": 5005}, "ttl": {"ttl": 300}} {
		bad["multicast"], bad["cameras"] = "on", all
		if got := a.do("POST", a.site+"/acts/streams/encoders", jsonNumber(bad), http.StatusUnprocessableEntity); got["field"] == nil {
			t.Errorf("%s is refused without its field: %v", field, got)
		}
	}
	shown := a.do("POST", a.site+"/acts/streams/encoders", jsonNumber(args{"cameras": all, "multicast": "on"}), http.StatusCreated)
	if n := len(shown["changes"].([]any)); n != 4 || words(shown, "cant") != "Crew mess: it doesn't tell whether it sends to a group." {
		t.Errorf("%d changes, can't: %s", n, words(shown, "cant"))
	}
	a.wait(a.do("POST", a.site+"/previews/"+jsonNumber(shown["id"])+"/make", "", http.StatusAccepted))
	on := groups()
	if len(on) != 4 || len(distinct(on)) != 4 || on[0] != "239.64.1.1" {
		t.Errorf("they send to %v", on)
	}
	if m := h.measured("Slipway"); m.Trouble != "" || m.Frames == 0 {
		t.Errorf("it is measured as well: %+v", m)
	}
	// On already, nothing is changed; from another address on, all are given others.
	a.refused("streams/encoders", args{"cameras": all, "multicast": "on"}, http.StatusConflict)
	a.makes("streams/encoders", args{"cameras": []any{slip, berth}, "multicast": "on", "first_group": "239.70.0.1", "port": 7000})
	if got := strings.Join(groups(), " "); got != "239.70.0.1 239.70.0.2 239.70.0.3 239.70.0.4" {
		t.Errorf("they send to %s", got)
	}
	a.makes("streams/encoders", args{"cameras": []any{slip, berth}, "multicast": "off"})
	if got := groups(); len(got) != 0 {
		t.Errorf("they send to %v", got)
	}
}

func distinct(all []string) map[string]bool {
	out := map[string]bool{}
	for _, s := range all {
		out[s] = true
	}
	return out
}

package channel

import (
	"slices"
	"strings"
	"testing"
)

func TestWhyASourceWaits(t *testing.T) {
	r := &Recorder{Name: "Quay recorder", Limits: Limits{Channels: 1}}
	full := &Recorder{Name: "Quay recorder", Limits: Limits{Channels: 1}, Slots: []Slot{{Number: 1}}}
	for _, tc := range []struct {
		f     Facts
		w     Wishes
		found bool
		want  string
	}{
		{Facts{}, Wishes{}, false, "not found yet"},
		{Facts{}, Wishes{}, true, "no recorder planned"},
		{Facts{Planned: "Quay recorder"}, Wishes{}, true, "streams not read yet"},
		{Facts{Planned: "Quay recorder", Recorder: r}, Wishes{Unfit: true}, true, "none of its streams is one that Quay recorder takes"},
		{Facts{Planned: "Quay recorder"}, Wishes{Stream: "main"}, true, "recorder not read yet"},
		{Facts{Planned: "Quay recorder", Recorder: r}, Wishes{Stream: "main"}, true, ""},
		{Facts{Planned: "Quay recorder", Recorder: full}, Wishes{Stream: "main"}, true, "all 1 IP channels are taken"},
	} {
		if got := Waits(tc.f, tc.w, tc.found); got != tc.want {
			t.Errorf("%+v: %q, want %q", tc.f, got, tc.want)
		}
	}
}

func TestGauges(t *testing.T) {
	if got := Gauges(Recorder{}); len(got) != 0 {
		t.Errorf("limits that weren't told: %+v", got)
	}
	r := Recorder{Limits: Limits{Channels: 10, MbitIn: 10}, Slots: []Slot{{Kbps: 9000}, {Kbps: 500}}}
	got := Gauges(r)
	if len(got) != 2 || got[0].Used != 2 || got[0].Tight || !got[0].Exact || got[1].Used != 9.5 || !got[1].Tight {
		t.Errorf("%+v", got)
	}
}

// A channel that is bound to a recorder's own port is kept for what hangs there: nobody else is put on
// it, whatever they wish, and who hangs there is told that the recorder takes it.
func TestAPortsChannelIsKeptForIt(t *testing.T) {
	r := Recorder{Name: "Quay recorder", Limits: Limits{Channels: 4, Licences: 4}, Ports: []Port{{Number: 1, Channel: 1}, {Number: 3, Linked: true, Address: "192.0.2.90", Channel: 3}}}
	for wish, want := range map[int]int{0: 1, 1: 1, 2: 2, 3: 1, 9: 1} {
		if got := r.Free(wish); got != want {
			t.Errorf("who wishes %d gets %d, want %d", wish, got, want)
		}
	}
	if got := r.Numbers([]int{3, 0, 0, 0}, 4); !slices.Equal(got, []int{1, 2, 4, 0}) {
		t.Errorf("together they get %v", got)
	}
	f := Facts{Planned: r.Name, Recorder: &r, Address: "192.0.2.90"}
	if got := Waits(f, Wishes{}, true); got != "Quay recorder takes it itself: it hangs on port 3, and channel 3 is kept for it" {
		t.Errorf("who hangs there is told %q", got)
	}
	r.Ports[1].Channel = 0
	if got := Waits(f, Wishes{}, true); !strings.Contains(got, "bind a channel to that port") {
		t.Errorf("whose port has no channel is told %q", got)
	}
	if r.Free(3) != 3 {
		t.Error("a port that no channel is bound to keeps one")
	}
	f.Address = "192.0.2.91"
	if got := Waits(f, Wishes{}, true); got != "streams not read yet" {
		t.Errorf("who doesn't hang there is told %q", got)
	}
}

package channel

import (
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/testbed/moment"
)

// A camera that was just placed and is silent is waited for, for as long as is said and no longer; one
// that refuses isn't.
func TestASilentCameraIsWaitedForAWhile(t *testing.T) {
	placed := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	for _, tc := range []struct {
		after time.Duration
		state string
		at    time.Time
		code  string
	}{
		{10 * time.Second, Lost, placed, "channel.waiting"},
		{SilentFor - time.Second, Lost, placed, "channel.waiting"},
		{SilentFor, Lost, placed, "channel.lost"},
		{10 * time.Second, Refused, placed, "channel.refused"},
		{10 * time.Second, Receiving, placed, ""},
		{10 * time.Second, Lost, time.Time{}, "channel.lost"},
	} {
		f := Facts{Recorder: &Recorder{Name: "Quay recorder", At: placed.Add(tc.after)}, Slot: &Slot{Number: 3, Name: "Slipway", State: tc.state, Detail: "no route"}, PlacedAt: tc.at}
		all := Judge(placed, f, Wishes{Name: "Slipway"})
		got := ""
		if len(all) > 0 {
			got = all[0].Code
		}
		if got != tc.code || (got == "channel.waiting") != !f.WaitsUntil().IsZero() {
			t.Errorf("%v, %s: %q, until %v", tc.after, tc.state, got, f.WaitsUntil())
		}
	}
}

// Placing a camera that feeds another recorder says so before, with its sessions, and one that has lost
// it is told after; what takes another recorder's channel is no session of the camera.
func TestACameraThatFeedsAnotherRecorder(t *testing.T) {
	const at = "192.0.2.11"
	old, desk := Recorder{Name: "Old recorder"}, Recorder{Name: "Harbour desk"}
	others := []Named{{1, old, Slot{Number: 7, Name: "Slipway", Address: at, State: Receiving}}, {2, desk, Slot{Number: 1, Name: "Slipway", Address: "192.0.2.5", State: Receiving}}}
	rec := Recorder{Name: "Pier recorder", Limits: Limits{Channels: 4}}
	f := Facts{Address: at, Recorder: &rec, Others: others}
	all := Propose(moment.Now(), f, Wishes{Name: "Slipway", Stream: "main", RecorderID: 3})
	if len(all) != 1 || !strings.Contains(all[0].Why, "It feeds Old recorder already, and goes on doing so: 1 session before, 2 after") {
		t.Fatalf("%+v", all)
	}
	f.Slot = &Slot{Number: 1, Name: "Slipway", Address: at, State: Receiving}
	if all := Judge(moment.Now(), f, Wishes{Name: "Slipway"}); len(all) != 0 {
		t.Errorf("both receive: %+v", all)
	}
	others[0].Slot.State, others[0].Slot.Detail = Lost, "453 Not Enough Bandwidth"
	found := Judge(moment.Now(), f, Wishes{Name: "Slipway"})
	if len(found) != 1 || found[0].Code != "channel.other" || !strings.Contains(found[0].Sentence, "Old recorder holds it too, on channel 7, and receives nothing: 453") {
		t.Errorf("%+v", found)
	}
}

// Each source that found room has a channel of its own, the wished one where it is free.
func TestAProposalNamesChannels(t *testing.T) {
	fits := map[int64]Fit{1: {}}
	r := Recorder{Name: "Quay recorder", Limits: Limits{Channels: 6}, Slots: []Slot{{Number: 2}}}
	a := Assign([]Placing{{ID: 11, Fits: fits}, {ID: 12, Fits: fits, Channel: 1}, {ID: 13, Fits: fits, Channel: 2}, {ID: 14, Fits: fits, Channel: 9}}, []Bin{{1, r}})
	if a.Number[12] != 1 || a.Number[11] != 3 || a.Number[13] != 4 || a.Number[14] != 5 {
		t.Errorf("%v", a.Number)
	}
}

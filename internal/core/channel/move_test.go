package channel

import (
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/recording"
)

func TestArrived(t *testing.T) {
	const limit = 90 * time.Second
	for _, tc := range []struct {
		name  string
		slot  *Slot
		waits time.Duration
		wait  bool
		why   string
	}{
		{"it receives", &Slot{State: Receiving}, 0, false, ""},
		{"it receives after long", &Slot{State: Receiving}, time.Hour, false, ""},
		{"it receives, paused", &Slot{State: Receiving, Paused: true}, 0, false, "Pier doesn't receive it (receiving)"},
		{"without a licence", &Slot{State: Receiving, Recording: recording.Slot{Unlicensed: true}}, 0, false, "no licence"},
		{"connecting", &Slot{State: Connecting}, 0, true, "Pier doesn't receive it yet (connecting)"},
		{"lost, just now", &Slot{State: Lost}, 0, true, "yet"},
		{"lost, just before the bound", &Slot{State: Lost}, limit - time.Second, true, "yet"},
		{"lost, on the bound", &Slot{State: Lost}, limit, false, "Pier doesn't receive it (lost)"},
		{"refused for longer", &Slot{State: Refused}, time.Hour, false, "(refused)"},
		{"gone again", nil, 0, false, "Pier doesn't hold it any more"},
	} {
		wait, why := Arrived("Pier", tc.slot, tc.waits, limit)
		if wait != tc.wait || !strings.Contains(why, tc.why) || (why == "") != (tc.why == "") {
			t.Errorf("%s: %v, %q", tc.name, wait, why)
		}
	}
	now := time.Date(2026, 3, 29, 1, 0, 0, 0, time.UTC)
	if got := SinceOf(Since(now.Add(-time.Minute)), now); !got.Equal(now.Add(-time.Minute)) {
		t.Errorf("%v", got)
	}
	for _, text := range []string{"", "away", Since(now.Add(time.Minute)), "waits since x"} {
		if got := SinceOf(text, now); !got.Equal(now) {
			t.Errorf("%q: %v", text, got)
		}
	}
}

func TestMovesAndRenumbers(t *testing.T) {
	r := four()
	held := r.Slots[0]
	place := []finding.Change{{Kind: Rename}, {Kind: Place, Args: map[string]string{"recorder": "7", "channel": "3"}}}
	all := r.Moves(5, held, place, Spot{Recorder: 7}, "Quay recorder")
	last := all[len(all)-1]
	if len(all) != 3 || last.Kind != Leave || last.Args["after"] != "7" || last.Args["after_channel"] != "3" || last.Args["recorder"] != "5" || last.Args["channel"] != "2" || !last.Removes || len(place) != 2 {
		t.Errorf("%+v", all)
	}
	if all := r.Moves(5, held, nil, Spot{7, 4}, "Quay recorder"); len(all) != 1 || all[0].Args["after_channel"] != "4" {
		t.Errorf("held on both: %+v", all)
	}
	all = r.Renumbers(5, held, place)
	if len(all) != 3 || all[0].Kind != Leave || all[0].Args["after"] != "" {
		t.Errorf("%+v", all)
	}
	if w := r.Without(2); len(w.Slots) != 0 || len(r.Slots) != 1 || w.Free(2) != 2 {
		t.Errorf("%+v", w)
	}
	if (*Recorder)(nil).Without(1) != nil {
		t.Error("of none none is left")
	}
	by := four()
	by.ByHand = true
	for name, x := range map[string]struct {
		r    Recorder
		held *Slot
		why  string
	}{"held": {four(), &held, ""}, "no recorder": {four(), nil, "no recorder holds it"}, "by hand": {by, &held, "its own screen"},
		"none is taken out": {Recorder{Name: "Pier", Cannot: []Act{ActPlace}}, &held, "takes no camera out"}} {
		if why := x.r.Stay(x.held); !strings.Contains(why, x.why) || (why == "") != (x.why == "") {
			t.Errorf("%s: %q", name, why)
		}
	}
}

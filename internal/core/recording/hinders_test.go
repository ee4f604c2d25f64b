package recording

import (
	"strings"
	"testing"
)

func TestHinders(t *testing.T) {
	w := Wishes{Name: "x", Plan: byNight()}
	for _, x := range []struct {
		name string
		f    Facts
		why  string // part of it; empty: nothing
		idle bool
	}{
		{"not placed", Facts{Recorder: "Quay recorder"}, "no channel holds it yet", false},
		{"doesn't tell", Facts{Recorder: "Quay recorder", Slot: &Slot{}}, "Quay recorder doesn't tell what it keeps", false},
		{"by itself", Facts{Recorder: "Harbour desk", Slot: &Slot{}, Own: "over ONVIF recording control"}, "takes no plan from here", false},
		{"as it is", facts(byNight(), Motion, Camera), "", true},
		{"as it is, and deaf", facts(byNight()), "", true},
		{"another", facts(Always(Mode{Name: "always", Idle: Record, Event: Record}), Motion, Camera), "", false},
		{"never", facts(Always(Mode{Name: "always", Idle: Record, Event: Record})), "passes none: it never would record", false},
	} {
		why, idle := x.f.Hinders(w)
		if idle != x.idle || !strings.Contains(strings.Join(why, "; "), x.why) || x.why == "" && len(why) > 0 {
			t.Errorf("%s: %q, idle %t", x.name, why, idle)
		}
	}
}

package clock

import (
	"strings"
	"testing"
	"time"
)

func TestAReadingIsStaleOnceTheCameraIsHeldElsewhere(t *testing.T) {
	quay := Reference{ID: 5, Name: "Quay recorder", Why: Planned}
	for name, x := range map[string]struct {
		was  *Against
		is   Reference
		says string
	}{
		"the same":            {&Against{5, "Quay recorder", Planned}, quay, ""},
		"renamed":             {&Against{5, "Old name", Planned}, quay, ""},
		"read by an older us": {nil, quay, ""},
		"placed": {&Against{5, "Quay recorder", Planned},
			Reference{ID: 5, Name: "Quay recorder", Why: Holds}, "Quay recorder holds it now"},
		"another holds it": {&Against{5, "Quay recorder", Holds},
			Reference{ID: 6, Name: "Terminal recorder",
				Why: Holds}, "held against Quay recorder (holds it); Terminal recorder holds it now"},
		"a plan was made": {&Against{0, "this server", Nobody}, quay, "Quay recorder is planned for it now"},
		"taken off": {&Against{5, "Quay recorder", Holds}, Reference{Name: "this server", Why: Nobody},
			"this server is what it is held against now"},
	} {
		got := Stale(Facts{Camera: &Reading{Against: x.was}, Reference: x.is})
		if (x.says == "") != (got == "") || !strings.Contains(got, x.says) {
			t.Errorf("%s: %q, want %q", name, got, x.says)
		}
	}
	if Stale(Facts{}) != "" {
		t.Error("what was never read is stale")
	}
}

// The window that a camera has shown puts the offset that showed it on the right side.
func TestShownWindow(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	after, before := at.Add(time.Minute), at.Add(-time.Minute)
	for name, x := range map[string]struct {
		off  time.Duration
		try  Tried
		band Band
	}{
		"taken at 45 s":                 {45 * time.Second, Tried{Receives: true, Since: after}, AtRisk},
		"taken at −1 h":                 {-time.Hour, Tried{Receives: true, Since: after}, AtRisk},
		"taken before it was read":      {45 * time.Second, Tried{Receives: true, Since: before}, Refused},
		"taken within the usual window": {20 * time.Second, Tried{Receives: true, Since: after}, AtRisk},
		"refused at 20 s":               {20 * time.Second, Tried{Refused: true, Since: after}, Refused},
		"refused at −8 s":               {-8 * time.Second, Tried{Refused: true, Since: after}, Refused},
		"refused before it was read":    {20 * time.Second, Tried{Refused: true, Since: before}, AtRisk},
		"refused though usable":         {4 * time.Second, Tried{Refused: true, Since: after}, Usable},
		"neither":                       {20 * time.Second, Tried{}, AtRisk},
	} {
		o := Offset{x.off - 500*time.Millisecond, x.off + 500*time.Millisecond}
		if got := BandOf(o, ShownWindow(o, at, x.try)); got != x.band {
			t.Errorf("%s: %s, want %s", name, got, x.band)
		}
	}
}

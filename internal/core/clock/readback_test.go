package clock

import (
	"strings"
	"testing"
	"time"
)

func TestHolding(t *testing.T) {
	at := func(d time.Duration) Facts {
		return Facts{Camera: &Reading{Offset: Offset{Low: d, High: d}}, Reference: Reference{Name: "Quay recorder"}}
	}
	if holds, says := Holding(at(time.Second)); !holds || !strings.HasPrefix(says, "it is ") || strings.Contains(says, "still") {
		t.Errorf("in band: %v %q", holds, says)
	}
	if holds, says := Holding(at(time.Hour)); holds || !strings.HasPrefix(says,
		"it is still ") || !strings.HasSuffix(says, "from Quay recorder") {
		t.Errorf("an hour off: %v %q", holds, says)
	}
}

func TestZoneRead(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	args := map[string]string{"zone": "WET0WEST,M3.5.0/1,M10.5.0", "daylight": "on", "old_zone": "UTC0", "old_daylight": "off"}
	const from, to = "the old rule", "the new rule"
	for _, tc := range []struct {
		zone     string
		daylight bool
		want     string
	}{
		{"WET0WEST,M3.5.0/1,M10.5.0", true, to}, {"WET+0WEST-1,M3.5.0/1:00:00,M10.5.0/2:00:00", true, to}, {"UTC0",
			false, from}, {"GMT0", false, from},
	} {
		if got := ZoneRead(now, Reading{Zone: tc.zone, Daylight: tc.daylight}, from, to, args); got != tc.want {
			t.Errorf("%s: %q, want %q", tc.zone, got, tc.want)
		}
	}
	other := Reading{Zone: "CET-1", Daylight: false}
	if got := ZoneRead(now, other, from, to, args); got != other.ZoneText() {
		t.Errorf("another rule reads %q", got)
	}
}

func TestPointsEndWhereTheClockWasSet(t *testing.T) {
	begun := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	read := func(minute int, ntp bool) Reading {
		return Reading{At: begun.Add(time.Duration(minute) * time.Minute), NTP: ntp,
			Offset: Offset{Low: time.Duration(minute), High: time.Duration(minute)}}
	}
	got := Points(read(9, false), []Reading{read(8, false), read(7, false), read(6, true), read(5, false)})
	if len(got) != 3 || !got[0].At.Equal(begun.Add(7*time.Minute)) || !got[2].At.Equal(begun.Add(9*time.Minute)) {
		t.Errorf("points: %+v", got)
	}
}

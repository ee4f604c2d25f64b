package clock

import (
	"errors"
	"testing"
	"time"
)

func mustZone(t *testing.T, text string) Zone {
	t.Helper()
	z, err := parseZone(text)
	if err != nil {
		t.Fatalf("parseZone(%q): %v", text, err)
	}
	return z
}

func at(text string) time.Time {
	v, err := time.Parse(time.RFC3339, text)
	if err != nil {
		panic(err)
	}
	return v
}

func TestZoneOffsets(t *testing.T) {
	for _, tc := range []struct {
		zone, when string
		want       time.Duration
	}{
		{"UTC0", "2026-07-01T00:00:00Z", 0},
		{"WET0WEST,M3.5.0/1,M10.5.0", "2026-01-15T00:00:00Z", 0},
		{"WET0WEST,M3.5.0/1,M10.5.0", "2026-07-15T00:00:00Z", time.Hour},
		{"WET0WEST,M3.5.0/1,M10.5.0", "2026-03-29T00:59:59Z", 0},
		{"WET0WEST,M3.5.0/1,M10.5.0", "2026-03-29T01:00:00Z", time.Hour},
		{"WET0WEST,M3.5.0/1,M10.5.0", "2026-10-25T00:59:59Z", time.Hour},
		{"WET0WEST,M3.5.0/1,M10.5.0", "2026-10-25T01:00:00Z", 0},
		{"CET-1CEST,M3.5.0,M10.5.0/3", "2026-07-15T00:00:00Z", 2 * time.Hour},
		{"<-03>3", "2026-07-15T00:00:00Z", -3 * time.Hour},
		{"<+0545>-5:45", "2026-07-15T00:00:00Z", 5*time.Hour + 45*time.Minute},
		{"AEST-10AEDT,M10.1.0,M4.1.0/3", "2026-01-15T00:00:00Z", 11 * time.Hour},
		{"AEST-10AEDT,M10.1.0,M4.1.0/3", "2026-07-15T00:00:00Z", 10 * time.Hour},
		{"XXX3YYY,J60/0,J300/0", "2028-02-29T12:00:00Z", -3 * time.Hour}, // J60 is 1 March, always
		{"XXX3YYY,J60/0,J300/0", "2028-03-01T12:00:00Z", -2 * time.Hour},
		{"XXX3YYY,59/0,300/0", "2028-02-29T12:00:00Z", -2 * time.Hour}, // day 59 is 29 February in a leap year
	} {
		if got := mustZone(t, tc.zone).Offset(at(tc.when)); got != tc.want {
			t.Errorf("%s at %s: %v, want %v", tc.zone, tc.when, got, tc.want)
		}
	}
}

// POSIX dates are held against the zone files' own for the site's zone.
func TestTransitionsAgreeWithTheZoneDatabase(t *testing.T) {
	loc, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Skip("no zone database on this machine")
	}
	z := mustZone(t, "WET0WEST,M3.5.0/1,M10.5.0")
	for day := at("2026-01-01T00:30:00Z"); day.Year() < 2030; day = day.Add(7 * time.Hour) {
		_, want := day.In(loc).Zone()
		if got := z.Offset(day); got != time.Duration(want)*time.Second {
			t.Fatalf("at %v: %v, the zone database says %d s", day, got, want)
		}
	}
}

func TestParseZoneRefuses(t *testing.T) {
	for _, text := range []string{"", "W0", "WET", "WET0WEST,M3.5.0/1", "WET0,M3.5.0,M10.5.0", "WET0WEST,M13.5.0,M10.5.0",
		"WET0WEST,M3.0.0,M10.5.0", "WET0WEST,M3.5.7,M10.5.0", "WET99", "WET0:99", "<>0", "<ab", "WET0WEST,J0,J9", "WET0 ", "Europe/Lisbon",
		string(make([]byte, 500))} {
		if z, err := parseZone(text); !errors.Is(err, ErrZone) {
			t.Errorf("parseZone(%q) = %+v, %v; want ErrZone", text, z, err)
		}
	}
}

func TestSameZoneLooksAtWhatZonesDo(t *testing.T) {
	now := at("2026-11-24T03:00:00Z")
	for _, tc := range []struct {
		a, b string
		want bool
	}{
		{"WET0WEST,M3.5.0/1,M10.5.0", "GMT0BST,M3.5.0/1,M10.5.0/2", true},
		{"WET0WEST,M3.5.0/1,M10.5.0", "WET0", false},
		{"WET0", "UTC0", true},
		{"CET-1CEST,M3.5.0,M10.5.0/3", "CET1CEST,M3.5.0,M10.5.0/3", false},
		{"WET0WET0,M3.5.0/1,M10.5.0", "UTC0", true}, // its daylight changes nothing
	} {
		if got := sameZone(mustZone(t, tc.a), mustZone(t, tc.b), now); got != tc.want {
			t.Errorf("SameZone(%s, %s) = %v", tc.a, tc.b, got)
		}
	}
}

func FuzzParseZone(f *testing.F) {
	for _, s := range []string{"WET0WEST,M3.5.0/1,M10.5.0", "<-03>3", "CET-1CEST", "XXX3YYY,J60/0,300/-2:30", "A", ",,,"} {
		f.Add(s)
	}
	now := at("2026-11-24T03:00:00Z")
	f.Fuzz(func(t *testing.T, text string) {
		z, err := parseZone(text)
		if err != nil {
			return
		}
		if off := z.Offset(now); off > 26*time.Hour || off < -26*time.Hour {
			t.Errorf("%q gives an offset of %v", text, off)
		}
		if !sameZone(z, z, now) {
			t.Errorf("%q isn't the same zone as itself", text)
		}
	})
}

// A reading keeps a zone however it spells it, and not once its daylight switch is off.
func TestAReadingKeepsAZoneHoweverItSpellsIt(t *testing.T) {
	now := at("2026-11-24T03:00:00Z")
	const site = "WET0WEST,M3.5.0/1,M10.5.0"
	for _, tc := range []struct {
		zone     string
		daylight bool
		want     string
		on, same bool
	}{
		{site, true, site, true, true},
		{"WET+00:00WEST,M3.5.0/01:00:00,M10.5.0/02:00:00", true, site, true, true},
		{"GMT0BST,M3.5.0/1,M10.5.0/2", true, site, true, true},
		{site, false, site, true, false},
		{site, false, site, false, true},
		{"WET0", true, site, false, true},
		{"WET0", true, site, true, false},
		{"nonsense,", true, "nonsense,", true, true},
		{"nonsense,", true, site, true, false},
	} {
		if got := (Reading{Zone: tc.zone, Daylight: tc.daylight}).SameZone(tc.want, tc.on, now); got != tc.same {
			t.Errorf("%s, daylight %v, against %s, %v: %v", tc.zone, tc.daylight, tc.want, tc.on, got)
		}
	}
}

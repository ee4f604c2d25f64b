package clock

import (
	"slices"
	"testing"
	"time"
	_ "time/tzdata" // the machine may not know the zones
)

var known = time.Date(2026, 11, 26, 4, 0, 0, 0, time.UTC)

func TestPosixOf(t *testing.T) {
	for name, want := range map[string]string{
		"Europe/Lisbon":     "WET0WEST,M3.5.0/1,M10.5.0",
		"UTC":               "UTC0",
		"Asia/Kolkata":      "IST-5:30",
		"America/Sao_Paulo": "<-03>3",
		"America/Nuuk":      "<-02>2<-01>,M3.5.0/-1,M10.5.0/0",
		"Asia/Jerusalem":    "IST-2IDT,M3.4.4/26,M10.5.0",
		"America/Santiago":  "<-04>4<-03>,M9.1.6/24,M4.1.6/24",
		"Australia/Sydney":  "AEST-10AEDT,M10.1.0,M4.1.0/3",
		"Antarctica/Troll":  "<+00>0<+02>-2,M3.5.0/1,M10.5.0/3",
	} {
		loc, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		if got, exact := PosixOf(loc, known); got != want || !exact {
			t.Errorf("%s: %q, exact: %v, want %q", name, got, exact, want)
		}
	}
}

// Every name is there, and what is written for it keeps the same time for two years,
// whichever month it is asked in.
func TestEveryNamedZoneKeepsItsTime(t *testing.T) {
	names := ZoneNames()
	if len(names) < 400 || !slices.IsSorted(names) || !IsZoneName("Europe/Lisbon") || IsZoneName("Europe/Nowhere") {
		t.Fatalf("%d names", len(names))
	}
	var without []string
	for i, name := range names {
		loc, err := time.LoadLocation(name)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		now := known.AddDate(0, i%12, i%28)
		text, exact := PosixOf(loc, now)
		z, err := parseZone(text)
		if err != nil {
			t.Errorf("%s: %q: %v", name, text, err)
			continue
		}
		if !exact {
			without = append(without, name)
			continue
		}
		for at := now; at.Before(now.AddDate(2, 0, 0)); at = at.Add(31 * time.Hour) {
			if z.Offset(at) != offsetAt(at.In(loc)) {
				t.Errorf("%s: %q keeps another time at %s", name, text, at)
				break
			}
		}
	}
	if len(without) > 4 { // those whose summer time stops for a month that moves with the moon
		t.Errorf("no rule was found for %v", without)
	}
}

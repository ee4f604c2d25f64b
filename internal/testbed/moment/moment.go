// Package moment gives tests the time: the machine's own, or another day's. What touches a calendar is
// tested on several, so that nothing depends on the day, the hour or the zone in which tests run.
package moment

import (
	"os"
	"time"
)

// Env names the time, in RFC 3339, that tests are to take for now; empty: the machine's own. Of All it
// has all tried within one test too.
const (
	Env = "TEST_MOMENT"
	All = "all"
)

// days are what a calendar has: the first and the last minutes of a week, both nights in which clocks of
// Lisbon are set, a leap day, and the end of a year.
var days = []time.Time{
	time.Date(2027, 3, 28, 0, 30, 0, 0, time.UTC), // in Lisbon 01:00 WET is 02:00 WEST
	time.Date(2026, 11, 30, 0, 5, 0, 0, time.UTC), // a Monday
	time.Date(2026, 11, 29, 23, 55, 0, 0, time.UTC),
	time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC), // in Lisbon 02:00 WEST is 01:00 WET
	time.Date(2028, 2, 29, 12, 0, 0, 0, time.UTC),
	time.Date(2026, 12, 31, 23, 59, 0, 0, time.UTC),
}

// Now is the time that tests are to take for now, as time.Now has it.
func Now() time.Time {
	if at, err := time.Parse(time.RFC3339, os.Getenv(Env)); err == nil {
		return at.Local()
	}
	return time.Now()
}

// Days are the times at which what touches a calendar is tried within one test: the machine's own, and
// two that are odd; with Env of All every one.
func Days() []time.Time {
	if os.Getenv(Env) == All {
		return append([]time.Time{time.Now()}, days...)
	}
	return append([]time.Time{Now()}, days[:2]...)
}

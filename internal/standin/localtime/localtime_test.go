package localtime

import (
	"testing"
	"time"

	"duskyharbor/internal/testbed/moment"
)

// A camera with Lisbon's rule and its daylight switched on shows Lisbon's time, on each side of the nights
// in which clocks are set; with it off it stays an hour behind in summer.
func TestLocalTimeIsThatOfTheZone(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	for _, day := range moment.Days() {
		for _, past := range []time.Duration{-26 * time.Hour, -31 * time.Minute, 0, 29 * time.Minute, time.Hour, 26 * time.Hour, 190 * 24 * time.Hour} {
			at := day.Add(past)
			_, want := at.In(lisbon).Zone()
			if got := Ahead("WET0WEST,M3.5.0/1,M10.5.0", true, at.UTC()); got != time.Duration(want)*time.Second {
				t.Errorf("at %s it is %s ahead, and Lisbon %d s", at.UTC(), got, want)
			}
			if got := Ahead("WET0WEST,M3.5.0/1,M10.5.0", false, at); got != 0 {
				t.Errorf("at %s, without daylight, it is %s ahead", at, got)
			}
		}
	}
}

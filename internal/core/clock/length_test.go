package clock

import (
	"math"
	"testing"
	"time"
)

func TestLengthInWords(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "0.0 s", -400 * time.Millisecond: "0.4 s", 22 * time.Second: "22 s", 59600 * time.Millisecond: "1 min",
		90 * time.Second: "1 min 30 s", 15*time.Minute + 30*time.Second: "15 min 30 s", -time.Hour: "1 h", 67 * time.Minute: "1 h 7 min",
		3600*time.Second - 200*time.Millisecond: "1 h", 25 * time.Hour: "1 day 1 h", 76 * time.Hour: "3 days 4 h", 100 * 24 * time.Hour: "100 days",
		-848946329 * time.Second: "27 years", math.MinInt64: "292 years", math.MaxInt64: "292 years"} {
		if got := Length(d); got != want {
			t.Errorf("%v: %q, want %q", d, got, want)
		}
	}
	for d, want := range map[time.Duration]string{15*time.Minute + 30*time.Second: "+15.5 min", -15 * time.Minute: "−15 min", 16 * time.Minute: "+16 min"} {
		if got := Brief(d); got != want {
			t.Errorf("%v in a mark: %q, want %q", d, got, want)
		}
	}
}

// Clocks that are centuries apart are so in one direction, whatever is subtracted.
func TestOffsetsBeyondADuration(t *testing.T) {
	now := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
	for year, ahead := range map[int]bool{0: false, 1: false, 1600: false, 1970: false, 2038: true, 9999: true} {
		o := Bound(now, now.Add(time.Millisecond), time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC))
		for _, against := range []Offset{{}, {-time.Hour, -time.Hour}, {time.Hour, time.Hour + time.Second}} {
			d := o.Minus(against)
			if d.Low > d.High || (d.Mid() > 0) != ahead || BandOf(d, 0) != Refused {
				t.Errorf("year %d against %v: %v %s", year, against, d, BandOf(d, 0))
			}
		}
	}
}

package onvif

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// maxDuration is the longest that parseDuration gives.
const maxDuration = 100 * 365 * 24 * time.Hour

// parseDuration reads an xs:duration (XML Schema Part 2, 3.2.6): "P30D", "PT1H30M". A year is taken
// as 365 days and a month as 30; a negative one, and one of more than a hundred years, is none.
func parseDuration(s string) (time.Duration, bool) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(s), "P")
	if !ok || rest == "" {
		return 0, false
	}
	days, clock, timed := strings.Cut(rest, "T")
	if timed && clock == "" {
		return 0, false
	}
	const day = 24 * float64(time.Hour)
	a, ok := sumUnits(days, "YMD", []float64{365 * day, 30 * day, day})
	b, ok2 := sumUnits(clock, "HMS", []float64{float64(time.Hour), float64(time.Minute), float64(time.Second)})
	if !ok || !ok2 || a+b > float64(maxDuration) {
		return 0, false
	}
	return time.Duration(a + b), true
}

// sumUnits adds up numbers that are each followed by their unit, which come in order.
func sumUnits(s, units string, worth []float64) (sum float64, ok bool) {
	for s != "" {
		i := strings.IndexAny(s, units)
		if i < 1 {
			return 0, false
		}
		at := strings.IndexByte(units, s[i])
		v, err := strconv.ParseFloat(s[:i], 64)
		if err != nil || v < 0 || math.IsInf(v, 0) || math.IsNaN(v) || strings.ContainsAny(s[:i], "eExXpP_+-") {
			return 0, false
		}
		sum += v * worth[at]
		s, units, worth = s[i+1:], units[at+1:], worth[at+1:]
	}
	return sum, true
}

// durationOfHours writes so many hours as an xs:duration, whole days as such.
func durationOfHours(hours float64) string {
	if math.Mod(hours, 24) == 0 {
		return fmt.Sprintf("P%.0fD", hours/24)
	}
	return fmt.Sprintf("PT%dS", int64(math.Round(hours*3600)))
}

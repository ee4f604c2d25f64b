package onvif

import (
	"testing"
	"time"
)

func TestDurations(t *testing.T) {
	const day = 24 * time.Hour
	for text, want := range map[string]time.Duration{
		"P30D": 30 * day, "PT1H30M": 90 * time.Minute, "P1Y2M3DT4H5M6S": 365*day + 60*day + 3*day + 4*time.Hour + 5*time.Minute + 6*time.Second,
		"PT0S": 0, "PT0.5S": 500 * time.Millisecond, " P1D ": day, "P100Y": maxDuration} {
		if got, ok := parseDuration(text); !ok || got != want {
			t.Errorf("%q is %v, %v; want %v", text, got, ok, want)
		}
	}
	for _, text := range []string{"", "P", "PT", "30D", "-P1D", "P-1D", "P1H", "PT1D", "P1D2Y", "PT1M1H", "P1e9D", "P1D1D", "PInfD", "P0x1D", "P101Y", "P1DT"} {
		if got, ok := parseDuration(text); ok {
			t.Errorf("%q is %v", text, got)
		}
	}
}

func FuzzParseDuration(f *testing.F) {
	for _, s := range []string{"P30D", "PT1H30M", "P1Y2M3DT4H5M6.7S", "P", "-P1D"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if d, ok := parseDuration(s); ok && (d < 0 || d > maxDuration) {
			t.Errorf("%q is %v", s, d)
		}
	})
}

package finding

import (
	"testing"
	"time"
)

func TestAwait(t *testing.T) {
	const patience = 3 * time.Minute
	for _, c := range []struct {
		name         string
		told, silent bool
		since        time.Duration
		want         Awaited
	}{
		{"not told, silent", false, true, time.Hour, Untold},
		{"told a moment ago", true, false, 0, Lingers},
		{"told, and at the edge of its time", true, false, LingersFor - 1, Lingers},
		{"told, and nothing came of it", true, false, LingersFor, Stayed},
		{"away", true, true, LingersFor, Underway},
		{"away at the edge of its time", true, true, patience - 1, Underway},
		{"away for good", true, true, patience, Lost},
	} {
		if got := Await(c.told, c.silent, c.since, patience); got != c.want {
			t.Errorf("%s: %d, want %d", c.name, got, c.want)
		}
	}
}

package people

import (
	"testing"
	"time"
)

func TestTheWaitGrows(t *testing.T) {
	for _, tc := range []struct {
		missed     int
		want, many time.Duration
	}{
		{-1, 0, 0}, {0, 0, 0}, {4, 0, 0}, {5, 10 * time.Second, 0}, {6, 20 * time.Second, 0}, {9, 160 * time.Second, 0},
		{11, 640 * time.Second, 0}, {12, longestWait, 0}, {20, longestWait, 10 * time.Second}, {1 << 40, longestWait, longestWait},
	} {
		if got := Wait(tc.missed); got != tc.want {
			t.Errorf("refused %d times: %s, want %s", tc.missed, got, tc.want)
		}
		if got := WaitMany(tc.missed); got != tc.many {
			t.Errorf("an address refused %d times: %s, want %s", tc.missed, got, tc.many)
		}
	}
}

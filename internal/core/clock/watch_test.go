package clock

import (
	"math/rand"
	"testing"
	"time"
)

// A clock that is watched for a minute has no mark in the middle that it hasn't at the end: of one that
// stands, read within its bounds, no drift is ever sure, however often it is looked at; of one that
// drifts, what is sure once stays so.
func TestAWatchedClockKeepsItsMark(t *testing.T) {
	begun := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	for range 400 {
		bound := time.Duration(10+rand.Intn(400)) * time.Millisecond
		off := time.Duration(rand.Intn(20000)-10000) * time.Millisecond
		ppm := 0.0
		if rand.Intn(2) == 0 {
			ppm = float64(rand.Intn(4000) - 2000)
		}
		var points []Point
		sure := false
		for n := range 12 {
			at := time.Duration(n) * 5 * time.Second
			read := off + time.Duration(float64(at)*ppm/1e6) + time.Duration((rand.Float64()*2-1)*float64(bound))
			points = append(points, Point{At: begun.Add(at), Off: read, Error: bound})
			d, ok := FitDrift(points)
			now := ok && d.Sure()
			if ppm == 0 && now {
				t.Fatalf("a clock that stands drifts after %d readings of ±%s: %+v", n+1, bound, d)
			}
			if sure && ok && d.Jump {
				t.Fatalf("what no setting explained is explained by one after %d readings of ±%s at %.0f ppm", n+1, bound, ppm)
			}
			sure = sure || now
		}
	}
}

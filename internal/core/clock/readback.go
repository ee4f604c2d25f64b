package clock

import (
	"fmt"
	"time"
)

// Holding says whether a clock that was set some time ago still holds, in words that
// follow "after 5 s".
func Holding(f Facts) (holds bool, says string) {
	yet := ""
	if holds = f.InBand(); !holds {
		yet = "still "
	}
	return holds, fmt.Sprintf("it is %s%s from %s", yet, f.Offset(), f.Reference.Name)
}

// ZoneRead is what a zone's change reads: From or To where the device's rule is spelt so
// or produces the same transitions, for a device may spell a rule in another way than it
// was given; else the rule as the device spells it. args are those of the change.
func ZoneRead(now time.Time, r Reading, from, to string, args map[string]string) string {
	text := r.ZoneText()
	switch {
	case text == from || text == to:
		return text
	case r.SameZone(args["zone"], args["daylight"] == "on", now):
		return to
	case r.SameZone(args["old_zone"], args["old_daylight"] == "on", now):
		return from
	}
	return text
}

// Points are the readings that a drift is fitted to, in the order of time: now, and those
// before it since the clock runs by itself. past has the newest first.
func Points(now Reading, past []Reading) []Point {
	points := []Point{{At: now.At, Off: now.Offset.Mid(), Error: now.Offset.Error()}}
	for _, was := range past {
		if !Unset(was, now) {
			break
		}
		points = append(points, Point{At: was.At, Off: was.Offset.Mid(), Error: was.Offset.Error()})
	}
	for i, j := 0, len(points)-1; i < j; i, j = i+1, j-1 {
		points[i], points[j] = points[j], points[i]
	}
	return points
}

package recording

import "slices"

// Gap counts times between two happenings, by length: those that are at most UpTo seconds long
// and longer than the Gap before says.
type Gap struct {
	UpTo    float64 `json:"up_to"` // s; 0: any length
	Count   int     `json:"count"`
	Seconds float64 `json:"seconds"` // their sum
}

// GapBounds are the lengths, in seconds, by which this product's recorder interface counts gaps;
// what is longer goes into one more.
var GapBounds = []float64{1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800}

// Activity is how often one thing happened on a channel, as its recorder counted it: by day, or
// by night.
type Activity struct {
	Cause   Cause   `json:"cause"`
	Night   bool    `json:"night"`
	Seconds float64 `json:"seconds"` // listened to
	Active  float64 `json:"active"`  // of which it went on
	Gaps    []Gap   `json:"gaps"`    // between
}

// Enough is how long a recorder must have listened, in seconds, before what it counted stands for
// what will be.
const Enough = 3600

// Duty is the part of the time, 0 to 1, that is kept as something where each happening is kept
// from some seconds before it to some after it, together so many: the active seconds, and of each
// gap as much as that takes, all of it where it is no longer. Of gaps that are counted together
// each is taken as long as their mean, which is exact for equal ones and never too much.
func (a Activity) Duty(around float64) float64 {
	if a.Seconds <= 0 {
		return 0
	}
	idle := 0.0
	for _, g := range a.Gaps {
		idle += max(0, g.Seconds-float64(g.Count)*max(0, around))
	}
	return min(1, max(0, 1-idle/a.Seconds))
}

// NightFrom and NightTo are the hours between which it is night where rates and activity are told
// by day and night, in local time.
const (
	NightFrom = 20
	NightTo   = 6
)

// IsNight says whether a half hour of a day is night.
func IsNight(half int) bool { return half >= 2*NightFrom || half < 2*NightTo }

// duty is the part of the time that a mode keeps as something by day or by night, and active that in
// which it goes on. Several causes
// are taken to come independently. assumed says that a cause wasn't listened to long enough, and
// was taken to go on for the part of the time that is given.
func (m Mode) duty(all []Activity, night bool, assume float64) (duty, active float64, assumed bool) {
	quiet, still := 1.0, 1.0
	for _, c := range m.Causes {
		i := slices.IndexFunc(all, func(a Activity) bool { return a.Cause == c && a.Night == night && a.Seconds >= Enough })
		if i < 0 { // what is known of the other half of the day says more than nothing
			i = slices.IndexFunc(all, func(a Activity) bool { return a.Cause == c && a.Seconds >= Enough })
		}
		if i < 0 {
			quiet, still, assumed = quiet*(1-assume), still*(1-assume), true
			continue
		}
		quiet *= 1 - all[i].Duty(float64(m.Lead+m.Tail))
		still *= 1 - min(1, all[i].Active/all[i].Seconds)
	}
	return 1 - quiet, min(1-still, 1-quiet), assumed
}

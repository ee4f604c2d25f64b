package recording

import "slices"

// Gap counts times between two happenings, by length: those that are at most UpTo seconds long
// and longer than the Gap before says.
type Gap struct {
	UpTo    float64 `json:"up_to"` // s; 0: any length
	Count   int     `json:"count"`
	Seconds float64 `json:"seconds"` // their sum
}

// gapBounds are the lengths, in seconds, by which this product's recorder interface counts gaps;
// what is longer goes into one more.
var gapBounds = []float64{1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800}

// Activity is how often one thing happened on a channel, as its recorder counted it: by day, or
// by night.
//
// One with others beside its cause (With) counts the time in which any of them went on: what is
// kept twice over isn't kept twice.
type Activity struct {
	Cause   Cause   `json:"cause"`
	With    []Cause `json:"with,omitempty"`
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
// each is taken as long as their mean, which is exact for equal ones and never too much. Quiet time
// that no gap tells is taken for one long gap: then Duty is the least that it may be.
func (a Activity) Duty(around float64) float64 {
	if a.Seconds <= 0 || a.Active <= 0 {
		return 0
	}
	around = max(0, around)
	quiet := a.Seconds - min(a.Active, a.Seconds)
	idle, told := 0.0, 0.0
	for _, g := range a.Gaps {
		told += g.Seconds
		idle += max(0, g.Seconds-float64(g.Count)*around)
	}
	if rest := quiet - told; rest > 0 {
		idle += max(0, rest-around)
	}
	return min(1, max(0, 1-min(idle, quiet)/a.Seconds))
}

// told says whether the gaps of an activity are told, but for a part that doesn't matter.
func (a Activity) told() bool {
	quiet := a.Seconds - min(a.Active, a.Seconds)
	for _, g := range a.Gaps {
		quiet -= g.Seconds
	}
	return a.Active <= 0 || quiet <= a.Seconds/100
}

// nightFrom and nightTo are the hours between which it is night where rates and activity are told
// by day and night, in local time.
const (
	nightFrom = 20
	nightTo   = 6
)

// IsNight says whether a half hour of a day is night.
func IsNight(half int) bool { return half >= 2*nightFrom || half < 2*nightTo }

// heard are the causes of a mode that can reach a channel; all where that isn't told (nil).
func (m Mode) heard(hears []Cause) (out []Cause) {
	for _, c := range Causes() {
		if slices.Contains(m.Causes, c) && (hears == nil || slices.Contains(hears, c)) {
			out = append(out, c)
		}
	}
	return out
}

// of says whether an activity counts just these causes.
func (a Activity) of(causes []Cause) bool {
	if len(causes) != len(a.With)+1 || !slices.Contains(causes, a.Cause) {
		return false
	}
	return !slices.ContainsFunc(a.With, func(c Cause) bool { return c == a.Cause || !slices.Contains(causes, c) })
}

// countOf finds what was counted of some causes together, by day or by night, for long enough. What
// is known of the other half of the day says more than nothing, and is an assumption (other).
func countOf(all []Activity, causes []Cause, night bool) (a Activity, other, ok bool) {
	for _, other := range []bool{false, true} {
		for _, a := range all {
			if a.Seconds >= Enough && a.Night == (night != other) && a.of(causes) {
				return a, other, true
			}
		}
	}
	return a, false, false
}

// duty is the part of the time in which something happens for causes, with what is kept around it, by
// day or by night, and active that in which it goes on. Where they weren't counted together each one's
// own count is taken to come independently of the others. assumed says that this was done, or that a
// cause wasn't listened to long enough: then it is taken to go on for the part of the time that is
// given.
func duty(causes []Cause, around float64, all []Activity, night bool, assume float64) (share, active float64, assumed bool) {
	if len(causes) == 0 {
		return 0, 0, false
	}
	if a, other, ok := countOf(all, causes, night); ok {
		return a.Duty(around), min(1, a.Active/a.Seconds), other || around > 0 && !a.told()
	}
	if len(causes) == 1 {
		return assume, assume, true
	}
	quiet, still := 1.0, 1.0
	for _, c := range causes {
		d, on, _ := duty([]Cause{c}, around, all, night, assume)
		quiet, still = quiet*(1-d), still*(1-on)
	}
	return 1 - quiet, min(1-still, 1-quiet), true
}

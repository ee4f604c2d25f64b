package clock

import (
	"fmt"
	"math"
	"time"

	"duskyharbor/internal/core/finding"
)

// Drift is how fast a clock runs away from its reference, by least squares over
// readings: parts per million, fast where above zero, with its standard error.
type Drift struct {
	PPM   float64   `json:"ppm"`
	Error float64   `json:"error"` // one standard error, parts per million
	N     int       `json:"n"`     // readings
	From  time.Time `json:"from"`  // of the first of them
	// Jump says that a clock which stands, and was set once between two of the readings, explains them
	// as well.
	Jump bool `json:"jump,omitempty"`
}

// Point is one reading of a clock: when, how far off, and how far that may be wrong.
type Point struct {
	At    time.Time
	Off   time.Duration
	Error time.Duration // half the width of its bounds
}

const (
	// leastReadings and leastSpan are what a drift is judged by at least.
	leastReadings = 3
	leastSpan     = 8 * time.Second
	// step is a jump between two readings that no crystal makes: the clock was set.
	step = 1500 * time.Millisecond
)

// Unset says whether the clock ran by itself from an earlier reading to a later one, as
// far as their settings tell: not where it followed NTP, nor where its zone changed, which
// is written together with a time.
func Unset(earlier, later Reading) bool {
	return !earlier.NTP && !later.NTP && earlier.Zone == later.Zone && earlier.Daylight == later.Daylight
}

// FitDrift fits a line through the readings since the clock was last set; points are
// in the order of time. ok is false where they are too few or too close together. The
// error is what the scatter of the readings and their own bounds allow, whichever is
// more.
func FitDrift(points []Point) (d Drift, ok bool) {
	points = sinceSet(points)
	n := len(points)
	if n < leastReadings || points[n-1].At.Sub(points[0].At) < leastSpan {
		return Drift{}, false
	}
	var mx, my float64
	origin := points[0].At
	for _, p := range points {
		mx += p.At.Sub(origin).Seconds() / float64(n)
		my += p.Off.Seconds() / float64(n)
	}
	var sxx, sxy float64
	for _, p := range points {
		x := p.At.Sub(origin).Seconds() - mx
		sxx += x * x
		sxy += x * (p.Off.Seconds() - my)
	}
	if sxx == 0 {
		return Drift{}, false
	}
	slope := sxy / sxx
	var rss, bound float64
	for _, p := range points {
		r := p.Off.Seconds() - my - slope*(p.At.Sub(origin).Seconds()-mx)
		rss += r * r
		bound += p.Error.Seconds() * p.Error.Seconds() / 3 / float64(n) // variance of an even spread
	}
	scatter := rss / float64(n-2)
	return Drift{PPM: slope * 1e6, Error: math.Sqrt(max(scatter, bound)/sxx) * 1e6, N: n, From: origin, Jump: jumps(points)}, true
}

// slack is what a reading's bounds are widened by before it is held against a line: a crystal's rate
// changes a little with the temperature.
const slack = 20 * time.Millisecond

// bounds of a reading, in seconds.
func (p Point) bounds() (lo, hi float64) {
	return (p.Off - p.Error - slack).Seconds(), (p.Off + p.Error + slack).Seconds()
}

// onOneLine says whether one steady rate explains all readings within their bounds: whether some slope
// lies in what each pair of them allows.
func onOneLine(points []Point) bool {
	least, most := math.Inf(-1), math.Inf(1)
	for i, a := range points {
		aLo, aHi := a.bounds()
		for _, b := range points[i+1:] {
			bLo, bHi := b.bounds()
			switch dt := b.At.Sub(a.At).Seconds(); {
			case dt > 0:
				least, most = max(least, (bLo-aHi)/dt), min(most, (bHi-aLo)/dt)
			case bLo > aHi || aLo > bHi:
				return false
			}
		}
	}
	return least <= most
}

// level says whether a clock that stands explains all readings within their bounds.
func level(points []Point) bool {
	least, most := math.Inf(-1), math.Inf(1)
	for _, p := range points {
		lo, hi := p.bounds()
		least, most = max(least, lo), min(most, hi)
	}
	return least <= most
}

// jumps says whether a clock that stands and was set once explains the readings.
func jumps(points []Point) bool {
	for k := range points {
		if level(points[:k]) && level(points[k:]) {
			return true
		}
	}
	return false
}

// sinceSet is the newest run of readings between which the clock wasn't set: a step is more than any
// crystal makes, and one rate explains what is between steps.
func sinceSet(points []Point) []Point {
	for i := len(points) - 1; i > 0; i-- {
		a, b := points[i-1], points[i]
		// A crystal that is wrong by a hundredth is broken; more than that is a step.
		allowed := a.Error + b.Error + max(step, b.At.Sub(a.At)/100)
		if (b.Off-a.Off).Abs() > allowed || !onOneLine(points[i-1:]) {
			return points[i:]
		}
	}
	return points
}

// Sure says whether the drift is more than chance, three standard errors, more than a good crystal's
// 5 ppm, and nothing that setting the clock once explains as well.
func (d Drift) Sure() bool { return !d.Jump && math.Abs(d.PPM) >= 5 && math.Abs(d.PPM) > 3*d.Error }

// String is the figure with its error: "+40 ± 8 ppm".
func (d Drift) String() string {
	sign := "+"
	if d.PPM < 0 {
		sign = "−"
	}
	return fmt.Sprintf("%s%.0f ± %.0f ppm", sign, math.Abs(d.PPM), math.Max(d.Error, 1))
}

// Leaves is when a clock that is off by o will be further off than limit; zero where it
// runs the other way, is beyond it already, or that is over ten years away.
func (d Drift) Leaves(now time.Time, o, limit time.Duration) time.Time {
	rate := d.PPM / 1e6
	if rate == 0 || o.Abs() > limit {
		return time.Time{}
	}
	left := limit - o
	if rate < 0 {
		left = limit + o
	}
	seconds := left.Seconds() / math.Abs(rate)
	if seconds > 10*365.25*86400 {
		return time.Time{}
	}
	return now.Add(time.Duration(seconds * float64(time.Second)))
}

// soon is within what time a drift needs a person.
const soon = 90 * 24 * time.Hour

// judgeDrift judges a clock that runs by itself.
func judgeDrift(now time.Time, f Facts) (finding.Finding, bool) {
	r := f.Camera
	if r.NTP || r.Drift == nil || !r.Drift.Sure() {
		return finding.Finding{}, false
	}
	d, o := *r.Drift, f.Offset().Mid()
	fd := finding.Finding{Code: "clock.drift", Severity: finding.Note, Words: "drifts",
		Sentence: fmt.Sprintf("Its clock drifts by %s (%.1f s a day) over %d readings.", d, math.Abs(d.PPM)*0.0864, d.N),
		WayOut:   "Let it take its time from the recorder: a clock that follows doesn't drift.",
		Evidence: []finding.Evidence{{Name: "Readings",
			Value: fmt.Sprintf("%d since %s UTC", d.N, d.From.UTC().Format("2006-01-02 15:04:05")), Via: "GetSystemDateAndTime", At: r.At}}}
	if leaves := d.Leaves(now, o, UsableWithin); !leaves.IsZero() {
		fd.Sentence += fmt.Sprintf(" It leaves what is usable on %s UTC.", leaves.UTC().Format("2006-01-02 at 15:04"))
		if leaves.Sub(now) < soon {
			fd.Severity = finding.Needs
		}
		return fd, true
	}
	window := f.Window
	if window == 0 {
		window = defaultWindow
	}
	if o.Abs() <= UsableWithin { // for years to come
		return fd, true
	}
	if leaves := d.Leaves(now, o, window); !leaves.IsZero() {
		fd.Sentence += fmt.Sprintf(" It is beyond what is usable already, and leaves its sign-in window of %.0f s on %s UTC.", window.Seconds(), leaves.UTC().Format("2006-01-02 at 15:04"))
		fd.Severity = finding.Needs
	}
	return fd, true
}

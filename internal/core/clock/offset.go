// Package clock judges device clocks: the offset between a camera and the
// recorder that holds it, its band, its likely cause, and what would mend it.
package clock

import (
	"fmt"
	"math"
	"time"
)

// Offset bounds how far a device's clock is ahead of a reference: the true value
// lies in [Low, High]. The zero Offset is exactly in step.
type Offset struct {
	Low  time.Duration `json:"low"`
	High time.Duration `json:"high"`
}

// Bound is the offset that one answer allows. GetSystemDateAndTime gives whole
// seconds: the device's clock stood in [device, device+1 s) at some moment
// between sent and received (server time), so device − received ≤ offset <
// device + 1 s − sent.
func Bound(sent, received, device time.Time) Offset {
	return Offset{
		Low:  device.Sub(received.Round(0)),
		High: device.Add(time.Second).Sub(sent.Round(0)),
	}
}

// Exact bounds an answer that carries fractions of a second.
func Exact(sent, received, device time.Time) Offset {
	return Offset{Low: device.Sub(received.Round(0)), High: device.Sub(sent.Round(0))}
}

// Meet narrows o by another bound of the same clock; false when they exclude each
// other, which means that the clock was stepped between them.
func (o Offset) Meet(p Offset) (Offset, bool) {
	m := Offset{max(o.Low, p.Low), min(o.High, p.High)}
	return m, m.Low <= m.High
}

// Minus is the offset of o's device against p's, both against one reference.
func (o Offset) Minus(p Offset) Offset {
	return Offset{minus(o.Low, p.High), minus(o.High, p.Low)}
}

// minus is a − b, at most what a Duration holds: clocks may be centuries apart.
func minus(a, b time.Duration) time.Duration {
	switch d := a - b; {
	case b > 0 && d > a:
		return math.MinInt64
	case b < 0 && d < a:
		return math.MaxInt64
	default:
		return d
	}
}

// Mid is the middle of the bounds: the figure shown.
func (o Offset) Mid() time.Duration { return o.Low + minus(o.High, o.Low)/2 }

// Error is half the width of the bounds: the ± shown with the figure.
func (o Offset) Error() time.Duration { return minus(o.High, o.Low) / 2 }

// String is the figure with its error, as "+3600.2 s ± 0.5 s".
func (o Offset) String() string {
	return fmt.Sprintf("%s s ± %s s", signed(o.Mid()), plain(o.Error()))
}

// TimeSays words what a time server tells, against this server's own clock.
func TimeSays(o Offset) string {
	d := o.Mid()
	switch {
	case d.Abs() <= max(o.Error(), 50*time.Millisecond):
		return "tells this server's own time"
	case d < 0:
		return "tells a time " + Length(d) + " behind this server's"
	}
	return "tells a time " + Length(d) + " ahead of this server's"
}

// Seconds is the figure alone, signed, to a tenth of a second.
func (o Offset) Seconds() string { return signed(o.Mid()) }

// ErrorSeconds is the error alone.
func (o Offset) ErrorSeconds() string { return plain(o.Error()) }

func signed(d time.Duration) string {
	s := d.Seconds()
	if math.Abs(s) < 0.05 {
		return "0.0"
	}
	sign := "+"
	if s < 0 {
		sign = "−"
	}
	if math.Abs(s) >= 100000 {
		return fmt.Sprintf("%s%.0f", sign, math.Abs(s))
	}
	return fmt.Sprintf("%s%.1f", sign, math.Abs(s))
}

func plain(d time.Duration) string {
	if d < 95*time.Millisecond {
		return fmt.Sprintf("%.2f", d.Seconds())
	}
	return fmt.Sprintf("%.1f", d.Seconds())
}

// Band says what an offset does to a camera on its recorder.
type Band string

const (
	InStep  Band = "in step"
	Usable  Band = "usable"
	AtRisk  Band = "at risk"
	Refused Band = "refused"
)

const (
	// inStepWithin and UsableWithin are the defaults of the inner bands.
	inStepWithin = time.Second
	UsableWithin = 5 * time.Second
	// defaultWindow is the sign-in window taken for a device that has shown no other.
	defaultWindow = 30 * time.Second
)

// Edge is how far a band reaches, to either side of zero.
type Edge struct {
	Band Band
	To   time.Duration // included
}

// Bands are the bands from the middle outwards, Refused without end left out, for a
// device's sign-in window, defaultWindow where zero. What is usable is so with any window.
func Bands(window time.Duration) []Edge {
	if window <= 0 {
		window = defaultWindow
	}
	out := []Edge{{InStep, inStepWithin}, {Usable, UsableWithin}}
	if window > UsableWithin {
		out = append(out, Edge{AtRisk, window})
	}
	return out
}

// BandOf places an offset. The figure decides, not its bounds; window is the
// device's sign-in window, defaultWindow where zero.
func BandOf(o Offset, window time.Duration) Band {
	d := o.Mid().Abs()
	for _, e := range Bands(window) {
		if d <= e.To {
			return e.Band
		}
	}
	return Refused
}

// Brief is an offset in the two words a mark carries: "+1 h", "−8 s", "+26 years".
func Brief(d time.Duration) string {
	sign := "+"
	if d < 0 {
		sign, d = "−", -d
	}
	switch {
	case d >= 2*365*24*time.Hour:
		return fmt.Sprintf("%s%.0f years", sign, d.Hours()/24/365.25)
	case d >= 48*time.Hour:
		return fmt.Sprintf("%s%.0f days", sign, d.Hours()/24)
	case d >= time.Hour-30*time.Second:
		h := d.Round(15 * time.Minute).Hours()
		if h == math.Trunc(h) {
			return fmt.Sprintf("%s%.0f h", sign, h)
		}
		return fmt.Sprintf("%s%.1f h", sign, d.Hours())
	case d >= 2*time.Minute && (d+2*time.Second)%time.Minute <= 4*time.Second:
		return fmt.Sprintf("%s%.0f min", sign, d.Minutes())
	case d >= 2*time.Minute:
		return fmt.Sprintf("%s%.1f min", sign, d.Minutes())
	}
	return fmt.Sprintf("%s%.0f s", sign, math.Max(d.Seconds(), 1))
}

// Length is how long d is, without its sign, in words that a person reads: "0.4 s", "22 s",
// "15 min 30 s", "1 h 7 min", "3 days 4 h", "27 years".
func Length(d time.Duration) string {
	if d == math.MinInt64 {
		d++
	}
	d = d.Abs()
	two := func(n int64, unit string, m int64, part string) string {
		if m == 0 {
			return fmt.Sprintf("%d %s", n, unit)
		}
		return fmt.Sprintf("%d %s %d %s", n, unit, m, part)
	}
	const day = 24 * time.Hour
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d.Round(time.Second) < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d.Round(time.Second) < time.Hour:
		s := int64(d.Round(time.Second) / time.Second)
		return two(s/60, "min", s%60, "s")
	case d.Round(time.Minute) < day:
		m := int64(d.Round(time.Minute) / time.Minute)
		return two(m/60, "h", m%60, "min")
	case d < 2*day:
		h := int64(d.Round(time.Hour) / time.Hour)
		return two(h/24, "day", h%24, "h")
	case d < 60*day:
		h := int64(d.Round(time.Hour) / time.Hour)
		return two(h/24, "days", h%24, "h")
	case d < 730*day:
		return fmt.Sprintf("%.0f days", d.Hours()/24)
	}
	return fmt.Sprintf("%.0f years", d.Hours()/24/365.25)
}

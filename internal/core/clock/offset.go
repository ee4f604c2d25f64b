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
	return Offset{o.Low - p.High, o.High - p.Low}
}

// Mid is the middle of the bounds: the figure shown.
func (o Offset) Mid() time.Duration { return o.Low + (o.High-o.Low)/2 }

// Error is half the width of the bounds: the ± shown with the figure.
func (o Offset) Error() time.Duration { return (o.High - o.Low) / 2 }

// String is the figure with its error, as "+3600.2 s ± 0.5 s".
func (o Offset) String() string {
	return fmt.Sprintf("%s s ± %s s", signed(o.Mid()), plain(o.Error()))
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
	// InStepWithin and UsableWithin are the defaults of the inner bands.
	InStepWithin = time.Second
	UsableWithin = 5 * time.Second
	// DefaultWindow is the sign-in window taken for a device that has shown no other.
	DefaultWindow = 30 * time.Second
)

// Edge is how far a band reaches, to either side of zero.
type Edge struct {
	Band Band
	To   time.Duration // included
}

// Bands are the bands from the middle outwards, Refused without end left out, for a
// device's sign-in window, DefaultWindow where zero. What is usable is so with any window.
func Bands(window time.Duration) []Edge {
	if window <= 0 {
		window = DefaultWindow
	}
	out := []Edge{{InStep, InStepWithin}, {Usable, UsableWithin}}
	if window > UsableWithin {
		out = append(out, Edge{AtRisk, window})
	}
	return out
}

// BandOf places an offset. The figure decides, not its bounds; window is the
// device's sign-in window, DefaultWindow where zero.
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
	case d >= 2*time.Minute:
		return fmt.Sprintf("%s%.0f min", sign, d.Minutes())
	}
	return fmt.Sprintf("%s%.0f s", sign, math.Max(d.Seconds(), 1))
}

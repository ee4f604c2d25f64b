package picture

import (
	"fmt"
	"math"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
)

// HandQuiet is how long who holds a camera by hand may not say so before it is let go, and HandMost how long a hand may
// hold it at a time.
const (
	HandQuiet = 8 * time.Second
	HandMost  = 15 * time.Minute
)

// Spot is a place on a picture, in parts of its sides from its upper left corner, 0 to 1.
type Spot struct{ X, Y float64 }

// Window is a part of a picture, in parts of its sides from its upper left corner.
type Window struct{ Left, Top, Right, Bottom float64 }

// Middle is the spot in its middle.
func (w Window) Middle() Spot { return Spot{(w.Left + w.Right) / 2, (w.Top + w.Bottom) / 2} }

// leastWindow is the least side of a window that is zoomed to, in parts of the picture's: what is drawn smaller
// is a press that slipped.
const leastWindow = 0.04

// Factor is how many times larger the window is seen once it fills the picture: its longer side does. ErrWindow
// where it lies outside the picture, or is too small to be meant.
func (w Window) Factor() (float64, error) {
	side := max(w.Right-w.Left, w.Bottom-w.Top)
	if !(w.Left >= 0 && w.Top >= 0 && w.Right <= 1 && w.Bottom <= 1 && w.Left < w.Right && w.Top < w.Bottom) || side < leastWindow {
		return 0, ErrWindow
	}
	return 1 / side, nil
}

// ErrWindow says that no part of the picture was meant.
var ErrWindow = trouble.UserError("That is no part of the picture to zoom to: drag a box on it.")

// Steers says whether it can be moved by hand: as long as a key is held, or in steps.
func (p PTZ) Steers() bool { return len(p.Hand()) > 0 }

// Hand names the axes on which it can be moved by hand.
func (p PTZ) Hand() (out []Axis) {
	for _, a := range []Axis{Pan, Tilt, Zoom} {
		if p.speedOf(a).Known() || p.rangeOf(a).Known() && p.At != nil {
			out = append(out, a)
		}
	}
	return out
}

func (p PTZ) speedOf(a Axis) Range {
	return map[Axis]Range{Pan: p.PanSpeeds, Tilt: p.TiltSpeeds, Zoom: p.ZoomSpeeds}[a]
}

// Push is how hard each axis is pushed: right, up and nearer positive, −1 to 1 of the fastest.
type Push struct{ Pan, Tilt, Zoom float64 }

// OK says whether each part is within −1 to 1, and any isn't 0.
func (v Push) OK() bool {
	for _, x := range []float64{v.Pan, v.Tilt, v.Zoom} {
		if !(x >= -1 && x <= 1) {
			return false
		}
	}
	return v != Push{}
}

func (v Push) of(a Axis) float64 { return map[Axis]float64{Pan: v.Pan, Tilt: v.Tilt, Zoom: v.Zoom}[a] }

// Velocity is a push in the camera's own generic velocity spaces (ONVIF PTZ, 5.8.3); ok is false where an axis that
// is pushed tells no speeds: it is moved in steps, see Step.
func (p PTZ) Velocity(v Push) (out Push, ok bool) {
	for _, a := range []struct {
		axis Axis
		to   *float64
	}{{Pan, &out.Pan}, {Tilt, &out.Tilt}, {Zoom, &out.Zoom}} {
		by, r := v.of(a.axis), p.speedOf(a.axis)
		switch {
		case by == 0:
		case !r.Known():
			return Push{}, false
		case by > 0:
			*a.to = by * max(0, r.Max)
		default:
			*a.to = -by * min(0, r.Min)
		}
	}
	return out, true
}

// stepBy is how much of an axis' range one step by hand is, at full push.
const stepBy = 0.03

// Step is the aim one step away, held to the ends of each axis; ok is false where it can't be sent to a place.
func (p PTZ) Step(from Aim, v Push) (to Aim, ok bool) {
	to = from
	for _, a := range []struct {
		axis Axis
		to   *float64
	}{{Pan, &to.Pan}, {Tilt, &to.Tilt}, {Zoom, &to.Zoom}} {
		by, r := v.of(a.axis), p.rangeOf(a.axis)
		switch {
		case by == 0:
		case !r.Known():
			return from, false
		default:
			*a.to = min(r.Max, max(r.Min, *a.to+by*stepBy*(r.Max-r.Min)))
		}
	}
	return to, true
}

// Presses says whether it can be sent to what is pressed on its picture: it moves by parts of what it sees.
func (p PTZ) Presses() bool { return p.AcrossX.Known() && p.AcrossY.Known() }

// Across is the way from the middle of the picture to a spot on it, in the translation space that goes by the field
// of view (ONVIF PTZ, 5.8.2): the ends of that space are the edges of the picture, right and up positive.
func (p PTZ) Across(s Spot) (pan, tilt float64, err error) {
	if !p.Presses() {
		return 0, 0, trouble.UserError("It doesn't tell how wide it sees: move it by the arrows.")
	}
	if !(s.X >= 0 && s.X <= 1 && s.Y >= 0 && s.Y <= 1) {
		return 0, 0, trouble.UserError("That spot isn't on its picture.")
	}
	part := func(v float64, r Range) float64 {
		if v < 0 {
			return -v * min(0, r.Min)
		}
		return v * max(0, r.Max)
	}
	return part(2*s.X-1, p.AcrossX), part(1-2*s.Y, p.AcrossY), nil
}

// Zoomed is one step of zooming to a window: where the zoom stood, and how many times larger things were seen there
// than at the beginning.
type Zoomed struct{ At, Times float64 }

// Bounds of zooming to a window.
const (
	zoomSteps = 5    // at the most
	zoomNear  = 0.08 // of the natural logarithm: near enough
	firstZoom = 0.12 // of the axis, for want of anything measured
	mostZoom  = 0.8  // of the natural logarithm, in one step: more isn't measured well
	leastZoom = 0.02 // of the axis: less isn't worth a move
)

// NextZoom is where the zoom is sent next so that things are seen want times larger than at the beginning, by what was
// measured so far: the first entry is the beginning, at 1. Magnification is taken to rise by the same factor for the
// same way, from the last two on; done is true when it is near, when the axis ends, or when it doesn't get any nearer.
func (p PTZ) NextZoom(had []Zoomed, want float64) (to float64, done bool) {
	r := p.Zooms
	if len(had) == 0 || !r.Known() || !(want > 0) || len(had) > zoomSteps {
		return 0, true
	}
	last := had[len(had)-1]
	left := math.Log(want / last.Times)
	if math.Abs(left) <= zoomNear {
		return last.At, true
	}
	way := math.Copysign(firstZoom*(r.Max-r.Min), left)
	if len(had) > 1 {
		before := had[len(had)-2]
		rise := math.Log(last.Times/before.Times) / (last.At - before.At)
		if !(rise > 0) || math.IsInf(rise, 0) { // it went the other way, or nothing was seen of it
			return last.At, true
		}
		way = max(-mostZoom, min(mostZoom, left)) / rise
	}
	to = min(r.Max, max(r.Min, last.At+way))
	return to, math.Abs(to-last.At) < leastZoom*(r.Max-r.Min)
}

// Holder words who holds a camera by hand, for another who wants to.
func Holder(who, place string) string {
	return fmt.Sprintf("%s turns %s by hand now.", who, place)
}

// MayHold says why it can't be held by hand; nil where it can: each axis that a hand moves can be put back.
func (p PTZ) MayHold() error {
	switch {
	case !p.Steers():
		return trouble.UserError("It can't be moved from here.")
	case p.At == nil:
		return trouble.UserError("It doesn't tell where it looks, and so couldn't be put back: move it on its own page.")
	}
	for _, a := range p.Hand() {
		if !p.rangeOf(a).Known() {
			return trouble.UserError(fmt.Sprintf("Its %s can't be sent to a place, and so couldn't be put back: move it on its own page.", a))
		}
	}
	return nil
}

// PutBack is the change that sends it back to where it looked before a hand took it; ok is false where it looks there.
func (p PTZ) PutBack(home Aim) (c finding.Change, ok bool) {
	c, err := Setup{PTZ: &p}.Turn(home, Preset{})
	c.Why = "It was turned by hand, and is put back."
	return c, err == nil
}

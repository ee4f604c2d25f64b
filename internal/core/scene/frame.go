package scene

// Frame is how a camera counts places. The zero Frame is the standard's: −1 to 1, y up (ONVIF Analytics 5.1.2.2). Any other
// counts from the upper left corner, y down, to Wide and High at the lower right one.
type Frame struct {
	Wide float64 `json:"wide,omitempty"`
	High float64 `json:"high,omitempty"`
}

// Standard says whether it is the standard's.
func (f Frame) Standard() bool { return f.Wide <= 0 || f.High <= 0 }

// To is a place of the standard's frame as the camera counts it.
func (f Frame) To(p Point) Point {
	if f.Standard() {
		return p
	}
	return Point{X: (p.X + 1) / 2 * f.Wide, Y: (1 - p.Y) / 2 * f.High}
}

// From is a place that a camera counts in the standard's frame.
func (f Frame) From(p Point) Point {
	if f.Standard() {
		return p
	}
	return Point{X: p.X/f.Wide*2 - 1, Y: 1 - p.Y/f.High*2}
}

// shares is what some makes count to, whatever the picture's size.
const shares = 10000

// FrameOf is the frame that places are counted in, of a camera whose picture has so many pixels (0: not known): the standard's
// where all lie in it, else pixels, else shares of 10,000. ok is false where they lie in none.
func FrameOf(all []Point, wide, high int) (f Frame, ok bool) {
	lie := func(lowX, highX, lowY, highY float64) bool {
		for _, p := range all {
			if !(p.X >= lowX && p.X <= highX && p.Y >= lowY && p.Y <= highY) {
				return false
			}
		}
		return true
	}
	switch {
	case lie(-1, 1, -1, 1):
		return Frame{}, true
	case wide > 0 && high > 0 && lie(0, float64(wide), 0, float64(high)):
		return Frame{float64(wide), float64(high)}, true
	case lie(0, shares, 0, shares):
		return Frame{shares, shares}, true
	}
	return Frame{}, false
}

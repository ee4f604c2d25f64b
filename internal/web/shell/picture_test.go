package shell

import (
	"testing"

	"duskyharbor/internal/core/scene"
)

// A mark lies where it is meant: ONVIF's frame has its middle at 0 and y up, parts of a picture begin at its left upper corner.
func TestMarksLieWhereTheyAreMeant(t *testing.T) {
	t.Parallel()
	corners := scene.Polygon{{X: -1, Y: 1}, {X: 1, Y: 1}, {X: 1, Y: -1}, {X: 0, Y: 0}}
	if s := AreaMark("a", corners); s.Kind != AsArea || s.Points != "0.0,0.0 1600.0,0.0 1600.0,900.0 800.0,450.0" {
		t.Errorf("%+v", s)
	}
	if s := PathMark("a", nil); s.Kind != AsPath || s.Points != "" {
		t.Errorf("%+v", s)
	}
	if s := LineMark("a", "2 m", 0.5, 1, 0.25, 0); s.X != [2]float64{800, 400} || s.Y != [2]float64{900, 0} || s.LabelX() != 814 || s.LabelY() != 900 {
		t.Errorf("%+v", s)
	}
	for _, tc := range []struct {
		top, end float64
		label    string
	}{{0, 1, "x"}, {0.5, 0.5 + roomy/900.0, "x"}, {0.5, 0.5 + (roomy-1)/900.0, ""}, {0.5, 0.5, ""}} {
		if s := BandMark("a", "x", tc.top, tc.end); s.Label != tc.label || s.LabelY() != tc.top*900+48 {
			t.Errorf("%v to %v: %+v", tc.top, tc.end, s)
		}
	}
}

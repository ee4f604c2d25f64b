package stream

import (
	"image"
	"image/color"
	"math"
	"testing"
)

// drawn is a picture of boxes and a slope, seen so many times larger.
func drawn(times float64, shade float64) image.Image {
	img := image.NewGray(image.Rect(0, 0, 640, 360))
	for y := range 360 {
		for x := range 640 {
			u, v := (float64(x)-320)/times+320, (float64(y)-180)/times+180
			l := 60 + u/8 + 40*math.Sin(u/23)*math.Cos(v/31)
			if u > 250 && u < 300 && v > 120 && v < 260 || u > 380 && u < 470 && v > 160 && v < 200 {
				l = 230
			}
			img.SetGray(x, y, color.Gray{Y: uint8(min(255, l*shade))})
		}
	}
	return img
}

func TestHowManyTimesLargerIsSeen(t *testing.T) {
	before := PrintOf(drawn(1, 1))
	for _, want := range []float64{1, 1.2, 1.5, 2, 2.6, 3.3, 4} {
		for _, shade := range []float64{1, 0.7} { // a camera may set its exposure anew
			got, ok := before.Times(PrintOf(drawn(want, shade)))
			if !ok || math.Abs(math.Log(got/want)) > 0.1 {
				t.Errorf("%v times, by %v of the light: %v, %v", want, shade, got, ok)
			}
		}
	}
}

func TestWhatIsNotLikeItIsNotMeasured(t *testing.T) {
	before := PrintOf(drawn(1, 1))
	flat := PrintOf(image.NewGray(image.Rect(0, 0, 640, 360)))
	other := image.NewGray(image.Rect(0, 0, 640, 360))
	for i := range other.Pix {
		other.Pix[i] = uint8(i * 2654435761 >> 13)
	}
	for name, later := range map[string]Print{"flat": flat, "another place": PrintOf(other), "none": {}} {
		if got, ok := before.Times(later); ok {
			t.Errorf("%s: %v", name, got)
		}
	}
	if _, ok := flat.Times(before); ok {
		t.Error("of a flat picture nothing is measured")
	}
}

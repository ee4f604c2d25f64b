package scene

import (
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
)

func TestAColourHasAWord(t *testing.T) {
	for _, tc := range []struct {
		rgb  uint32
		want Colour
	}{
		{0x000000, Black}, {0x323232, Black}, {0x333333, Grey}, {0x400000, Red}, {0x7f7f7f, Grey}, {0xcbcbcb, Grey}, {0xcccccc, White}, {0xffffff, White},
		{0xffe1e1, White}, {0xffe0e0, Red}, // on either side of an eighth of hue
		{0xff0000, Red}, {0xff003f, Red}, {0xff0041, Pink}, {0xff3f00, Red}, {0xff4000, Orange}, {0xffa100, Orange}, {0xffa200, Yellow}, {0xffff00, Yellow},
		{0x8a4f07, Brown}, {0xb25f00, Brown}, {0xb36000, Orange}, {0x00ff00, Green}, {0x17685f, Green}, {0x00fffe, Green}, {0x00feff, Blue}, {0x0000ff, Blue},
		{0x3f00ff, Blue}, {0x4000ff, Purple}, {0xd400ff, Purple}, {0xd600ff, Pink}, {0x6d3b66, Purple}, {0xff80c0, Pink}, {0xa62540, Red}, {0xe6e0d2, White},
	} {
		r, g, b := float64(tc.rgb>>16)/255, float64(tc.rgb>>8&255)/255, float64(tc.rgb&255)/255
		if got := ColourOf(r, g, b); got != tc.want {
			t.Errorf("#%06x is %s, want %s", tc.rgb, got, tc.want)
		}
		// Told as brightness and two differences of colour it is nearly the same.
		y := 255 * (0.299*r + 0.587*g + 0.114*b)
		r2, g2, b2 := OfYCbCr(y, 128+255*(b-y/255)/1.772, 128+255*(r-y/255)/1.402)
		if math.Abs(r-r2)+math.Abs(g-g2)+math.Abs(b-b2) > 0.001 {
			t.Errorf("#%06x comes back as %.3f %.3f %.3f", tc.rgb, r2, g2, b2)
		}
	}
	for range 2000 { // whatever is told has a word
		v := func() float64 { return rand.Float64()*4 - 2 }
		if c := ColourOf(v(), v(), v()); !slices.Contains(Colours, c) {
			t.Fatalf("%q", c)
		}
	}
}

func TestTraitsAreToldLittleByLittle(t *testing.T) {
	for _, tc := range []struct {
		name         string
		a, b, wanted Traits
	}{
		{"nothing and nothing", Traits{}, Traits{}, Traits{}},
		{"nothing more", Traits{Colour: Red, Plate: "AB", Speed: 2, Has: []Carried{Bag}}, Traits{}, Traits{Colour: Red, Plate: "AB", Speed: 2, Has: []Carried{Bag}}},
		{"the first", Traits{}, Traits{Lacks: []Carried{Hat}}, Traits{Lacks: []Carried{Hat}}},
		{"the last word", Traits{Colour: Red, Plate: "AB"}, Traits{Colour: Blue}, Traits{Colour: Blue, Plate: "AB"}},
		{"the greatest speed", Traits{Speed: 3}, Traits{Speed: 1}, Traits{Speed: 3}},
		{"it puts one on", Traits{Lacks: []Carried{Hat, FaceCover}}, Traits{Has: []Carried{FaceCover}}, Traits{Has: []Carried{FaceCover}, Lacks: []Carried{Hat}}},
		{"and takes it off", Traits{Has: []Carried{Bag, Hat}}, Traits{Lacks: []Carried{Bag}}, Traits{Has: []Carried{Hat}, Lacks: []Carried{Bag}}},
		{"in one order", Traits{Has: []Carried{Hat}}, Traits{Has: []Carried{Bag}}, Traits{Has: []Carried{Bag, Hat}}},
	} {
		if got := tc.a.Also(tc.b); !reflect.DeepEqual(got, tc.wanted) {
			t.Errorf("%s: %+v", tc.name, got)
		}
	}
}

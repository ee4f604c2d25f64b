package footage

import (
	"embed"
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
)

// px turns scene pixels into the normalised frame.
func px(x, y float64) scene.Point { return scene.Point{X: x/Width*2 - 1, Y: 1 - y/Height*2} }

// Slipway: a concrete slip runs down into the water; a boat lies off, a van stands
// by the shed. On a walk a person comes down the slip and crosses the seaward line.
var Slipway = Scene{
	Name: "slipway",
	Rules: []rule.Rule{
		{Name: "Seaward line", Kind: rule.Crosses, Direction: rule.Either, Line: scene.Line{px(300, 660), px(900, 430)}},
		{Name: "Slip apron", Kind: rule.Inside, Area: scene.Polygon{px(470, 700), px(600, 430), px(760, 430), px(820, 700)}},
	},
	ground: func(p *painter, t time.Duration) {
		p.rect(0xc8d5de, 0, 0, Width, 330)
		p.poly(0xb4c2cd, 0, 330, 0, 268, 240, 240, 520, 282, 760, 262, 1280, 300, 1280, 330)
		water(p, t, 320, 0x8ea8b8, 0xa5bcc9)
		p.poly(0x7d776c, 0, 450, 720, 400, 1130, 720, 0, 720)
		p.poly(0x8e887b, 0, 500, 640, 430, 900, 720, 0, 720)
		p.rect(0x5d6780, 40, 250, 250, 190)
		p.poly(0x4a536a, 20, 250, 165, 180, 310, 250)
		p.rect(0x39415a, 120, 330, 80, 110)
	},
	shapes: func(walk bool, t time.Duration) []Shape {
		out := []Shape{
			{ID: "boat", Class: "Boat", X: 960, Y: 372 + 3*wave(t, 3, 0), W: 230, H: 96, draw: boat},
			{ID: "van", Class: "Vehicle", X: 420, Y: 470, W: 190, H: 110, draw: van(0xe6e0d2)},
		}
		if walk && t > 500*time.Millisecond && t < 11*time.Second {
			x := between(t, 500*time.Millisecond, 11*time.Second, 330, 900)
			y := between(t, 500*time.Millisecond, 11*time.Second, 500, 640)
			out = append(out, Shape{ID: "person", Class: "Human", X: x, Y: y, W: 56, H: 150, Coat: 0x6d3b66, draw: person(0x6d3b66)})
		}
		return out
	},
}

// Berth1: a ramp between two bollards, the ferry's bow beyond it. On a walk a
// person crosses from right to left.
var Berth1 = Scene{
	Name: "berth1",
	Rules: []rule.Rule{
		{Name: "Ramp edge", Kind: rule.Crosses, Direction: rule.Either, Line: scene.Line{px(620, 420), px(700, 700)}},
		{Name: "Ramp", Kind: rule.Inside, Area: scene.Polygon{px(300, 700), px(420, 420), px(640, 420), px(680, 700)}},
	},
	ground: func(p *painter, t time.Duration) {
		p.rect(0xd5d3da, 0, 0, Width, 300)
		water(p, t, 290, 0x869fac, 0x9cb3bf)
		p.poly(0xe9e6df, 250, 380, 330, 110, 900, 110, 980, 380)
		p.poly(0x17685f, 250, 380, 980, 380, 940, 410, 290, 410)
		for i := range 5 {
			p.rect(0x4a566e, 400+90*float64(i), 170, 46, 34)
		}
		p.poly(0x75705f, 0, 440, 1280, 420, 1280, 720, 0, 720)
		p.poly(0x8b8674, 330, 400, 900, 400, 1040, 720, 200, 720)
		for i := range 6 {
			y := 430 + 50*float64(i)
			p.rect(0x9d9886, 520-20*float64(i), y, 210+44*float64(i), 6)
		}
		for _, x := range []float64{230, 1010} {
			p.rect(0xc9962f, x, 400, 36, 90)
			p.disc(0xc9962f, x+18, 400, 18)
		}
	},
	shapes: func(walk bool, t time.Duration) []Shape {
		out := []Shape{{ID: "van", Class: "Vehicle", X: 1110, Y: 640, W: 260, H: 150, draw: van(0x5f7f9a)}}
		if walk && t > 500*time.Millisecond && t < 11*time.Second {
			x := between(t, 500*time.Millisecond, 11*time.Second, 960, 330)
			out = append(out, Shape{ID: "person", Class: "Human", X: x, Y: 600, W: 62, H: 170, Coat: 0xa62540, draw: person(0xa62540)})
		}
		return out
	},
}

//go:embed clips
var clips embed.FS

// Coding is how a scene's pictures are coded.
type Coding struct {
	Codec string // "H264", "H265": as ONVIF Media2 names them
	Sub   bool   // the small picture
	Long  bool   // four seconds from key frame to key frame, not one
	Slow  bool   // a third of the frames
}

// Clip returns a scene's coded pictures: Annex B, c.Rate frames a second, no B-frames.
func (s Scene) Clip(walk bool, c Coding) ([]byte, error) {
	return clips.ReadFile("clips/" + s.ClipName(walk, c))
}

// Has says whether the program carries the scene so coded.
func (s Scene) Has(c Coding) bool {
	return slices.Contains(Codings(s), c)
}

// ClipName is the clip's file name.
func (s Scene) ClipName(walk bool, c Coding) string {
	act, size, light := "quiet", "main", ""
	if walk {
		act = "walk"
	}
	if c.Sub {
		size = "sub"
	}
	switch {
	case c.Long:
		size += "-long"
	case c.Slow:
		size += "-slow"
	}
	if s.Night {
		light = "-night"
	}
	return fmt.Sprintf("%s%s-%s-%s.%s", s.Name, light, act, size, strings.ToLower(c.Codec))
}

// Codings lists how a scene is coded: all as H.264, those of cameras that offer a choice
// also as H.265, with rarer key frames, or with a third of the frames.
func Codings(s Scene) []Coding {
	var out []Coding
	for _, sub := range []bool{false, true} {
		if s.Name != IcePlant.Name {
			out = append(out, Coding{Codec: "H264", Sub: sub})
		}
		if s.Name == Slipway.Name || s.Name == Berth1.Name {
			out = append(out, Coding{Codec: "H264", Sub: sub, Slow: true})
		}
		switch s.Name {
		case Slipway.Name:
			out = append(out, Coding{Codec: "H264", Sub: sub, Long: true}, Coding{Codec: "H265", Sub: sub}, Coding{Codec: "H265", Sub: sub, Long: true})
		case IcePlant.Name, FreightScale.Name:
			out = append(out, Coding{Codec: "H265", Sub: sub})
		}
	}
	return out
}

// LongGroup is how many frames a group of pictures has where key frames are rare.
const LongGroup = 4 * FPS

// SlowFPS is how many frames a second a clip has where they are few.
const SlowFPS = 5

// Rate is its frames a second.
func (c Coding) Rate() int {
	if c.Slow {
		return SlowFPS
	}
	return FPS
}

// Group is how many frames go from key frame to key frame.
func (c Coding) Group() int64 {
	if c.Long {
		return LongGroup
	}
	return int64(c.Rate())
}

// Size of a coded picture, in pixels.
func Size(sub bool) (w, h int) {
	if sub {
		return 640, 360
	}
	return Width, Height
}

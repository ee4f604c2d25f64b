// Package footage is the harbour that the stand-in cameras look at: drawn scenes
// with moving shapes. One description gives the stills, the clips and the tracks,
// so a crossing can be seen in the picture and is the one that the event tells of.
package footage

import (
	"cmp"
	"image"
	"image/color"
	"image/draw"
	"math"
	"slices"
	"time"

	"golang.org/x/image/vector"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
)

const (
	// Width and Height are the size scenes are described in, in pixels.
	Width, Height = 1280, 720
	// FPS is the clips' frame rate, Length their duration.
	FPS    = 15
	Length = 12 * time.Second
)

// Shape is one moving thing at one moment, in scene pixels, y down.
type Shape struct {
	ID    string
	Class string // ONVIF object class: "Human", "Vehicle", "Boat"
	X, Y  float64
	W, H  float64 // X, Y is the middle of the bottom edge
	Coat  uint32  // the colour that it has most of
	Score float64 // that ideal analytics give it; 0: 0.9
	Has   []scene.Carried
	draw  func(p *painter, s Shape, t time.Duration)
}

// Box is the shape in ONVIF's normalised frame, y up.
func (s Shape) Box() scene.Box {
	nx := func(x float64) float64 { return x/Width*2 - 1 }
	ny := func(y float64) float64 { return 1 - y/Height*2 }
	return scene.Box{Left: nx(s.X - s.W/2), Right: nx(s.X + s.W/2), Bottom: ny(s.Y), Top: ny(s.Y - s.H)}
}

// Scene is one view.
type Scene struct {
	Name  string // also the clips' file name
	Rules []rule.Rule
	// Night is how it is seen without daylight, by the light of the camera's own lamp.
	Night  bool
	heat   bool
	zoom   [2]float64 // left and top of what a digital zoom shows, half of each side; 0, 0: all
	shapes func(walk bool, t time.Duration) []Shape
	ground func(p *painter, t time.Duration)
}

// Observations lists what an ideal detector sees at t: everything that moves.
func (s Scene) Observations(walk bool, t time.Duration) []scene.Observation {
	var out []scene.Observation
	for _, sh := range s.shapes(walk, t) {
		if sh.Class == "Boat" {
			continue // it never leaves its berth
		}
		out = append(out, scene.Observation{Object: sh.ID, Class: sh.Class, Score: cmp.Or(sh.Score, 0.9), At: t, Box: sh.Box(), Traits: scene.Traits{Has: sh.Has}})
	}
	return out
}

// Moving lists what a detector sees that knows its background: who comes on a walk, not what stands there.
func (s Scene) Moving(walk bool, t time.Duration) []scene.Observation {
	there := s.Observations(false, t)
	return slices.DeleteFunc(s.Observations(walk, t), func(o scene.Observation) bool {
		return slices.ContainsFunc(there, func(x scene.Observation) bool { return x.Object == o.Object })
	})
}

// Coat is the colour that an object of a walk has most of; heat has none.
func (s Scene) Coat(object string) (rgb uint32, ok bool) {
	for _, sh := range s.shapes(true, Length/2) {
		if sh.ID == object && !s.heat {
			return sh.Coat, true
		}
	}
	return 0, false
}

// AsHeat is the scene as a heat camera sees it.
func (s Scene) AsHeat() Scene {
	s.Name, s.heat = s.Name+"heat", true
	return s
}

// Zoomed is a digital zoom into the scene: half of each side, from a spot on.
func (s Scene) Zoomed(left, top float64) Scene {
	s.Name, s.zoom = s.Name+"zoom", [2]float64{left, top}
	return s
}

// Draw paints the scene at t, scaled to w × h pixels.
func (s Scene) Draw(walk bool, t time.Duration, w, h int) *image.RGBA {
	return s.DrawLook(walk, t, w, h, Look{})
}

type painter struct {
	img         *image.RGBA
	sx, sy      float64
	left, top   float64 // scene pixels at the picture's corner
	night, heat bool
	warm        bool // what is painted is warmer than its surroundings
}

// tone is a colour as the camera sees it: by night in greys, darker towards the top; by heat
// from violet to yellow.
func (p *painter) tone(v uint32, y float64) color.RGBA {
	c := rgb(v)
	light := 0.3*float64(c.R) + 0.59*float64(c.G) + 0.11*float64(c.B)
	switch {
	case p.heat && p.warm:
		return color.RGBA{250, uint8(170 + light/4), uint8(40 + light/4), 255}
	case p.heat:
		return color.RGBA{uint8(30 + light*0.42), uint8(10 + light*0.18), uint8(70 + light*0.28), 255}
	case p.night:
		g := uint8(light * (0.28 + 0.42*max(0, min(1, y/Height))))
		return color.RGBA{g, g, g + g/12, 255}
	}
	return c
}

func rgb(v uint32) color.RGBA {
	return color.RGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 255}
}

// poly fills a polygon given as x, y pairs in scene pixels. Only the part of the
// picture that it covers is rasterised.
func (p *painter) poly(c uint32, xy ...float64) {
	at := make([]float64, 0, len(xy))
	for i := 0; i+1 < len(xy); i += 2 {
		at = append(at, (xy[i]-p.left)*p.sx, (xy[i+1]-p.top)*p.sy)
	}
	b := p.img.Bounds()
	at = clip(at, float64(b.Dx()), float64(b.Dy()))
	if len(at) < 6 {
		return
	}
	lowX, lowY, highX, highY := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for i := 0; i < len(at); i += 2 {
		lowX, highX, lowY, highY = min(lowX, at[i]), max(highX, at[i]), min(lowY, at[i+1]), max(highY, at[i+1])
	}
	part := image.Rect(int(math.Floor(lowX)), int(math.Floor(lowY)), int(math.Ceil(highX)), int(math.Ceil(highY)))
	if part.Empty() {
		return
	}
	r := vector.NewRasterizer(part.Dx(), part.Dy())
	for i := 0; i < len(at); i += 2 {
		x, y := float32(at[i])-float32(part.Min.X), float32(at[i+1])-float32(part.Min.Y)
		if i == 0 {
			r.MoveTo(x, y)
		} else {
			r.LineTo(x, y)
		}
	}
	r.ClosePath()
	r.Draw(p.img, part, image.NewUniform(p.tone(c, xy[1])), image.Point{})
}

// rect fills an upright rectangle; where it is of a few pixels its edges are smoothed.
func (p *painter) rect(c uint32, x, y, w, h float64) {
	const few = 6
	if w*p.sx < few || h*p.sy < few {
		p.poly(c, x, y, x+w, y, x+w, y+h, x, y+h)
		return
	}
	at := func(v, from, scale float64) int { return int(math.Round((v - from) * scale)) }
	r := image.Rect(at(x, p.left, p.sx), at(y, p.top, p.sy), at(x+w, p.left, p.sx), at(y+h, p.top, p.sy))
	draw.Draw(p.img, r, image.NewUniform(p.tone(c, y)), image.Point{}, draw.Src)
}

func (p *painter) disc(c uint32, x, y, radius float64) {
	var xy []float64
	for i := range 20 {
		a := float64(i) / 20 * 2 * math.Pi
		xy = append(xy, x+radius*math.Cos(a), y+radius*math.Sin(a))
	}
	p.poly(c, xy...)
}

// wave runs once round in a clip, so that a loop has no seam.
func wave(t time.Duration, times, phase float64) float64 {
	return math.Sin(2*math.Pi*(times*t.Seconds()/Length.Seconds()) + phase)
}

func water(p *painter, t time.Duration, top float64, base, ripple uint32) {
	p.rect(base, 0, top, Width, Height-top)
	for i := range 14 {
		f := float64(i)
		y := top + 18 + f*f*2.1
		x := math.Mod(f*197, Width-220) + 30*wave(t, 2, f)
		p.rect(ripple, x, y, 120+8*f, 2.5+f/6)
	}
}

func boat(p *painter, s Shape, _ time.Duration) {
	x, y, w, h := s.X-s.W/2, s.Y, s.W, s.H
	p.poly(0x46506a, x, y-h*0.4, x+w, y-h*0.4, x+w*0.92, y, x+w*0.08, y)
	p.rect(0xe8e3d8, x+w*0.3, y-h*0.75, w*0.35, h*0.36)
	p.rect(0x8a4f07, x+w*0.36, y-h, w*0.06, h*0.26)
	for i := range 3 {
		p.rect(0x46506a, x+w*(0.34+0.1*float64(i)), y-h*0.66, w*0.05, h*0.12)
	}
}

func person(coat uint32) func(p *painter, s Shape, t time.Duration) {
	return func(p *painter, s Shape, t time.Duration) {
		step := math.Sin(t.Seconds() * 9)
		leg := s.H * 0.42
		for _, side := range []float64{-1, 1} {
			foot := s.X + side*step*s.W*0.3
			p.poly(0x2a3146, s.X+side*s.W*0.05-s.W*0.13, s.Y-leg, s.X+side*s.W*0.05+s.W*0.13, s.Y-leg, foot+s.W*0.14,
				s.Y, foot-s.W*0.14, s.Y)
		}
		p.rect(coat, s.X-s.W*0.3, s.Y-s.H*0.82, s.W*0.6, s.H*0.45)
		p.poly(coat, s.X-s.W*0.3, s.Y-s.H*0.8, s.X-s.W*0.12, s.Y-s.H*0.8, s.X-s.W*(0.2+0.3*step), s.Y-s.H*0.45,
			s.X-s.W*(0.38+0.3*step), s.Y-s.H*0.45)
		p.disc(0xd9b08c, s.X, s.Y-s.H*0.9, s.H*0.09)
		if slices.Contains(s.Has, scene.Hat) {
			p.rect(0x1c2333, s.X-s.H*0.13, s.Y-s.H*0.95, s.H*0.26, s.H*0.025)
			p.rect(0x1c2333, s.X-s.H*0.08, s.Y-s.H, s.H*0.16, s.H*0.06)
		}
		if slices.Contains(s.Has, scene.Bag) {
			p.rect(0x8a4f07, s.X+s.W*0.2, s.Y-s.H*0.45, s.W*0.55, s.H*0.2)
		}
	}
}

func van(body uint32) func(p *painter, s Shape, t time.Duration) {
	return func(p *painter, s Shape, _ time.Duration) {
		x, y, w, h := s.X-s.W/2, s.Y, s.W, s.H
		p.rect(body, x, y-h*0.95, w*0.68, h*0.8)
		p.poly(body, x+w*0.66, y-h*0.8, x+w*0.86, y-h*0.78, x+w, y-h*0.45, x+w, y-h*0.15, x+w*0.66, y-h*0.15)
		p.poly(0xb9d3dd, x+w*0.71, y-h*0.7, x+w*0.84, y-h*0.7, x+w*0.92, y-h*0.46, x+w*0.71, y-h*0.46)
		p.disc(0x222838, x+w*0.2, y-h*0.12, h*0.14)
		p.disc(0x222838, x+w*0.8, y-h*0.12, h*0.14)
	}
}

// between moves from a to b while t runs from start to end.
func between(t, start, end time.Duration, a, b float64) float64 {
	f := float64(t-start) / float64(end-start)
	return a + math.Max(0, math.Min(1, f))*(b-a)
}

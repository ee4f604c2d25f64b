package footage

import (
	"math"
	"time"

	"duskyharbor/internal/core/scene"
)

// from has an actor be there for a part of the walk alone.
func (a actor) from(begins, ends time.Duration) actor {
	a.begins, a.ends = begins, ends
	return a
}

// called gives it a name of its own among others of its class.
func (a actor) called(id string) actor {
	a.id = id
	return a
}

// with says what it carries or wears.
func (a actor) with(has ...scene.Carried) actor {
	a.has = has
	return a
}

// lorry drives by: longer and higher than a van.
func lorry(body uint32, x0, y0, x1, y1, w float64) actor {
	return actor{id: "lorry", class: "Vehicle", x0: x0, y0: y0, x1: x1, y1: y1, w: w, h: w * 0.45, coat: body, draw: func(p *painter, s Shape, _ time.Duration) {
		x, y, w, h := s.X-s.W/2, s.Y, s.W, s.H
		p.rect(body, x, y-h, w*0.72, h*0.82)
		p.rect(0xe6e0d2, x+w*0.74, y-h*0.8, w*0.26, h*0.62)
		p.rect(0xb9d3dd, x+w*0.86, y-h*0.72, w*0.12, h*0.24)
		for _, at := range []float64{0.12, 0.28, 0.62, 0.88} {
			p.disc(0x222838, x+w*at, y-h*0.12, h*0.13)
		}
	}}
}

// gull flies through, its wings going.
func gull(x0, y0, x1, y1, w float64) actor {
	return actor{id: "gull", class: "Animal", x0: x0, y0: y0, x1: x1, y1: y1, w: w, h: w * 0.5, coat: 0xeceef2, draw: func(p *painter, s Shape, t time.Duration) {
		beat := math.Sin(t.Seconds()*14) * s.H * 0.45
		mid := s.Y - s.H/2
		p.poly(0xeceef2, s.X-s.W/2, mid-beat, s.X, mid+s.H*0.1, s.X+s.W/2, mid-beat, s.X, mid+s.H*0.3)
		p.disc(0xeceef2, s.X, mid+s.H*0.15, s.H*0.16)
	}}
}

// luggage stands where it was set down.
func luggage(colour uint32, x, y, w float64) actor {
	return actor{id: "case", class: "Other", x0: x, y0: y, x1: x, y1: y, w: w, h: w * 0.7, coat: colour, draw: func(p *painter, s Shape, _ time.Duration) {
		p.rect(colour, s.X-s.W/2, s.Y-s.H*0.85, s.W, s.H*0.85)
		p.rect(0x2a3146, s.X-s.W*0.15, s.Y-s.H, s.W*0.3, s.H*0.15)
	}}
}

// shadow of something is taken for someone by weak analytics: they say so with a low score.
func shadow(x0, y0, x1, y1, w float64) actor {
	return actor{id: "shadow", class: "Human", score: 0.4, x0: x0, y0: y0, x1: x1, y1: y1, w: w, h: w * 0.16, coat: 0x4b463b, draw: func(p *painter, s Shape, _ time.Duration) {
		p.poly(0x5f5a4c, s.X-s.W/2, s.Y-s.H/2, s.X-s.W*0.2, s.Y-s.H, s.X+s.W*0.3, s.Y-s.H, s.X+s.W/2, s.Y-s.H*0.4, s.X+s.W*0.2, s.Y, s.X-s.W*0.3, s.Y)
	}}
}

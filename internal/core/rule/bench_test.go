package rule

import (
	"math/rand/v2"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
)

// million is a million points: 2,000 objects that wander, ten points a second.
func million() []scene.Track {
	r := rand.New(rand.NewPCG(1, 1))
	out := make([]scene.Track, 2000)
	for i := range out {
		out[i] = scene.Track{ID: string(rune(i)), Class: "Human", Points: make([]scene.TrackPoint, 500)}
		x, y, at := r.Float64()*2-1, r.Float64()*2-1, time.Duration(i)*time.Second
		for j := range out[i].Points {
			x, y = max(-1, min(1, x+0.02*(r.Float64()-0.5))), max(-1, min(1, y+0.02*(r.Float64()-0.5)))
			out[i].Points[j] = scene.TrackPoint{At: at + time.Duration(j)*100*time.Millisecond, Score: 0.9,
				Box: scene.Box{Left: x - 0.05, Right: x + 0.05, Bottom: y, Top: y + 0.2}}
		}
	}
	return out
}

// BenchmarkBare is the bound of BenchmarkRehearse: a loop over the same memory that works out each anchor.
func BenchmarkBare(b *testing.B) {
	tracks := million()
	n := 0
	for b.Loop() {
		for i := range tracks {
			for j := range tracks[i].Points {
				if a := tracks[i].Points[j].Box.Anchor(); a.X > 0 && a.Y > 0 {
					n++
				}
			}
		}
	}
	if n == 0 {
		b.Fatal("nothing is there")
	}
}

// BenchmarkRehearse rehearses rules over a million points.
func BenchmarkRehearse(b *testing.B) {
	tracks := million()
	area := scene.Polygon{{X: -0.5, Y: -0.5}, {X: 0.5, Y: -0.5}, {X: 0.6, Y: 0.2}, {X: 0, Y: 0.5}, {X: -0.5, Y: 0.3}}
	for name, r := range map[string]Rule{"crosses": {Kind: Crosses, Line: scene.Line{{X: -0.8, Y: 0}, {X: 0.8, Y: 0.1}}}, "comes-into": {Kind: ComesInto, Area: area},
		"stays": {Kind: Stays, Area: area, For: 8 * time.Second}} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if len(Rehearse(r, tracks, Span{})) == 0 {
					b.Fatal("nothing fires")
				}
			}
		})
	}
}

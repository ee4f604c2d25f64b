package gather

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/footage"
)

// How boxes sit is found in the pictures of the drawn scenes, whenever in a walk it is begun to look, though someone who goes
// at one pace tells little of how late they are.
func TestHowBoxesSitInDrawnScenes(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(24, 3))
	for _, of := range []footage.Scene{footage.Slipway, footage.Berth1} {
		for _, late := range []time.Duration{0, 800 * time.Millisecond} {
			shift := scene.Point{X: 0.3 * (r.Float64() - 0.5), Y: 0.2 * (r.Float64() - 0.5)}
			at := func(now time.Duration) (bool, time.Duration) {
				walk := now >= 0 && now < footage.Length
				return walk, (now + footage.Length) % footage.Length
			}
			var all []scene.Glimpse
			begin := 500*time.Millisecond + late + time.Duration(r.IntN(600))*time.Millisecond
			for now := begin; now < begin+glanceFor; now += glanceEvery + time.Duration(r.IntN(30))*time.Millisecond {
				walk, when := at(now)
				all = append(all, scene.Glimpse{At: now, Grey: grey(of.Draw(walk, when, 320, 180))})
			}
			var told []scene.Moment
			for now := begin - 400*time.Millisecond; now < begin+glanceFor+boxesAfter; now += 200 * time.Millisecond {
				m := scene.Moment{At: now}
				walk, when := at(now - late)
				for _, o := range of.Moving(walk, when) {
					o.Box.Left, o.Box.Right, o.Box.Bottom, o.Box.Top = o.Box.Left+shift.X, o.Box.Right+shift.X, o.Box.Bottom+shift.Y, o.Box.Top+shift.Y
					m.Boxes = append(m.Boxes, o.Box)
				}
				told = append(told, m)
			}
			got, ok := scene.Sit(all, told)
			// Where how late they are can be told to half a second, so can how far beside.
			sure := got.Most-got.Least <= 500*time.Millisecond
			near := math.Abs(got.Right-shift.X/2) < 0.02 && math.Abs(got.Up-shift.Y/2) < 0.02
			if !ok || sure && !near || got.Least-100*time.Millisecond > late || got.Most+100*time.Millisecond < late || got.Beside > math.Hypot(shift.X, shift.Y)/2+0.01 {
				t.Errorf("%s, boxes %.3f %.3f beside and %v late: %+v, %t", of.Name, shift.X/2, shift.Y/2, late, got, ok)
			}
		}
	}
}

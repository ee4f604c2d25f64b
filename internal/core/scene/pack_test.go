package scene

import (
	"errors"
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

func TestTracksComeBackPacked(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 1))
	for range 500 {
		var all []TrackPoint
		at := time.Duration(r.Int64N(2e18))
		for range r.IntN(200) {
			at += time.Duration(r.IntN(3000)) * time.Millisecond
			x, y := r.Float64()*1.5-1, r.Float64()*1.5-1
			all = append(all, TrackPoint{at, Box{x, y, x + 0.5*r.Float64(), y + 0.5*r.Float64()}, r.Float64()})
		}
		got, err := Unpack(nil, Pack(all))
		if err != nil || len(got) != len(all) {
			t.Fatalf("%d points come back as %d: %v", len(all), len(got), err)
		}
		for i, p := range got {
			w := all[i]
			off := max(math.Abs(p.Box.Left-w.Box.Left), math.Abs(p.Box.Right-w.Box.Right), math.Abs(p.Box.Top-w.Box.Top), math.Abs(p.Box.Bottom-w.Box.Bottom))
			if (p.At-w.At).Abs() >= time.Millisecond || off > 2.0/60000 || math.Abs(p.Score-w.Score) > 1.0/255 {
				t.Fatalf("%+v comes back as %+v", w, p)
			}
		}
	}
	for name, bad := range map[string][]byte{"nothing": nil, "another version": {2}, "cut": Pack([]TrackPoint{{At: 1}})[:8], "no time": {1, 0x80}} {
		if got, err := Unpack(nil, bad); !errors.Is(err, ErrPacked) {
			t.Errorf("%s: %v %v", name, got, err)
		}
	}
	if got, err := Unpack([]TrackPoint{{At: 5}}, Pack(nil)); err != nil || len(got) != 1 {
		t.Errorf("none is added: %v %v", got, err)
	}
}

// Whatever bytes there are, what is read of them lies in the frame.
func FuzzUnpack(f *testing.F) {
	f.Add(Pack([]TrackPoint{{At: time.Hour, Box: Box{-1, -1, 1, 1}, Score: 0.5}, {At: 2 * time.Hour}}))
	f.Fuzz(func(t *testing.T, data []byte) {
		all, err := Unpack(nil, data)
		if err != nil {
			return
		}
		for _, p := range all {
			if p.Score < 0 || p.Score > 1 || !(Point{p.Box.Left, p.Box.Top}).Valid() || !(Point{p.Box.Right, p.Box.Bottom}).Valid() {
				t.Fatalf("%+v", p)
			}
		}
	})
}

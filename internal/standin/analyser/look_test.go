package analyser

import (
	"bytes"
	"image/jpeg"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/footage"
)

// over is how much of two boxes' area both have, of what either has.
func over(a, b scene.Box) float64 {
	w, h := min(a.Right, b.Right)-max(a.Left, b.Left), min(a.Top, b.Top)-max(a.Bottom, b.Bottom)
	if w <= 0 || h <= 0 {
		return 0
	}
	return w * h / (a.Area() + b.Area() - w*h)
}

// Who walks through the mess is seen where they are drawn, as one and the same, by day and by night; nothing is seen while nobody does.
func TestWhoWalksIsSeen(t *testing.T) {
	t.Parallel()
	for _, night := range []bool{false, true} {
		sc := footage.CrewMess
		sc.Night = night
		var l look
		var tr tracker
		at, there, seenThere, idle, ids := time.Unix(1000, 0), 0, 0, 0, map[string]bool{}
		var pictures [][]byte
		for _, walk := range []bool{false, true} {
			for d := time.Duration(0); d < footage.Length; d += 500 * time.Millisecond {
				at = at.Add(500 * time.Millisecond)
				img := sc.DrawLook(walk, d, 640, 360, footage.Look{})
				seen, _ := tr.follow(at, l.at(img), 0.3)
				for _, p := range tr.pictures(img, seen) {
					pictures = append(pictures, p)
				}
				is := sc.Moving(walk, d)
				if len(is) == 0 {
					idle += len(seen)
					continue
				}
				there++
				for _, o := range seen {
					if over(o.Box, is[0].Box) > 0.5 && o.Class == is[0].Class {
						seenThere++
						ids[o.Object] = true
					}
				}
			}
		}
		if there < 15 || seenThere < there*2/3 || idle > 0 || len(ids) != 1 {
			t.Errorf("night %v: seen %d of %d times, as %d, and %d times while nobody was there", night, seenThere, there, len(ids), idle)
		}
		// A picture is told again only where it shows them clearly better.
		if n := len(pictures); n < 1 || n > 8 {
			t.Errorf("night %v: %d pictures of them", night, n)
		}
		for _, p := range pictures {
			if size, err := jpeg.DecodeConfig(bytes.NewReader(p)); err != nil || size.Height < 20 || size.Width > 300 {
				t.Errorf("night %v: a picture of %d × %d, %v", night, size.Width, size.Height, err)
			}
		}
	}
}

// What moves on the water is taken for something that isn't there: false hits come by themselves, and a least score keeps some away.
func TestWavesAreTakenForSomething(t *testing.T) {
	t.Parallel()
	var l look
	var tr tracker
	all, sure := 0, 0
	for i := range 48 {
		d := time.Duration(i) * 250 * time.Millisecond
		seen, _ := tr.follow(time.Unix(0, 0).Add(d), l.at(footage.Slipway.DrawLook(false, d, 640, 360, footage.Look{})), 0)
		for _, o := range seen {
			all++
			if o.Score >= 0.5 {
				sure++
			}
		}
	}
	if all == 0 || sure >= all {
		t.Errorf("%d false ones, %d of them surely", all, sure)
	}
}

func TestWhenTheLightChangesNothingIsSeen(t *testing.T) {
	t.Parallel()
	var l look
	night := footage.CrewMess
	night.Night = true
	for i, sc := range []footage.Scene{footage.CrewMess, footage.CrewMess, night, night, night} {
		if seen := l.at(sc.DrawLook(false, 0, 320, 180, footage.Look{})); len(seen) > 0 {
			t.Errorf("picture %d: %+v", i, seen)
		}
	}
}

func TestAnObjectIsGoneOnceItIsLost(t *testing.T) {
	t.Parallel()
	box := func(x float64) scene.Box { return scene.Box{Left: x, Right: x + 0.1, Bottom: -0.5, Top: 0} }
	at := func(s float64) time.Time { return time.Unix(0, 0).Add(time.Duration(s * float64(time.Second))) }
	var tr tracker
	follow := func(s float64, all ...seen) ([]scene.Observation, []string) { return tr.follow(at(s), all, 0.3) }
	first, _ := follow(0, seen{box(0), "Human", 0.8}, seen{box(0.6), "Vehicle", 0.8})
	next, gone := follow(1, seen{box(0.65), "Vehicle", 0.8}, seen{box(0.1), "Human", 0.8})
	if len(first) != 2 || len(next) != 2 || len(gone) != 0 || next[0].Object != first[1].Object || next[1].Object != first[0].Object {
		t.Fatalf("they changed places: %+v, then %+v", first, next)
	}
	if seen, _ := follow(1.5, seen{box(0.1), "Human", 0.29}); len(seen) != 0 {
		t.Errorf("told though it isn't sure enough: %+v", seen)
	}
	if _, gone := follow(3.6); len(gone) != 1 || gone[0] != first[1].Object {
		t.Errorf("gone after more than 2.5 s: %v", gone)
	}
	if _, gone := follow(4.1); len(gone) != 1 || gone[0] != first[0].Object {
		t.Errorf("gone after all: %v", gone)
	}
}

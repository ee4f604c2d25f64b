package analyser

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/footage"
)

// crops are the pictures that are cut of who walks through a scene.
func crops(t *testing.T, sc footage.Scene) (out []image.Image) {
	t.Helper()
	var l look
	var tr tracker
	at := time.Unix(1000, 0)
	for _, walk := range []bool{false, true} {
		for d := time.Duration(0); d < footage.Length; d += 500 * time.Millisecond {
			at = at.Add(500 * time.Millisecond)
			img := sc.DrawLook(walk, d, 640, 360, footage.Look{})
			seen, _ := tr.follow(at, l.at(img), 0.3)
			for _, o := range seen {
				if o.Class != "Human" || !inside(o.Box) {
					continue
				}
				part, err := jpeg.Decode(bytes.NewReader(cut(img, o.Box)))
				if err != nil {
					t.Fatal(err)
				}
				out = append(out, part)
			}
		}
	}
	return out
}

// Who walks is liker to themselves than to somebody else, as the pictures are.
func TestWhoWalksIsLikeThemselves(t *testing.T) {
	t.Parallel()
	one, two := crops(t, footage.CrewMess), crops(t, footage.Slipway)
	if len(one) < 2 || len(two) < 1 {
		t.Fatalf("%d and %d pictures", len(one), len(two))
	}
	least, most := 1.0, 0.0 // to the likest of their own, and of the other's
	for i, a := range one {
		own := 0.0
		for k, b := range one {
			if k != i {
				own = max(own, alike(remembers(a), remembers(b)))
			}
		}
		least = min(least, own)
		for _, b := range two {
			most = max(most, alike(remembers(a), remembers(b)))
		}
	}
	if least < 0.85 || most > 0.8 || least >= 1 || most < 0.4 {
		t.Errorf("own ones are like by %.2f at the least, others by %.2f at the most", least, most)
	}
}

// Who is seen is held to be the likest that it holds references of, by each set as it says.
func TestWhoIsSeenIsHeldAgainstSets(t *testing.T) {
	t.Parallel()
	one, two := crops(t, footage.CrewMess), crops(t, footage.Slipway)
	held := func(id int64, from ...image.Image) entry {
		e := entry{ID: id, Name: "Name"}
		for i, img := range from {
			e.Pictures = append(e.Pictures, reference{ID: int64(i), Looks: remembers(img)})
		}
		return e
	}
	m := memory{Sets: []set{
		{ID: "1", Kind: "face", Least: 0.8, Nearly: 0.5, Close: true, Unknown: true, Entries: []entry{held(7, one[0], one[len(one)/2]), held(8, two[0])}},
		{ID: "2", Kind: "face", Least: 0.99, Nearly: 0.5, Close: true, Entries: []entry{held(9, two[0])}},
		{ID: "3", Kind: "face", Least: 0.99, Nearly: 0.98, Unknown: true, Entries: []entry{held(9, two[0])}},
		{ID: "4", Kind: "face", Least: 0.99, Nearly: 0.98},
		{ID: "5", Kind: "vehicle", Least: 0.1, Unknown: true, Entries: []entry{held(9, one[0])}},
		{ID: "6", Kind: "thing", Least: 0.1, Entries: []entry{held(9, one[0])}},
	}}
	got := m.hold("Human", one[1])
	says := ""
	for _, k := range got {
		says += fmt.Sprint(k.Set, " ", k.As, " ", k.Entry, ", ")
		if k.Score <= 0 || k.Score > 1 {
			t.Errorf("a score of %g", k.Score)
		}
	}
	if says != "1 known 7, 2 nearly known 9, 3 unknown 0, 6 known 9, " {
		t.Error(says)
	}
}

// What stands outside of the area that is looked at isn't told.
func TestWhatStandsOutsideIsntTold(t *testing.T) {
	t.Parallel()
	lower := corners{{0, 50}, {100, 50}, {100, 100}, {0, 100}}
	box := func(bottom float64) scene.Box {
		return scene.Box{Left: -0.1, Right: 0.1, Bottom: bottom, Top: bottom + 0.4}
	}
	for _, tc := range []struct {
		area   corners
		bottom float64
		want   bool
	}{{nil, 0.5, true}, {lower, -0.5, true}, {lower, 0.1, false}, {lower, -0.01, true}} {
		if got := tc.area.holds(box(tc.bottom)); got != tc.want {
			t.Errorf("%+v: %v", tc, got)
		}
	}
}

package footage

import (
	"bytes"
	"image/png"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
)

// The person that a walk draws crosses the scene's line once, and nothing does
// when nobody walks.
func TestAWalkCrossesOnce(t *testing.T) {
	for _, s := range []Scene{Slipway, Berth1, BondedStore} {
		for _, walk := range []bool{true, false} {
			var seen []scene.Observation
			for at := time.Duration(0); at < Length; at += time.Second / FPS {
				seen = append(seen, s.Observations(walk, at)...)
			}
			for _, r := range s.Rules {
				if err := r.Check(); err != nil {
					t.Errorf("%s, %s: %v", s.Name, r.Name, err)
				}
				want := 0
				if walk && r.Kind == rule.Crosses {
					want = 1
				} else if walk {
					want = 2
				}
				if hits := rule.Rehearse(r, scene.Tracks(seen), rule.Span{}); len(hits) != want {
					t.Errorf("%s, walk %v, %s: %d hits, want %d", s.Name, walk, r.Name, len(hits), want)
				}
			}
		}
	}
}

// Each coding of each scene is in the program, by day and by night, begins with a parameter
// set, and all of them together aren't more than a program may carry.
func TestEveryClipBeginsWithAParameterSet(t *testing.T) {
	size, names := 0, map[string]bool{}
	for _, s := range All() {
		for _, s.Night = range []bool{true, false} {
			for _, walk := range []bool{true, false} {
				for _, c := range Codings(s) {
					data, err := s.Clip(walk, c)
					begin := []byte{0, 0, 0, 1, 0x67}
					if c.Codec == "H265" {
						begin = []byte{0, 0, 0, 1, 0x40, 0x01}
					}
					if err != nil || !bytes.HasPrefix(data, begin) {
						t.Errorf("%s: %v, %d bytes", s.ClipName(walk, c), err, len(data))
					}
					if name := s.ClipName(walk, c); names[name] {
						t.Errorf("%s stands for two", name)
					} else {
						names[name] = true
					}
					size += len(data)
				}
			}
		}
	}
	if size > 13<<20 {
		t.Errorf("the clips are %d MB", size>>20)
	}
}

func TestDrawMovesThePerson(t *testing.T) {
	a, b := Slipway.Draw(true, 3*time.Second, 320, 180), Slipway.Draw(true, 6*time.Second, 320, 180)
	if bytes.Equal(a.Pix, b.Pix) {
		t.Error("three seconds change nothing in the picture")
	}
	if dir := os.Getenv("SCENERY_DIR"); dir != "" {
		for _, s := range []Scene{Slipway, Berth1} {
			var buf bytes.Buffer
			if err := png.Encode(&buf, s.Draw(true, 5*time.Second, 640, 360)); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(dir+"/"+s.Name+".png", buf.Bytes(), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// However a camera looks at a scene it is drawn whole: no part is left unpainted.
func TestEveryLookIsDrawn(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for i := range 150 {
		s := []Scene{Slipway, TicketHall, BondedStore}[i%3]
		l := Look{Pan: r.Float64() - 0.5, Tilt: r.Float64() - 0.5, Zoom: 1 + 3*r.Float64(), Gain: r.Float64() * 2, Blur: r.IntN(30),
			Masks: []scene.Polygon{{px(r.Float64()*Width, 10), px(900, r.Float64()*Height), px(20, 700)}}, Texts: []Text{{Words: "Slipway", Right: i%2 == 0, Low: i%4 < 2}}}
		img := s.DrawLook(true, time.Duration(i)*50*time.Millisecond, 160, 90, l)
		for k := 3; k < len(img.Pix); k += 4 {
			if img.Pix[k] != 255 {
				t.Fatalf("%s through %+v: unpainted at %d, %d", s.Name, l, k/4%160, k/4/160)
			}
		}
	}
}

func BenchmarkDraw(b *testing.B) {
	for b.Loop() {
		Slipway.Draw(true, 3*time.Second, Width, Height)
	}
}

package coder

import (
	"bytes"
	"image"
	"image/color"
	"math/rand/v2"
	"testing"
)

// drawing is a picture of flat shapes, another for each seed.
func drawing(w, h int, seed uint64) *image.RGBA {
	r := rand.New(rand.NewPCG(seed, 1))
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for range 12 {
		c := color.RGBA{byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256)), 255}
		x, y := r.IntN(w), r.IntN(h)
		for j := y; j < min(h, y+r.IntN(h)+8); j++ {
			for i := x; i < min(w, x+w/3); i++ {
				img.SetRGBA(i, j, c)
			}
		}
	}
	return img
}

// worst is how far the coded picture is from the drawn one.
func (c *Coder) worst() (w int) {
	for y := range c.rows {
		for x := range c.cols {
			w = max(w, c.apart(x, y, c.now))
		}
	}
	return w
}

func TestWhatIsCodedIsWhatIsDrawn(t *testing.T) {
	for _, size := range [][2]int{{640, 360}, {64, 48}, {32, 18}} {
		c := New(size[0], size[1])
		for i := range 20 {
			img := drawing(size[0], size[1], uint64(i/2))
			var nals [][]byte
			switch {
			case i%10 == 0:
				nals = c.Key(img, 1<<30)
			case i%3 == 0:
				before := append([]byte(nil), c.now.y...)
				if nals = c.Same(); !bytes.Equal(before, c.now.y) {
					t.Fatal("a picture that stays changed")
				}
				if len(nals[0]) > 16 {
					t.Fatalf("that a picture stays takes %d bytes", len(nals[0]))
				}
				continue
			default:
				nals = c.Next(img, 1<<30)
			}
			if w := c.worst(); w > most {
				t.Fatalf("%v, picture %d: coded %d from what is drawn", size, i, w)
			}
			for _, n := range nals {
				for k := 2; k < len(n); k++ {
					if n[k-2] == 0 && n[k-1] == 0 && n[k] < 3 {
						t.Fatalf("%v, picture %d: a start code shows at %d", size, i, k)
					}
				}
			}
		}
	}
}

// What doesn't fit into its bytes is coarser, and the rest follows.
func TestWhatDoesNotFitFollows(t *testing.T) {
	c, img := New(640, 360), drawing(640, 360, 7)
	whole := 0
	for _, n := range c.Key(img, 1<<30) {
		whole += len(n)
	}
	if got := len(c.Key(img, whole/3)[2]); got > whole/3+whole/20 {
		t.Errorf("%d bytes where a third of %d may be", got, whole)
	}
	coarse := c.worst()
	if coarse <= most {
		t.Fatal("a third of the bytes does as well")
	}
	for range 8 {
		c.Next(img, whole/3)
	}
	if w := c.worst(); w > coarse/2 {
		t.Errorf("after eight more pictures it is %d from what is drawn; it was %d", w, coarse)
	}
}

func TestExpGolomb(t *testing.T) {
	b := &bitWriter{}
	for _, v := range []int{0, 1, 2, 3, 7} { // 1 010 011 00100 0001000
		b.ue(v)
	}
	b.se(1)  // 010
	b.se(-1) // 011
	if want := []byte{0b10100110, 0b01000001, 0b00001001, 0b10000000}; !bytes.Equal(b.out, want) {
		t.Errorf("%08b, want %08b", b.out, want)
	}
}

package analyser

import (
	"bytes"
	"image"
	"image/draw"
	"image/jpeg"

	"duskyharbor/internal/core/scene"
)

// clearer is how much better a picture of an object has to show it than the one that was told before.
const clearer = 1.3

// margin is how much of a thing's size is cut out around it as well.
const margin = 0.06

// pictures cuts out of a still what is seen in it better than in those of before, by object.
func (t *tracker) pictures(img image.Image, seen []scene.Observation) map[string][]byte {
	var out map[string][]byte
	for _, of := range t.tracks {
		for _, o := range seen {
			shows := o.Box.Area() * o.Score
			if o.Object != of.id || shows <= clearer*of.shown || !inside(o.Box) {
				continue
			}
			data := cut(img, o.Box)
			if data == nil {
				continue
			}
			if out == nil {
				out = map[string][]byte{}
			}
			of.shown, out[o.Object] = shows, data
		}
	}
	return out
}

// inside says whether a thing is all in the picture.
func inside(b scene.Box) bool { return b.Left > -1 && b.Right < 1 && b.Bottom > -1 && b.Top < 1 }

// partOf is the part of a picture that a box bounds, with a margin; ok is false where there is none.
func partOf(img image.Image, b scene.Box) (out image.Image, ok bool) {
	all := img.Bounds()
	w, h := margin*(b.Right-b.Left), margin*(b.Top-b.Bottom)
	x := func(v float64) int { return all.Min.X + int((v+1)/2*float64(all.Dx())) }
	y := func(v float64) int { return all.Min.Y + int((1-v)/2*float64(all.Dy())) }
	part := image.Rect(x(b.Left-w), y(b.Top+h), x(b.Right+w)+1, y(b.Bottom-h)+1).Intersect(all)
	if part.Empty() {
		return nil, false
	}
	dst := image.NewRGBA(image.Rect(0, 0, part.Dx(), part.Dy()))
	draw.Draw(dst, dst.Bounds(), img, part.Min, draw.Src)
	return dst, true
}

// cut is the part of a picture that a box bounds, JPEG.
func cut(img image.Image, b scene.Box) []byte {
	dst, ok := partOf(img, b)
	if !ok {
		return nil
	}
	var file bytes.Buffer
	if jpeg.Encode(&file, dst, &jpeg.Options{Quality: 80}) != nil {
		return nil
	}
	return file.Bytes()
}

package stream

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/trouble"
)

// Fields of a Print.
const (
	printCols = 32
	printRows = 18
)

// Print is what is kept of a still to compare others with.
type Print struct {
	Luma   []byte  `json:"luma"`   // mean of each field, row by row, 0 to 255
	Colour float64 `json:"colour"` // mean saturation, 0 to 1
	Sharp  float64 `json:"sharp"`  // how steep its edges are, see PrintOf; 0: flat
	Size   Size    `json:"size"`
}

// PrintOf reads a picture's print. Its sharpness is the mean over the steepest hundredth of its
// samples of how far neighbours differ in luma, in steps of 255: a picture out of focus has no
// steep edge, whatever it shows. The uppermost and the lowest tenth don't count: text is burned in
// there, which is always sharp. Pictures of other sizes are sampled alike.
func PrintOf(img image.Image) Print {
	b := img.Bounds()
	p := Print{Luma: make([]byte, printCols*printRows), Size: Size{b.Dx(), b.Dy()}}
	if b.Dx() < printCols || b.Dy() < printRows {
		return p
	}
	step, at := max(1, b.Dx()/640), samplesOf(img)
	var sums, counts [printCols * printRows]float64
	var steps [256]int
	colour, n := 0.0, 0
	for y := b.Min.Y; y < b.Max.Y; y += step {
		before := -1.0
		for x := b.Min.X; x < b.Max.X; x += step {
			r, g, bl := at(x, y)
			luma := 0.299*float64(r) + 0.587*float64(g) + 0.114*float64(bl)
			field := (y-b.Min.Y)*printRows/b.Dy()*printCols + (x-b.Min.X)*printCols/b.Dx()
			sums[field] += luma
			counts[field]++
			if most := max(r, g, bl); most > 0 {
				colour += float64(most-min(r, g, bl)) / float64(most)
			}
			n++
			if edge := b.Dy() / 10; before >= 0 && y >= b.Min.Y+edge && y < b.Max.Y-edge {
				steps[int(math.Abs(luma-before))]++
			}
			before = luma
		}
	}
	for i := range sums {
		if counts[i] > 0 {
			p.Luma[i] = byte(math.Round(sums[i] / counts[i]))
		}
	}
	p.Colour = colour / float64(n)
	left := max(1, n/100)
	total := 0.0
	for i, of := 255, left; i >= 0 && of > 0; i-- {
		k := min(of, steps[i])
		total += float64(k * i)
		of -= k
	}
	p.Sharp = total / float64(left) / 255
	return p
}

// samplesOf reads a picture's samples as red, green and blue, 0 to 255: of what a JPEG holds
// without a detour.
func samplesOf(img image.Image) func(x, y int) (r, g, b uint8) {
	if p, ok := img.(*image.YCbCr); ok {
		return func(x, y int) (r, g, b uint8) {
			c := p.COffset(x, y)
			return color.YCbCrToRGB(p.Y[p.YOffset(x, y)], p.Cb[c], p.Cr[c])
		}
	}
	return func(x, y int) (uint8, uint8, uint8) {
		r, g, b, _ := img.At(x, y).RGBA()
		return uint8(r >> 8), uint8(g >> 8), uint8(b >> 8)
	}
}

// spread is the mean luma and the standard deviation of its fields.
func (p Print) spread() (mean, deviation float64) {
	for _, v := range p.Luma {
		mean += float64(v)
	}
	mean /= float64(max(1, len(p.Luma)))
	for _, v := range p.Luma {
		deviation += (float64(v) - mean) * (float64(v) - mean)
	}
	return mean, math.Sqrt(deviation / float64(max(1, len(p.Luma))))
}

// Likeness is how far two pictures show the same, 0 to 1, whatever their brightness and
// contrast: the share of neighbouring fields with an edge between them, in either picture, that
// have the same edge in both. What moves through a picture changes a few; a view that was moved
// changes most. Two pictures without edges are alike.
func (p Print) Likeness(q Print) float64 {
	if len(p.Luma) != printCols*printRows || len(q.Luma) != len(p.Luma) {
		return 0
	}
	same, edges := 0, 0
	compare := func(i, j int) {
		a, b := edge(p.Luma[i], p.Luma[j]), edge(q.Luma[i], q.Luma[j])
		if a != 0 || b != 0 {
			edges++
			if a == b {
				same++
			}
		}
	}
	for y := range printRows {
		for x := range printCols {
			if x > 0 {
				compare(y*printCols+x-1, y*printCols+x)
			}
			if y > 0 {
				compare((y-1)*printCols+x, y*printCols+x)
			}
		}
	}
	if edges == 0 {
		return 1
	}
	return float64(same) / float64(edges)
}

// edge is which of two neighbours is brighter: −1, 1, or 0 where they are about the same.
func edge(a, b byte) int {
	switch d := int(b) - int(a); {
	case d > 3:
		return 1
	case d < -3:
		return -1
	}
	return 0
}

// Blank says whether a picture shows next to nothing: it is covered, dark, or without a signal.
func (p Print) Blank() bool {
	_, deviation := p.spread()
	return deviation < 6
}

// Light in which a picture is taken.
type Light string

const (
	Day   Light = "day"
	Night Light = "night"
)

// LightOf is the light of a picture: by night cameras see without colour, or next to none, and
// darker.
func (p Print) LightOf() Light {
	if mean, _ := p.spread(); p.Colour < 0.11 && mean < 125 {
		return Night
	}
	return Day
}

// Accepted is a picture that a person accepted.
type Accepted struct {
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Print Print     `json:"print"`
	// Grounds are what it was accepted on; none: nobody noted them.
	Grounds []ground.Ground `json:"grounds,omitempty"`
}

// Pictures are those that were accepted of a view, by light.
type Pictures map[Light]Accepted

// Seen is the still that came at the last reading.
type Seen struct {
	At    time.Time `json:"at"`
	Print Print     `json:"print"`
}

// MayAccept says why a picture can't be accepted in a light.
func MayAccept(p Print, light Light) error {
	switch {
	case light != Day && light != Night:
		return trouble.UserError("A picture is accepted by day or by night.")
	case p.Blank():
		return trouble.UserError("Its picture shows next to nothing now: there is nothing to accept.")
	case p.LightOf() != light:
		return trouble.UserErrorf("Its picture is one by %s now: it can't be accepted as one by %s.", p.LightOf(), light)
	}
	return nil
}

const (
	// like is the likeness below which a picture counts as another.
	like = 0.6
	// blurred is the part of the accepted sharpness below which it counts as out of focus.
	blurred = 0.5
)

// Standing are those that still rest on what they were accepted on.
func (p Pictures) Standing(now []ground.Ground) Pictures {
	out := Pictures{}
	for light, a := range p {
		if len(ground.Changed(a.Grounds, now)) == 0 {
			out[light] = a
		}
	}
	return out
}

// judgeGrounds says which pictures were accepted on something that is otherwise now.
func judgeGrounds(accepted Pictures, now []ground.Ground) (out []finding.Finding) {
	for _, light := range []Light{Day, Night} {
		a := accepted[light]
		changed := ground.Changed(a.Grounds, now)
		if len(changed) == 0 {
			continue
		}
		out = append(out, finding.Finding{Code: "stream.accepted-before", Severity: finding.Needs, Words: "accept anew",
			Sentence: fmt.Sprintf("%s accepted its picture by %s on %s, and since then %s.", a.By, light, a.At.UTC().Format("2 January 2006"), ground.Words(changed)),
			WayOut:   "Look at it in its sheet in that light, and accept it as it is now."})
	}
	return out
}

// judgePicture holds the last still against the one accepted in the same light.
func judgePicture(seen Seen, accepted Pictures) []finding.Finding {
	ev := []finding.Evidence{{Name: "Still", Value: fmt.Sprintf("%d × %d, sharpness %.2f, by %s", seen.Print.Size.Width, seen.Print.Size.Height, seen.Print.Sharp, seen.Print.LightOf()),
		Via: "its still", At: seen.At}}
	if seen.Print.Blank() {
		return []finding.Finding{{Code: "stream.blank", Severity: finding.Needs, Words: "no view", Evidence: ev,
			Sentence: "Its picture shows next to nothing: it is covered, dark, or has no signal.",
			WayOut:   "Look at the lens, at its light, or at the cable of the input; then read it again."}}
	}
	a, ok := accepted[seen.Print.LightOf()]
	if !ok {
		return nil
	}
	said := fmt.Sprintf("the one that %s accepted by %s on %s", a.By, seen.Print.LightOf(), a.At.UTC().Format("2 January 2006"))
	likeness := seen.Print.Likeness(a.Print)
	ev = append(ev, finding.Evidence{Name: "Likeness", Value: fmt.Sprintf("%.2f of 1", likeness), Via: "both pictures", At: seen.At})
	switch {
	case likeness < like:
		return []finding.Finding{{Code: "stream.moved", Severity: finding.Needs, Words: "view moved", Evidence: ev,
			Sentence: "Its picture shows something else than " + said + ": the view was moved, or something stands before it.",
			WayOut:   "See both in its sheet: put the view back, or accept it as it is now."}}
	case seen.Print.Sharp < blurred*a.Print.Sharp:
		return []finding.Finding{{Code: "stream.blurred", Severity: finding.Needs, Words: "out of focus", Evidence: ev,
			Sentence: fmt.Sprintf("Its picture is much less sharp than %s: %.2f against %.2f.", said, seen.Print.Sharp, a.Print.Sharp),
			WayOut:   "Clean the lens or focus it, then read it again; or accept it as it is now."}}
	}
	return nil
}

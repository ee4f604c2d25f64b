package analyser

import (
	"image"
	"math"

	"duskyharbor/internal/core/scene"
)

// Size in which it looks at a picture, in places.
const wide, high = 160, 90

// What it makes of what it sees.
const (
	differs  = 54   // by so much, of three colours of 0 to 255, a place differs from the usual
	learns   = 0.05 // of a still, the usual takes on where nothing is
	forgets  = 0.01 // and where something is: what stays becomes usual in the end
	leastOf  = 14   // places that a thing has
	mostOf   = 0.4  // of the picture: more is the light that changed
	reach    = 2    // places between parts of one thing
	mostSeen = 40   // things in a picture
)

// classes are what it tells apart.
var classes = []string{"Human", "Vehicle", "Boat", "Animal"}

// seen is one thing in a picture.
type seen struct {
	box   scene.Box
	class string
	score float64
}

// look is what it usually sees of a view.
type look struct {
	usual  []float32 // red, green, blue of each place
	looked int
}

// at says what there is in a picture that usually isn't.
func (l *look) at(img image.Image) []seen {
	now := shrunk(img)
	if l.usual == nil {
		l.usual = now
	}
	l.looked++
	there := make([]bool, wide*high)
	n := 0
	for i := range there {
		d := float32(0)
		for c := range 3 {
			d += abs(now[3*i+c] - l.usual[3*i+c])
		}
		if there[i] = d > differs; there[i] {
			n++
		}
	}
	if float64(n) > mostOf*wide*high { // the light changed: it begins anew
		l.usual, l.looked = now, 1
		return nil
	}
	var out []seen
	for _, b := range blobs(there) {
		if s, ok := l.take(b, now); ok && len(out) < mostSeen {
			out = append(out, s)
		}
	}
	for i := range there {
		rate := float32(learns)
		if there[i] {
			rate = forgets
		}
		for c := range 3 {
			l.usual[3*i+c] += rate * (now[3*i+c] - l.usual[3*i+c])
		}
	}
	return out
}

func abs(x float32) float32 { return max(x, -x) }

// shrunk is a picture as it looks at it: each place the mean of a few of its pixels.
func shrunk(img image.Image) []float32 {
	const side = 2
	b := img.Bounds()
	out := make([]float32, 3*wide*high)
	for i := range wide * high {
		x, y := i%wide, i/wide
		for k := range side * side {
			u := b.Min.X + (x*side+k%side)*b.Dx()/(wide*side)
			v := b.Min.Y + (y*side+k/side)*b.Dy()/(high*side)
			r, g, bl, _ := img.At(u, v).RGBA()
			out[3*i] += float32(r>>8) / (side * side)
			out[3*i+1] += float32(g>>8) / (side * side)
			out[3*i+2] += float32(bl>>8) / (side * side)
		}
	}
	return out
}

// blob is what hangs together: the places that bound it, both included, and how many it has.
type blob struct{ x0, y0, x1, y1, n int }

// blobs are what hangs together, parts that are near each other as one.
func blobs(there []bool) []blob {
	var out []blob
	of := make([]bool, len(there))
	var todo []int
	for start, on := range there {
		if !on || of[start] {
			continue
		}
		b := blob{wide, high, -1, -1, 0}
		todo, of[start] = append(todo[:0], start), true
		for len(todo) > 0 {
			i := todo[len(todo)-1]
			todo = todo[:len(todo)-1]
			x, y := i%wide, i/wide
			b = blob{min(b.x0, x), min(b.y0, y), max(b.x1, x), max(b.y1, y), b.n + 1}
			for dy := -reach; dy <= reach; dy++ {
				for dx := -reach; dx <= reach; dx++ {
					u, v := x+dx, y+dy
					if u < 0 || v < 0 || u >= wide || v >= high || of[v*wide+u] || !there[v*wide+u] {
						continue
					}
					of[v*wide+u] = true
					todo = append(todo, v*wide+u)
				}
			}
		}
		if b.n >= leastOf {
			out = append(out, b)
		}
	}
	return out
}

// form is how a class usually looks: height by width, how much of its box it fills, and its height in the picture.
type form struct {
	class                string
	tall, fills, heights float64
}

var forms = []form{{"Human", 2.6, 0.7, 0.16}, {"Vehicle", 0.55, 0.72, 0.14}, {"Boat", 0.62, 0.5, 0.1}, {"Animal", 0.5, 0.45, 0.03}}

// take says what a blob is taken for, and how surely: by its form, and by whether there is water around it.
func (l *look) take(b blob, now []float32) (seen, bool) {
	w, h := float64(b.x1-b.x0+1), float64(b.y1-b.y0+1)
	box := scene.Box{Left: 2*float64(b.x0)/wide - 1, Right: 2*float64(b.x1+1)/wide - 1, Top: 1 - 2*float64(b.y0)/high, Bottom: 1 - 2*float64(b.y1+1)/high}
	wet := l.wet(b)
	best, sum := seen{box: box}, 0.0
	for _, f := range forms {
		s := near(h/w, f.tall, 0.55) * near(float64(b.n)/(w*h), f.fills, 0.5) * near(h/high, f.heights, 0.9)
		switch f.class {
		case "Boat":
			s *= 0.25 + 0.75*wet
		case "Vehicle":
			s *= 1 - 0.6*wet
		}
		sum += s
		if s > best.score {
			best.class, best.score = f.class, s
		}
	}
	if best.class == "" || sum == 0 {
		return best, false
	}
	best.score = min(0.99, math.Sqrt(best.score)*(0.5+0.5*best.score/sum)*contrast(b, now, l.usual))
	return best, best.score > 0.02
}

// near is 1 where x is what it usually is, and less the farther from it in ratio.
func near(x, usual, spread float64) float64 {
	d := math.Log(x/usual) / spread
	return math.Exp(-d * d / 2)
}

// wet is how much of what is usually under and beside a blob is as water: more blue than red.
func (l *look) wet(b blob) float64 {
	n, blue := 0, 0
	for x := max(0, b.x0-3); x <= min(wide-1, b.x1+3); x++ {
		for y := b.y1 - 1; y <= min(high-1, b.y1+2); y++ {
			i := 3 * (y*wide + x)
			n++
			if l.usual[i+2] > l.usual[i]+12 {
				blue++
			}
		}
	}
	return float64(blue) / float64(max(1, n))
}

// contrast is from 0.6 to 1: how clearly a blob stands out.
func contrast(b blob, now, usual []float32) float64 {
	sum, n := 0.0, 0
	for y := b.y0; y <= b.y1; y++ {
		for x := b.x0; x <= b.x1; x++ {
			i := 3 * (y*wide + x)
			d := float64(abs(now[i]-usual[i]) + abs(now[i+1]-usual[i+1]) + abs(now[i+2]-usual[i+2]))
			if d > differs {
				sum, n = sum+d, n+1
			}
		}
	}
	return min(1, 0.6+0.4*sum/float64(max(1, n))/200)
}

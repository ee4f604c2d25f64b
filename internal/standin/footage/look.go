package footage

import (
	"image"
	"image/color"
	"image/draw"
	"time"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"

	"duskyharbor/internal/core/scene"
)

// Look is how a camera looks at a scene, and what it lays over the picture. The zero Look is
// straight ahead with nothing over it.
type Look struct {
	Pan, Tilt float64 // where the middle is, −1 to 1: right and up are positive
	Zoom      float64 // how many times nearer; 0 and 1: all of the scene
	Gain      float64 // of what it sees; 0 and 1: as it is
	Blur      int     // how far out of focus, in pixels of the described size
	Masks     []scene.Polygon
	Texts     []Text
}

// Text is a line of text in a picture.
type Text struct {
	Words      string
	Right, Low bool // the corner in which it stands; upper left where neither
}

// DrawLook paints the scene as it is looked at, scaled to w × h pixels.
func (s Scene) DrawLook(walk bool, t time.Duration, w, h int, l Look) *image.RGBA {
	p := &painter{img: image.NewRGBA(image.Rect(0, 0, w, h)), sx: float64(w) / Width, sy: float64(h) / Height, night: s.Night, heat: s.heat}
	if s.zoom != [2]float64{} {
		p.sx, p.sy, p.left, p.top = 2*p.sx, 2*p.sy, s.zoom[0], s.zoom[1]
	}
	zoom := max(1, l.Zoom)
	p.left += (1 + l.Pan - 1/zoom) * Width / 2
	p.top += (1 - l.Tilt - 1/zoom) * Height / 2
	p.sx, p.sy = p.sx*zoom, p.sy*zoom
	s.paint(p, walk, t)
	if l.Pan != 0 || l.Tilt != 0 {
		p.goOn()
	}
	if l.Blur > 0 {
		blur(p.img, max(1, l.Blur*w/Width))
	}
	if l.Gain > 0 && l.Gain != 1 {
		gain(p.img, l.Gain)
	}
	for _, m := range l.Masks {
		p.cover(m)
	}
	for _, text := range l.Texts {
		p.write(text)
	}
	return p.img
}

// paint paints what is there and who comes.
func (s Scene) paint(p *painter, walk bool, t time.Duration) {
	s.ground(p, t)
	for _, sh := range s.shapes(walk, t) {
		p.warm = sh.Class != "Boat"
		sh.draw(p, sh, t)
	}
}

// goOn has the scene's edges go on to where the picture ends.
func (p *painter) goOn() {
	b := p.img.Bounds()
	x0, x1 := max(0, int(-p.left*p.sx)+1), min(b.Dx(), int((Width-p.left)*p.sx))
	y0, y1 := max(0, int(-p.top*p.sy)+1), min(b.Dy(), int((Height-p.top)*p.sy))
	if x0 >= x1 || y0 >= y1 {
		return
	}
	for y := range b.Dy() {
		from := min(max(y, y0), y1-1)
		row, src := p.img.Pix[y*p.img.Stride:], p.img.Pix[from*p.img.Stride:]
		if from != y {
			copy(row[x0*4:x1*4], src[x0*4:x1*4])
		}
		for x := 0; x < x0; x++ {
			copy(row[x*4:x*4+4], row[x0*4:x0*4+4])
		}
		for x := x1; x < b.Dx(); x++ {
			copy(row[x*4:x*4+4], row[x1*4-4:x1*4])
		}
	}
}

// cover paints a mask over the picture: its corners are in the normalised frame.
func (p *painter) cover(m scene.Polygon) {
	q := &painter{img: p.img, sx: float64(p.img.Bounds().Dx()) / 2, sy: float64(p.img.Bounds().Dy()) / 2}
	var xy []float64
	for _, c := range m {
		xy = append(xy, c.X+1, 1-c.Y)
	}
	if len(m) > 2 {
		q.poly(0x101010, xy...)
	}
}

// write burns a line of text into its corner.
func (p *painter) write(t Text) {
	b := p.img.Bounds()
	scale := max(1, b.Dx()/640)
	face := basicfont.Face7x13
	wide := font.MeasureString(face, t.Words).Ceil() + 8
	line := image.NewRGBA(image.Rect(0, 0, wide, 17))
	draw.Draw(line, line.Bounds(), image.NewUniform(color.RGBA{16, 16, 16, 255}), image.Point{}, draw.Src)
	d := font.Drawer{Dst: line, Src: image.White, Face: face, Dot: fixed.P(4, 13)}
	d.DrawString(t.Words)
	left, top := 8*scale, 8*scale
	if t.Right {
		left = b.Dx() - left - wide*scale
	}
	if t.Low {
		top = b.Dy() - top - 17*scale
	}
	for y := range 17 * scale {
		for x := range wide * scale {
			p.img.Set(left+x, top+y, line.At(x/scale, y/scale))
		}
	}
}

func gain(img *image.RGBA, by float64) {
	var to [256]byte
	for i := range to {
		to[i] = byte(min(255, float64(i)*by))
	}
	for i := 0; i+3 < len(img.Pix); i += 4 {
		img.Pix[i], img.Pix[i+1], img.Pix[i+2] = to[img.Pix[i]], to[img.Pix[i+1]], to[img.Pix[i+2]]
	}
}

// blur smears a picture over so many pixels to each side, along rows and then columns.
func blur(img *image.RGBA, by int) {
	b := img.Bounds()
	line := make([]byte, 4*max(b.Dx(), b.Dy()))
	smear := func(at, step, n int) {
		for i := range n {
			copy(line[i*4:i*4+4], img.Pix[at+i*step:])
		}
		for c := range 3 {
			total := 0
			for i := -by; i <= by; i++ {
				total += int(line[min(max(i, 0), n-1)*4+c])
			}
			for i := range n {
				img.Pix[at+i*step+c] = byte(total / (2*by + 1))
				total += int(line[min(i+by+1, n-1)*4+c]) - int(line[max(i-by, 0)*4+c])
			}
		}
	}
	for y := range b.Dy() {
		smear(y*img.Stride, 4, b.Dx())
	}
	for x := range b.Dx() {
		smear(x*4, img.Stride, b.Dy())
	}
}

// clip cuts a polygon of x, y pairs at the picture's edges.
func clip(xy []float64, w, h float64) []float64 {
	for side := range 4 {
		inside := func(x, y float64) float64 {
			return [4]float64{x, w - x, y, h - y}[side]
		}
		var out []float64
		n := len(xy) / 2
		for i := range n {
			x0, y0 := xy[2*i], xy[2*i+1]
			k := (i + 1) % n
			x1, y1 := xy[2*k], xy[2*k+1]
			d0, d1 := inside(x0, y0), inside(x1, y1)
			if d0 >= 0 {
				out = append(out, x0, y0)
			}
			if (d0 < 0) != (d1 < 0) {
				f := d0 / (d0 - d1)
				out = append(out, x0+f*(x1-x0), y0+f*(y1-y0))
			}
		}
		xy = out
	}
	for i := range xy { // what reckoning left beyond an edge
		xy[i] = max(0, min([2]float64{w, h}[i%2], xy[i]))
	}
	return xy
}

package coder

// Ways in which a macroblock goes on from its neighbours (tables 8-4 and 8-5 number them so for
// luma; chroma has its own numbers).
const (
	vertical = iota
	horizontal
	mean
)

// chromaMode is the number of a way for chroma.
var chromaMode = [...]int{vertical: 2, horizontal: 1, mean: 0}

// predict fills a macroblock from its neighbours where one of the ways comes within pass of what
// is drawn, and says which for luma and chroma.
func (c *Coder) predict(x, y, pass int) (luma, chroma int, ok bool) {
	luma, ok = c.best(c.now.y, c.drawn.y, c.now.stride, side, x, y, pass, c.meanOf)
	if !ok {
		return 0, 0, false
	}
	for _, way := range []int{vertical, horizontal, mean} {
		if way == vertical && y == 0 || way == horizontal && x == 0 {
			continue
		}
		if c.fill(c.now.cb, c.drawn.cb, c.now.stride/2, side/2, x, y, way, pass, c.chromaMeans) &&
			c.fill(c.now.cr, c.drawn.cr, c.now.stride/2, side/2, x, y, way, pass, c.chromaMeans) {
			return luma, chromaMode[way], true
		}
	}
	return 0, 0, false
}

// means fills a block with the mean of its neighbours.
type means func(p []byte, stride, n, x, y int)

func (c *Coder) best(now, drawn []byte, stride, n, x, y, pass int, m means) (int, bool) {
	for _, way := range []int{vertical, horizontal, mean} {
		if way == vertical && y == 0 || way == horizontal && x == 0 {
			continue
		}
		if c.fill(now, drawn, stride, n, x, y, way, pass, m) {
			return way, true
		}
	}
	return 0, false
}

// fill fills a block in a way and says whether that comes within pass of what is drawn.
func (c *Coder) fill(now, drawn []byte, stride, n, x, y, way, pass int, m means) bool {
	at := y*n*stride + x*n
	switch way {
	case vertical:
		for r := range n {
			copy(now[at+r*stride:at+r*stride+n], now[at-stride:at-stride+n])
		}
	case horizontal:
		for r := range n {
			row := now[at+r*stride-1 : at+r*stride+n]
			for i := range n {
				row[i+1] = row[0]
			}
		}
	default:
		m(now, stride, n, x, y)
	}
	for r := range n {
		for i := range n {
			if k := at + r*stride + i; abs(int(now[k])-int(drawn[k])) > pass {
				return false
			}
		}
	}
	return true
}

// meanOf fills luma with the mean of what stands above and to the left (8.3.3.3).
func (c *Coder) meanOf(p []byte, stride, n, x, y int) {
	set(p, stride, n, y*n*stride+x*n, sum(p, stride, n, x*n, y*n, true, true))
}

// chromaMeans fills each quarter of chroma with a mean of its own (8.3.4): the quarters on the
// diagonal take both sides, the others the side that they touch.
func (c *Coder) chromaMeans(p []byte, stride, n, x, y int) {
	half := n / 2
	for q := range 4 {
		px, py := x*n+q%2*half, y*n+q/2*half
		above, left := y > 0, x > 0
		switch {
		case q == 1 && above:
			left = false
		case q == 2 && left:
			above = false
		}
		v := sumAt(p, stride, half, px, y*n, x*n, py, above, left)
		set(p, stride, half, py*stride+px, v)
	}
}

func sum(p []byte, stride, n, px, py int, above, left bool) byte {
	return sumAt(p, stride, n, px, py, px, py, above && py > 0, left && px > 0)
}

// sumAt is the mean of the n samples above row top from column px on, and the n to the left of
// column edge from row py on; 128 where there are none.
func sumAt(p []byte, stride, n, px, top, edge, py int, above, left bool) byte {
	total, of := 0, 0
	if above {
		for i := range n {
			total += int(p[(top-1)*stride+px+i])
		}
		of += n
	}
	if left {
		for i := range n {
			total += int(p[(py+i)*stride+edge-1])
		}
		of += n
	}
	if of == 0 {
		return 128
	}
	return byte((total + of/2) / of)
}

func set(p []byte, stride, n, at int, v byte) {
	for r := range n {
		for i := range n {
			p[at+r*stride+i] = v
		}
	}
}

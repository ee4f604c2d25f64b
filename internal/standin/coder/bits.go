package coder

import (
	"image"
	"math/bits"
)

// bitWriter writes bits, the highest first.
type bitWriter struct {
	out  []byte
	free int // bits of the last byte that aren't written
}

func (b *bitWriter) put(v, n int) {
	for i := n - 1; i >= 0; i-- {
		if b.free == 0 {
			b.out, b.free = append(b.out, 0), 8
		}
		b.free--
		b.out[len(b.out)-1] |= byte(v>>i&1) << b.free
	}
}

// ue writes an unsigned Exp-Golomb code (9.1).
func (b *bitWriter) ue(v int) {
	n := bits.Len(uint(v + 1))
	b.put(0, n-1)
	b.put(v+1, n)
}

// se writes a signed one (9.1.1).
func (b *bitWriter) se(v int) {
	if v > 0 {
		b.ue(2*v - 1)
		return
	}
	b.ue(-2 * v)
}

// align fills the byte up with zeros.
func (b *bitWriter) align() { b.free = 0 }

// nal ends what is written and makes a NAL unit of it: behind two zeros a byte keeps a start code
// from showing (7.4.1).
func (b *bitWriter) nal(head byte) []byte {
	b.put(1, 1)
	out := make([]byte, 1, len(b.out)+len(b.out)/64+2)
	out[0] = head
	zeros := 0
	for _, v := range b.out {
		if zeros == 2 && v <= 3 {
			out, zeros = append(out, 3), 0
		}
		out = append(out, v)
		if zeros++; v != 0 {
			zeros = 0
		}
	}
	return out
}

// read takes a drawn picture over, in YCbCr of ITU-R BT.601 with its usual range; the edge goes on
// to where the last macroblock ends.
func (c *Coder) read(img *image.RGBA) {
	p := c.drawn
	for y := range c.rows * side {
		row := img.Pix[min(y, c.height-1)*img.Stride:]
		for x := range c.cols * side {
			q := row[min(x, c.width-1)*4:]
			r, g, b := int(q[0]), int(q[1]), int(q[2])
			p.y[y*p.stride+x] = byte((66*r+129*g+25*b+128)>>8 + 16)
			if x%2 == 0 && y%2 == 0 {
				at := y/2*p.stride/2 + x/2
				p.cb[at] = byte((-38*r-74*g+112*b+128)>>8 + 128)
				p.cr[at] = byte((112*r-94*g-18*b+128)>>8 + 128)
			}
		}
	}
}

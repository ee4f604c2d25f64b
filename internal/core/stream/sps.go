package stream

import (
	"errors"
	"fmt"
)

// ErrSPS is returned for bytes that are no H.264 sequence parameter set.
var ErrSPS = errors.New("not an H.264 sequence parameter set")

// maxSPS is the longest parameter set read, in bytes.
const maxSPS = 1024

// SPS is what a sequence parameter set says of the picture.
type SPS struct {
	Profile, Level byte
	Width, Height  int     // in pixels, cropping taken off
	FPS            float64 // from the VUI timing; 0 where it isn't given
}

// ParseSPS reads an H.264 sequence parameter set NAL unit, header byte included
// (ITU-T H.264, 7.3.2.1.1 and E.1.1).
func ParseSPS(nal []byte) (SPS, error) {
	if len(nal) < 4 || len(nal) > maxSPS || nal[0]&0x1f != 7 {
		return SPS{}, ErrSPS
	}
	r := &bitReader{data: unescape(nal[1:])}
	s := SPS{Profile: byte(r.bits(8))}
	r.bits(8)
	s.Level = byte(r.bits(8))
	r.ue()
	chroma := uint(1)
	separate := false
	if highProfile(s.Profile) {
		chroma = r.ue()
		if chroma == 3 {
			separate = r.bits(1) == 1
		}
		r.ue()
		r.ue()
		r.bits(1)
		if r.bits(1) == 1 {
			lists := 8
			if chroma == 3 {
				lists = 12
			}
			for i := range lists {
				if r.bits(1) == 1 {
					r.scalingList(i)
				}
			}
		}
	}
	r.ue()
	r.orderCount()
	r.ue()
	r.bits(1)
	w, h := r.ue()+1, r.ue()+1
	frameOnly := r.bits(1)
	if frameOnly == 0 {
		r.bits(1)
	}
	r.bits(1)
	var crop [4]uint
	if r.bits(1) == 1 {
		for i := range crop {
			crop[i] = r.ue()
		}
	}
	if r.short || w > 1024 || h > 1024 {
		return SPS{}, fmt.Errorf("%w: cut short or out of range", ErrSPS)
	}
	unitX, unitY := uint(1), 2-frameOnly
	if !separate && (chroma == 1 || chroma == 2) {
		unitX = 2
		if chroma == 1 {
			unitY *= 2
		}
	}
	width, height := w*16, (2-frameOnly)*h*16
	cutX, cutY := (crop[0]+crop[1])*unitX, (crop[2]+crop[3])*unitY
	if crop[0] > width || crop[1] > width || crop[2] > height || crop[3] > height || cutX >= width || cutY >= height {
		return SPS{}, fmt.Errorf("%w: cropped to nothing", ErrSPS)
	}
	s.Width, s.Height = int(width-cutX), int(height-cutY)
	if r.bits(1) == 1 {
		s.FPS = r.vuiRate()
	}
	return s, nil
}

func highProfile(p byte) bool {
	switch p {
	case 100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135:
		return true
	}
	return false
}

// unescape removes emulation prevention bytes (H.264, 7.4.1).
func unescape(in []byte) []byte {
	out := make([]byte, 0, len(in))
	zeros := 0
	for _, b := range in {
		if zeros >= 2 && b == 3 {
			zeros = 0
			continue
		}
		if b == 0 {
			zeros++
		} else {
			zeros = 0
		}
		out = append(out, b)
	}
	return out
}

type bitReader struct {
	data  []byte
	pos   int
	short bool
}

func (r *bitReader) bits(n int) uint {
	v := uint(0)
	for range n {
		if r.pos >= len(r.data)*8 {
			r.short = true
			return 0
		}
		v = v<<1 | uint(r.data[r.pos/8]>>(7-r.pos%8)&1)
		r.pos++
	}
	return v
}

// ue reads an unsigned Exp-Golomb code (H.264, 9.1).
func (r *bitReader) ue() uint {
	zeros := 0
	for r.bits(1) == 0 {
		zeros++
		if r.short || zeros > 31 {
			r.short = true
			return 0
		}
	}
	return 1<<zeros - 1 + r.bits(zeros)
}

func (r *bitReader) se() int {
	v := r.ue()
	if v%2 == 1 {
		return int(v/2) + 1
	}
	return -int(v / 2)
}

func (r *bitReader) scalingList(i int) {
	size := 16
	if i >= 6 {
		size = 64
	}
	last, next := 8, 8
	for range size {
		if next != 0 {
			next = (last + r.se() + 256) % 256
		}
		if next != 0 {
			last = next
		}
		if r.short {
			return
		}
	}
}

func (r *bitReader) orderCount() {
	switch r.ue() {
	case 0:
		r.ue()
	case 1:
		r.bits(1)
		r.se()
		r.se()
		n := r.ue()
		if n > 255 {
			r.short = true
			return
		}
		for range n {
			r.se()
		}
	}
}

func (r *bitReader) vuiRate() float64 {
	if r.bits(1) == 1 && r.bits(8) == 255 {
		r.bits(32)
	}
	if r.bits(1) == 1 {
		r.bits(1)
	}
	if r.bits(1) == 1 {
		r.bits(4)
		if r.bits(1) == 1 {
			r.bits(24)
		}
	}
	if r.bits(1) == 1 {
		r.ue()
		r.ue()
	}
	if r.bits(1) == 0 {
		return 0
	}
	units, scale := r.bits(32), r.bits(32)
	if r.short || units == 0 {
		return 0
	}
	rate := float64(scale) / float64(units) / 2
	if rate > 1000 {
		return 0
	}
	return rate
}

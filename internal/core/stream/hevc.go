package stream

import (
	"errors"
	"fmt"
)

// ErrHEVC is returned for bytes that are no H.265 sequence parameter set.
var ErrHEVC = errors.New("not an H.265 sequence parameter set")

// Numbers of H.265 (ITU-T H.265, table 7-1 and 7.3.3).
const (
	nalSPS265     = 33
	layerBits     = 88 // profile of a layer
	maxLayers     = 7  // sps_max_sub_layers_minus1 is 6 at most
	maxPicture265 = 16384
)

// ParseHEVC reads an H.265 sequence parameter set NAL unit, its two header bytes included, as
// far as the size of the picture (ITU-T H.265, 7.3.2.2.1): FPS is never set.
func ParseHEVC(nal []byte) (SPS, error) {
	if len(nal) < 15 || len(nal) > maxSPS || nal[0]>>1&0x3f != nalSPS265 {
		return SPS{}, ErrHEVC
	}
	r := &bitReader{data: unescape(nal[2:])}
	r.bits(4)
	layers := r.bits(3)
	r.bits(1)
	if layers >= maxLayers {
		return SPS{}, fmt.Errorf("%w: more layers than there are", ErrHEVC)
	}
	r.bits(3)
	s := SPS{Profile: byte(r.bits(5))}
	r.bits(layerBits - 8)
	s.Level = byte(r.bits(8))
	r.layers(layers)
	r.ue()
	chroma, separate := r.ue(), false
	if chroma == 3 {
		separate = r.bits(1) == 1
	}
	w, h := r.ue(), r.ue()
	var crop [4]uint
	if r.bits(1) == 1 {
		for i := range crop {
			crop[i] = r.ue()
		}
	}
	if r.short || chroma > 3 || w == 0 || h == 0 || w > maxPicture265 || h > maxPicture265 {
		return SPS{}, fmt.Errorf("%w: cut short or out of range", ErrHEVC)
	}
	unitX, unitY := uint(1), uint(1)
	if !separate && (chroma == 1 || chroma == 2) {
		unitX = 2
		if chroma == 1 {
			unitY = 2
		}
	}
	if crop[0] > w || crop[1] > w || crop[2] > h || crop[3] > h || (crop[0]+crop[1])*unitX >= w || (crop[2]+crop[3])*unitY >= h {
		return SPS{}, fmt.Errorf("%w: cropped to nothing", ErrHEVC)
	}
	s.Width, s.Height = int(w-(crop[0]+crop[1])*unitX), int(h-(crop[2]+crop[3])*unitY)
	return s, nil
}

// layers passes over what is said of n further temporal layers.
func (r *bitReader) layers(n uint) {
	if n == 0 {
		return
	}
	var profile, level [maxLayers]bool
	for i := range n {
		profile[i], level[i] = r.bits(1) == 1, r.bits(1) == 1
	}
	for range 8 - n {
		r.bits(2)
	}
	for i := range n {
		if profile[i] {
			r.bits(layerBits)
		}
		if level[i] {
			r.bits(8)
		}
	}
}

// Package coder codes drawn pictures as H.264 while they are drawn (ITU-T H.264). It is for what
// can't be coded beforehand: a view that was turned, masks and text laid over it. It knows three
// ways to code a macroblock and no residual: as it was in the picture before (P_Skip), as its
// neighbours go on (Intra_16x16), and sample by sample (I_PCM). Drawn scenes are flat enough for
// that; of what doesn't fit into the bytes that a picture may have, the rest follows in the next
// ones.
package coder

import (
	"image"
)

// Side of a macroblock's luma, in samples.
const side = 16

// most is how far a coded sample may be from the drawn one and pass, in steps of 255.
const most = 3

// Coder codes pictures of one size one after the other. The zero Coder isn't usable; see New.
type Coder struct {
	width, height int // in samples, as shown
	cols, rows    int // in macroblocks
	now, was      plane
	drawn         plane
	pcm           []bool // macroblocks of this picture that were coded sample by sample
	number        int    // frame_num
	idr           int
}

// plane is a picture in YCbCr 4:2:0, whole macroblocks.
type plane struct {
	y, cb, cr []byte
	stride    int // of luma
}

func newPlane(cols, rows int) plane {
	n := cols * rows
	return plane{make([]byte, n*256), make([]byte, n*64), make([]byte, n*64), cols * side}
}

// New makes a coder of pictures of so many pixels, both even.
func New(width, height int) *Coder {
	c := &Coder{width: width, height: height, cols: (width + side - 1) / side, rows: (height + side - 1) / side}
	c.now, c.was, c.drawn = newPlane(c.cols, c.rows), newPlane(c.cols, c.rows), newPlane(c.cols, c.rows)
	c.pcm = make([]bool, c.cols*c.rows)
	return c
}

// Sets are the sequence and the picture parameter set (7.3.2.1, 7.3.2.2): Main profile, level 3.1,
// pictures in the order in which they come.
func (c *Coder) Sets() (sps, pps []byte) {
	b := &bitWriter{}
	b.put(77, 8)
	b.put(0, 8)
	b.put(31, 8)
	b.ue(0) // seq_parameter_set_id
	b.ue(0) // log2_max_frame_num_minus4
	b.ue(2) // pic_order_cnt_type
	b.ue(1) // max_num_ref_frames
	b.put(0, 1)
	b.ue(c.cols - 1)
	b.ue(c.rows - 1)
	b.put(1, 1) // frame_mbs_only_flag
	b.put(1, 1) // direct_8x8_inference_flag
	right, bottom := c.cols*side-c.width, c.rows*side-c.height
	if right+bottom == 0 {
		b.put(0, 1)
	} else {
		b.put(1, 1)
		b.ue(0)
		b.ue(right / 2)
		b.ue(0)
		b.ue(bottom / 2)
	}
	b.put(0, 1) // vui_parameters_present_flag
	sps = b.nal(0x67)
	b = &bitWriter{}
	b.ue(0)     // pic_parameter_set_id
	b.ue(0)     // seq_parameter_set_id
	b.put(0, 2) // CAVLC; bottom_field_pic_order_in_frame_present_flag
	b.ue(0)     // num_slice_groups_minus1
	b.ue(0)     // num_ref_idx_l0_default_active_minus1
	b.ue(0)     // num_ref_idx_l1_default_active_minus1
	b.put(0, 3) // weighted_pred_flag, weighted_bipred_idc
	b.se(0)     // pic_init_qp_minus26
	b.se(0)     // pic_init_qs_minus26
	b.se(0)     // chroma_qp_index_offset
	b.put(4, 3) // deblocking_filter_control_present_flag, constrained_intra_pred_flag, redundant_pic_cnt_present_flag
	return sps, b.nal(0x68)
}

// Key codes a picture that stands for itself, in about so many bytes.
func (c *Coder) Key(img *image.RGBA, bytes int) [][]byte {
	c.read(img)
	c.number, c.idr = 0, (c.idr+1)%2
	sps, pps := c.Sets()
	return [][]byte{sps, pps, c.slice(true, bytes)}
}

// Next codes a picture by what differs from the one before, in about so many bytes.
func (c *Coder) Next(img *image.RGBA, bytes int) [][]byte {
	c.read(img)
	return [][]byte{c.next(bytes)}
}

// Same codes that the picture stays as it was.
func (c *Coder) Same() [][]byte {
	c.number = (c.number + 1) % 16
	b := &bitWriter{}
	c.head(b, false)
	b.ue(c.cols * c.rows)
	return [][]byte{b.nal(0x41)}
}

func (c *Coder) next(bytes int) []byte {
	c.number = (c.number + 1) % 16
	return c.slice(false, bytes)
}

// slice codes the drawn picture as one slice. A picture that stands for itself is coded more
// coarsely where it takes more bytes than it may; of any other the rest waits.
func (c *Coder) slice(key bool, bytes int) []byte {
	c.now, c.was = c.was, c.now
	for pass := most; ; pass *= 2 {
		b := &bitWriter{}
		c.head(b, key)
		c.macroblocks(b, key, pass, bytes)
		switch {
		case !key:
			return b.nal(0x41)
		case len(b.out) <= bytes || pass > 128:
			return b.nal(0x65)
		}
	}
}

// head writes the slice's header (7.3.3).
func (c *Coder) head(b *bitWriter, key bool) {
	kind := 5 // P
	if key {
		kind = 7 // I
	}
	b.ue(0) // first_mb_in_slice
	b.ue(kind)
	b.ue(0)            // pic_parameter_set_id
	b.put(c.number, 4) // frame_num
	if key {
		b.ue(c.idr)
		b.put(0, 2) // no_output_of_prior_pics_flag, long_term_reference_flag
	} else {
		b.put(0, 3) // num_ref_idx_active_override_flag, ref_pic_list_modification_flag_l0, adaptive_ref_pic_marking_mode_flag
	}
	b.se(0) // slice_qp_delta
	b.ue(1) // disable_deblocking_filter_idc
}

// macroblocks writes the slice's data (7.3.4), each within pass of what is drawn, or as it was once
// the bytes are spent.
func (c *Coder) macroblocks(b *bitWriter, key bool, pass, bytes int) {
	skipped := 0
	for i := range c.cols * c.rows {
		x, y := i%c.cols, i/c.cols
		c.pcm[i] = false
		if !key && (len(b.out) > bytes || c.apart(x, y, c.was) <= pass) {
			c.copy(x, y, c.was)
			skipped++
			continue
		}
		kind := 0 // mb_type of an I slice (table 7-11)
		if !key {
			b.ue(skipped)
			skipped, kind = 0, 5
		}
		if luma, chroma, ok := c.predict(x, y, pass); ok {
			b.ue(kind + 1 + luma)
			b.ue(chroma)
			b.se(0) // mb_qp_delta
			c.noResidual(b, x, y)
			continue
		}
		c.pcm[i] = true
		b.ue(kind + 25)
		b.align()
		c.copy(x, y, c.drawn)
		c.now.samples(x, y, func(row []byte) { b.out = append(b.out, row...) })
	}
	if skipped > 0 {
		b.ue(skipped)
	}
}

// noResidual writes a coeff_token of no coefficients (table 9-5). How long it is depends on the
// neighbours: one coded sample by sample counts sixteen, any other none (9.2.1).
func (c *Coder) noResidual(b *bitWriter, x, y int) {
	i := y*c.cols + x
	if x > 0 && c.pcm[i-1] || y > 0 && c.pcm[i-c.cols] {
		b.put(3, 6)
		return
	}
	b.put(1, 1)
}

// samples gives a macroblock's rows: luma, Cb, Cr.
func (p plane) samples(x, y int, f func(row []byte)) {
	for r := range side {
		at := (y*side+r)*p.stride + x*side
		f(p.y[at : at+side])
	}
	for _, of := range [][]byte{p.cb, p.cr} {
		for r := range side / 2 {
			at := (y*side/2+r)*p.stride/2 + x*side/2
			f(of[at : at+side/2])
		}
	}
}

// copy takes a macroblock over from another picture.
func (c *Coder) copy(x, y int, from plane) {
	var rows [][]byte
	c.now.samples(x, y, func(row []byte) { rows = append(rows, row) })
	i := 0
	from.samples(x, y, func(row []byte) { copy(rows[i], row); i++ })
}

// apart is how far a macroblock of a picture is from the drawn one, at its worst sample.
func (c *Coder) apart(x, y int, p plane) int {
	var rows [3 * side][]byte
	i, worst := 0, 0
	p.samples(x, y, func(row []byte) { rows[i] = row; i++ })
	i = 0
	c.drawn.samples(x, y, func(row []byte) {
		for k, v := range row {
			worst = max(worst, abs(int(v)-int(rows[i][k])))
		}
		i++
	})
	return worst
}

func abs(v int) int {
	if v < 0 {
		return -v
	}
	return v
}

package camera

import "bytes"

// filler makes pictures of an H.264 stream as large as its constant bit rate wants them, by NAL units that hold nothing
// (ITU-T H.264, 7.3.2.7: filler data), each in a packet of its own (RFC 6184, 5.6).
type filler struct {
	each int // bytes that a picture has in the mean
	owed int // bytes that the pictures before it left over; below zero: that they had too much
	on   bool
}

const (
	nalFiller  = 12
	packetMost = 1400 // bytes of a packet's payload
)

// up is the packets of a picture with those that it lacks.
func (f *filler) up(picture [][]byte) [][]byte {
	if !f.on {
		return picture
	}
	f.owed += f.each
	for _, p := range picture {
		f.owed -= len(p)
	}
	for f.owed >= 3 {
		n := min(f.owed, packetMost)
		p := append([]byte{nalFiller}, bytes.Repeat([]byte{0xff}, n-2)...)
		picture = append(picture, append(p, 0x80))
		f.owed -= n
	}
	return picture
}

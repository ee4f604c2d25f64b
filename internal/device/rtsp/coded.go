package rtsp

import "encoding/binary"

// Of RTP-JPEG (RFC 2435): what a packet has before the scan, and what a picture has that
// doesn't travel: SOI, APP0, two quantisation and four Huffman tables, SOF0, SOS and EOI.
const (
	jpegHeader  = 8
	jpegTables  = 4
	jpegPicture = 2 + 18 + 134 + 420 + 19 + 14 + 2
)

const startCode = 4 // bytes before a NAL unit in a byte stream (ITU-T H.264 and H.265, annex B)

// coded is how many bytes of the coded stream a payload carries, as a file holds them: NAL
// units with their start codes and without what packing adds (RFC 6184, RFC 7798), JPEG
// pictures with the headers that whoever receives them makes anew. Of any other codec it is
// the payload.
func coded(codec string, p []byte) int64 {
	n := len(p)
	switch {
	case codec == "H264":
		n = coded264(p)
	case codec == "H265" && len(p) > 2:
		n = coded265(p)
	case codec == "JPEG" && len(p) >= jpegHeader:
		n = codedJPEG(p)
	}
	return int64(max(n, 0))
}

func coded264(p []byte) int {
	switch p[0] & 0x1f {
	case nalSTAPA:
		return units(p[1:])
	case nalFUA:
		if len(p) > 1 && p[1]&0x80 != 0 { // the first fragment carries the header of its unit
			return len(p) - 2 + 1 + startCode
		}
		return len(p) - 2
	}
	return len(p) + startCode
}

func coded265(p []byte) int {
	switch p[0] >> 1 & 0x3f {
	case nalAggregate265:
		return units(p[2:])
	case nalFragment265:
		if p[2]&0x80 != 0 {
			return len(p) - 3 + 2 + startCode
		}
		return len(p) - 3
	}
	return len(p) + startCode
}

// units is the size of the NAL units of an aggregation packet, each after its length.
func units(p []byte) (size int) {
	for len(p) > 2 {
		n := int(binary.BigEndian.Uint16(p))
		if n == 0 || n+2 > len(p) {
			break
		}
		size += n + startCode
		p = p[2+n:]
	}
	return size
}

func codedJPEG(p []byte) int {
	n := len(p) - jpegHeader
	if p[1]|p[2]|p[3] == 0 { // the first of its picture
		if p[5] >= 128 && len(p) >= jpegHeader+jpegTables {
			n -= jpegTables + int(binary.BigEndian.Uint16(p[jpegHeader+2:]))
		}
		n += jpegPicture
	}
	return n
}

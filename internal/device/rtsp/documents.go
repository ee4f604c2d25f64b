package rtsp

import "github.com/pion/rtp"

// Documents puts documents of metadata together from packets: the last of each has the marker (ONVIF Streaming, 5.1.2.1.1).
// The zero Documents with a Track and a limit is ready.
type Documents struct {
	Track Track
	Most  int // bytes of a document; a longer one is lost
	buf   []byte
	seq   uint16
	seen  bool
	bad   bool // what is being put together has a hole, or is too long
}

// Add takes one packet, and returns the document that it ends, or that one is lost.
func (d *Documents) Add(raw []byte) (doc []byte, lost bool) {
	var p rtp.Packet
	if p.Unmarshal(raw) != nil || p.PayloadType != d.Track.Payload {
		return nil, false
	}
	d.bad = d.bad || d.seen && p.SequenceNumber != d.seq+1
	d.seen, d.seq = true, p.SequenceNumber
	if len(d.buf)+len(p.Payload) > d.Most {
		d.bad = true
	}
	if !d.bad {
		d.buf = append(d.buf, p.Payload...)
	}
	if !p.Marker {
		return nil, false
	}
	doc, lost = d.buf, d.bad
	d.buf, d.bad = make([]byte, 0, len(doc)+len(doc)/8), false // the next is much like it
	if lost || len(doc) == 0 {
		return nil, lost
	}
	return doc, false
}

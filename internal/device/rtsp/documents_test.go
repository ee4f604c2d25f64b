package rtsp

import (
	"testing"

	"github.com/pion/rtp"
)

// A document is whole with its marker; one with a hole, or longer than it may be, is lost, and the next is whole again.
func TestDocumentsArePutTogether(t *testing.T) {
	d := Documents{Track: Track{Payload: 107}, Most: 10}
	for i, x := range []struct {
		seq    uint16
		marker bool
		kind   uint8
		text   string
		want   string
		lost   bool
	}{
		{65535, false, 107, "ab", "", false},
		{0, true, 107, "cd", "abcd", false}, // numbers begin anew
		{1, true, 107, "e", "e", false},
		{2, false, 107, "f", "", false},
		{4, true, 107, "h", "", true}, // one is missing
		{5, true, 107, "i", "i", false},
		{9, true, 107, "j", "", true}, // the beginning is missing
		{10, false, 107, "123456", "", false},
		{11, false, 107, "789012", "", false},
		{12, true, 107, "3", "", true}, // too long
		{13, true, 96, "of another track", "", false},
		{13, true, 107, "k", "k", false},
		{14, true, 107, "", "", false}, // of nothing
	} {
		raw, err := (&rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: x.kind, SequenceNumber: x.seq, Marker: x.marker}, Payload: []byte(x.text)}).Marshal()
		if err != nil {
			t.Fatal(err)
		}
		if doc, lost := d.Add(raw); string(doc) != x.want || lost != x.lost {
			t.Errorf("packet %d: %q %t, want %q %t", i, doc, lost, x.want, x.lost)
		}
	}
	if doc, lost := d.Add([]byte("no packet")); doc != nil || lost {
		t.Errorf("%q %t", doc, lost)
	}
}

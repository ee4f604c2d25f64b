package live

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/pion/rtp/codecs"
)

// unpacked are the bytes of the NAL units of payloads, as a receiver puts them together.
func unpacked(t *testing.T, payloads [][]byte) []byte {
	t.Helper()
	var out []byte
	d := &codecs.H264Packet{}
	for _, p := range payloads {
		if len(p) > maxPayload {
			t.Errorf("a payload of %d bytes", len(p))
		}
		raw, err := d.Unmarshal(p)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, raw...)
	}
	return out
}

// However a camera packs its stream, what comes out is the same NAL units in payloads that fit.
func TestWhatIsTooLargeIsPartedAnew(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 300 {
		nal := make([]byte, 2+r.IntN(20000))
		for i := range nal {
			nal[i] = byte(r.Uint32())
		}
		nal[0] = 0x60 | []byte{1, 5, 6, 7, 8}[r.IntN(5)]
		want := append([]byte{0, 0, 0, 1}, nal...)
		if got := unpacked(t, fit(nal)); !bytes.Equal(got, want) {
			t.Fatalf("a unit of %d bytes comes back as %d", len(nal), len(got))
		}
		if nal[0]&0x1f >= 7 { // a packer keeps parameter sets back
			continue
		}
		var again [][]byte
		for _, p := range (&codecs.H264Payloader{DisableStapA: true}).Payload(uint16(500+r.IntN(9000)), nal) {
			again = append(again, fit(p)...)
		}
		if got := unpacked(t, again); !bytes.Equal(got, want) {
			t.Fatalf("packed by the camera, a unit of %d bytes comes back as %d", len(nal), len(got))
		}
	}
	stap := []byte{0x78, 0, 3, 0x67, 1, 2, 0, 2, 0x68, 9}
	if got := fit(stap); len(got) != 1 || !bytes.Equal(got[0], stap) {
		t.Errorf("%x", got)
	}
	if key, set := begins(stap); key || !set {
		t.Error("an aggregate with a parameter set")
	}
	if key, set := begins([]byte{0x7c, 0x85, 1}); !key || set {
		t.Error("the first fragment of a key frame")
	}
	if key, _ := begins([]byte{0x7c, 0x05, 1}); key {
		t.Error("a later one")
	}
	if got := withoutCandidates("v=0\r\na=candidate:1 1 udp 1 192.0.2.1 9 typ host\r\na=mid:0\r\na=end-of-candidates\r\n"); got != "v=0\r\na=mid:0\r\n" {
		t.Errorf("%q", got)
	}
}

func FuzzFit(f *testing.F) {
	f.Add([]byte{0x78, 0, 3, 0x67, 1, 2, 0, 2, 0x68, 9})
	f.Add([]byte{0x7c, 0x85, 1, 2, 3})
	f.Add(bytes.Repeat([]byte{0x65}, 3000))
	f.Fuzz(func(t *testing.T, p []byte) {
		begins(p)
		size := 0
		for _, part := range fit(p) {
			if len(part) > maxPayload || len(part) == 0 {
				t.Fatalf("a payload of %d bytes", len(part))
			}
			size += len(part)
		}
		if size > 2*len(p)+64 {
			t.Fatalf("%d bytes become %d", len(p), size)
		}
	})
}

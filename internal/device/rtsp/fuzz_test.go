package rtsp

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"math"
	"testing"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/device/dial"
)

// Whatever a device sends as packets, they are counted within what they can be, and nothing breaks.
func FuzzMeter(f *testing.F) {
	packet := func(seq uint16, stamp uint32, body ...byte) []byte {
		raw, err := (&rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 96, SequenceNumber: seq, Timestamp: stamp}, Payload: body}).Marshal()
		if err != nil {
			f.Fatal(err)
		}
		return append(binary.BigEndian.AppendUint16(nil, uint16(len(raw))), raw...)
	}
	f.Add(byte(0), append(packet(1, 0, 0x67, 1, 2), packet(2, 6000, 0x65, 1)...))
	f.Add(byte(1), append(packet(9, 0, 98, 0x81, 0x93), packet(5, 1, 66, 1, 2, 3)...))
	f.Add(byte(2), packet(1, 7, 0, 0, 0, 0, 1, 255, 80, 45, 0, 0, 0, 128))
	f.Add(byte(3), packet(1, 160, bytes.Repeat([]byte{0x7f}, 160)...))
	f.Fuzz(func(t *testing.T, kind byte, data []byte) {
		codec := []string{"H264", "H265", "JPEG", "PCMU", "MPEG4-GENERIC"}[int(kind)%5]
		track := Track{Codec: codec, Payload: 96, Clock: 90000}
		m, ear := &Meter{Track: track}, &Ear{Track: track}
		at, packets := time.Unix(0, 0), 0
		for len(data) > 2 {
			n := min(int(binary.BigEndian.Uint16(data)), len(data)-2)
			m.Add(data[2:2+n], at)
			ear.Add(data[2 : 2+n])
			data, at, packets = data[2+n:], at.Add(40*time.Millisecond), packets+1
		}
		r, h := m.Result(), ear.Result()
		for _, v := range []float64{r.FPS, r.MeanKbps, r.PeakKbps, r.Seconds, h.Kbps} {
			if math.IsNaN(v) || math.IsInf(v, 0) || v < 0 {
				t.Fatalf("%+v %+v", r, h)
			}
		}
		if r.Frames > packets || r.Lost < 0 || h.Lost < 0 || h.Level > 0.1 || h.Level < silence {
			t.Fatalf("of %d packets: %+v %+v", packets, r, h)
		}
	})
}

// Whatever a device answers is read within its limits, or told as what can't be read.
func FuzzAnswer(f *testing.F) {
	f.Add([]byte("RTSP/1.0 200 OK\r\nCSeq: 1\r\nContent-Length: 3\r\n\r\nabc"))
	f.Add([]byte("$\x00\x00\x02xxRTSP/1.0 453 Not Enough Bandwidth\r\n\r\n"))
	f.Add([]byte("RTSP/1.0 401 Unauthorized\r\nWWW-Authenticate: Digest realm=\"x\", nonce=\"y\"\r\n\r\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		c := &Conn{ctx: context.Background(), r: bufio.NewReaderSize(bytes.NewReader(data), 64<<10), on: "192.0.2.7:554"}
		for range 8 {
			res, err := c.read("DESCRIBE")
			if err != nil {
				var told *dial.Error
				if !errors.As(err, &told) {
					t.Fatalf("%T %v", err, err)
				}
				return
			}
			if len(res.body) > maxBody {
				t.Fatalf("a body of %d bytes", len(res.body))
			}
			_ = c.challenged(res)
			_, _ = parseSDP(res.body)
		}
	})
}

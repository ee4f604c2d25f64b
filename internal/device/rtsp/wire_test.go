package rtsp

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"net"
	"net/textproto"
	"strings"
	"testing"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/core/stream"
)

// picture is a packet of an H.264 picture.
func packet(seq uint16, stamp uint32, payload uint8, nal ...byte) []byte {
	raw, err := (&rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: payload, SequenceNumber: seq, Timestamp: stamp, Marker: true}, Payload: nal}).Marshal()
	if err != nil {
		panic(err)
	}
	return raw
}

// plays is a server that answers anything and then has send write what comes on the wire. transport is
// what it chooses at SETUP.
func plays(t *testing.T, description, transport string, send func(w io.Writer, interleaved func(channel byte, raw []byte))) (m stream.Measured, took time.Duration) {
	t.Helper()
	host, uri := server(t, func(c net.Conn) {
		r := textproto.NewReader(bufio.NewReader(c))
		for {
			line, err := r.ReadLine()
			if err != nil {
				return
			}
			h, _ := r.ReadMIMEHeader()
			method, _, _ := strings.Cut(line, " ")
			body := ""
			if method == "DESCRIBE" {
				body = description
			}
			also := ""
			if method == "SETUP" {
				also = "Transport: " + transport + "\r\n"
			}
			fmt.Fprintf(c, "RTSP/1.0 200 OK\r\nCSeq: %s\r\nSession: 7\r\n%sContent-Length: %d\r\n\r\n%s", h.Get("Cseq"), also, len(body), body)
			if method == "PLAY" {
				send(c, func(channel byte, raw []byte) {
					head := []byte{'$', channel, 0, 0}
					binary.BigEndian.PutUint16(head[2:], uint16(len(raw)))
					_, _ = c.Write(append(head, raw...))
				})
			}
		}
	})
	began := time.Now()
	m = MeasureOver(context.Background(), host, stream.Profile{Token: "main", URI: uri, Codec: "H264"}, Login{}, 600*time.Millisecond, WithMetadata)
	return m, time.Since(began)
}

const oneVideo = "m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:v\r\n"

// pace sends 25 pictures a second for a while, as many as each picture asks for.
func pace(long time.Duration, each func(i int)) {
	tick := time.NewTicker(40 * time.Millisecond)
	defer tick.Stop()
	for i := range int(long / (40 * time.Millisecond)) {
		each(i)
		<-tick.C
	}
}

func TestNoPictureIsToldWithWhatCame(t *testing.T) {
	for name, x := range map[string]struct {
		description, transport string
		send                   func(io.Writer, func(byte, []byte))
		says                   string
	}{
		"another format": {"m=video 0 RTP/AVP 96 97\r\na=rtpmap:96 H264/90000\r\na=rtpmap:97 H265/90000\r\na=control:v\r\n", "RTP/AVP/TCP;unicast;interleaved=0-1",
			func(_ io.Writer, put func(byte, []byte)) {
				pace(8*time.Second, func(i int) { put(0, packet(uint16(i), uint32(i*3600), 97, 0x65, 1)) })
			},
			"its packets are of format 97, and it declares 96"},
		"RTCP alone": {oneVideo, "RTP/AVP/TCP;unicast;interleaved=0-1", func(_ io.Writer, put func(byte, []byte)) {
			pace(8*time.Second, func(int) { put(1, []byte{0x80, 200, 0, 6, 1, 2, 3, 4}) })
		}, "RTCP alone"},
		"metadata alone": {oneVideo + "m=application 0 RTP/AVP 107\r\na=rtpmap:107 VND.ONVIF.METADATA/90000\r\na=control:m\r\n", "RTP/AVP/TCP;unicast", func(_ io.Writer, put func(byte, []byte)) {
			pace(8*time.Second, func(i int) { put(6, packet(uint16(i), uint32(i*3600), 107, '<')) })
		}, "its metadata alone"},
		"a flood of RTCP": {oneVideo, "RTP/AVP/TCP;unicast;interleaved=0-1", func(w io.Writer, put func(byte, []byte)) {
			for end := time.Now().Add(8 * time.Second); time.Now().Before(end); {
				if _, err := w.Write([]byte{'$', 1, 0, 4, 0x80, 200, 0, 0}); err != nil {
					return
				}
			}
		}, "floods the conversation with RTCP"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m, took := plays(t, x.description, x.transport, x.send)
			if !strings.Contains(m.Trouble, x.says) || m.Frames != 0 || took > 2*stepLimit {
				t.Errorf("after %s: %+v, want %q", took, m, x.says)
			}
		})
	}
}

// The device chooses the channels: what it answers counts, not what it was asked for.
func TestTheDeviceChoosesItsChannels(t *testing.T) {
	t.Parallel()
	m, _ := plays(t, oneVideo, "RTP/AVP/TCP;unicast;interleaved=4-5;ssrc=1", func(_ io.Writer, put func(byte, []byte)) {
		pace(4*time.Second, func(i int) {
			nal := byte(0x41)
			if i%25 == 0 {
				nal = 0x65
			}
			put(4, packet(uint16(i), uint32(i*3600), 96, nal, 1))
		})
	})
	if m.Trouble != "" || m.Frames < 10 || math.Abs(m.FPS-25) > 1 {
		t.Errorf("%+v", m)
	}
}

// A stream is played until two key frames came, and no longer than it may be; where none followed, they
// are further apart than that.
func TestKeyFramesAreWaitedFor(t *testing.T) {
	for name, x := range map[string]struct {
		every int // pictures
		says  string
		least time.Duration
	}{
		"a second apart": {25, "1.0 s", 600 * time.Millisecond}, "further apart than the least": {45, "1.8 s", 1500 * time.Millisecond}, "hardly ever": {1000, "more than 2.", 2400 * time.Millisecond},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m, took := plays(t, oneVideo, "RTP/AVP/TCP;unicast;interleaved=0-1", func(_ io.Writer, put func(byte, []byte)) {
				pace(8*time.Second, func(i int) {
					nal := byte(0x41)
					if i%x.every == 15 { // the first after what isn't counted
						nal = 0x65
					}
					put(0, packet(uint16(i), uint32(i*3600), 96, nal, 1))
				})
			})
			if m.Trouble != "" || !strings.HasPrefix(m.KeyText(), x.says) || took < x.least {
				t.Errorf("after %s: %s, %+v", took, m.KeyText(), m)
			}
		})
	}
}

// Pictures that are coded between others come in another order than they are shown: their times give the
// rate all the same, and an even wire no jitter.
func TestPicturesOutOfOrderAreEven(t *testing.T) {
	for name, order := range map[string][]int{"as they are shown": {0}, "one between": {1, 0}, "two between": {2, 0, 1}, "a pyramid": {3, 1, 0, 2}} {
		m := &Meter{Track: Track{Codec: "H264", Payload: 96, Clock: 90000}}
		began := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
		m.Add(packet(0, 1000, 96, 0x65, 1), began)
		for i := range 240 {
			shown := i/len(order)*len(order) + order[i%len(order)]
			m.Add(packet(uint16(i+1), uint32(1000+3600*(shown+1)), 96, 0x41, 1), began.Add(time.Duration(i+1)*40*time.Millisecond))
		}
		r := m.Result()
		if math.Abs(r.FPS-25) > 0.15 || r.Jitter > 2*time.Millisecond || r.Frames != 241 {
			t.Errorf("%s: %.2f/s with a jitter of %s over %d pictures", name, r.FPS, r.Jitter, r.Frames)
		}
	}
}

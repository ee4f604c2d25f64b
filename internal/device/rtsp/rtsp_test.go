package rtsp

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"strings"
	"testing"
	"time"

	"github.com/pion/rtp"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// server answers every connection with f.
func server(t *testing.T, f func(net.Conn)) (dial.Host, string) {
	t.Helper()
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { f(c); _ = c.Close() }()
		}
	}()
	return (&dial.Dialer{}).At(netip.MustParseAddr("127.0.0.1")), "rtsp://" + l.Addr().String() + "/main"
}

func say(text string) func(net.Conn) {
	return func(c net.Conn) {
		_, _ = c.Read(make([]byte, 4096))
		_, _ = io.WriteString(c, text)
	}
}

func TestBadServersEndInASentence(t *testing.T) {
	for _, tc := range []struct {
		name string
		f    func(net.Conn)
		kind error
	}{
		{"closes", func(net.Conn) {}, dial.ErrUnreachable},
		{"speaks HTTP", say("HTTP/1.1 200 OK\r\n\r\n"), dial.ErrMalformed},
		{"a status that is none", say("RTSP/1.0 two OK\r\n\r\n"), dial.ErrMalformed},
		{"an endless line", func(c net.Conn) {
			_, _ = c.Read(make([]byte, 4096))
			for range 100 {
				if _, err := io.WriteString(c, strings.Repeat("x", 4096)); err != nil {
					return
				}
			}
		}, dial.ErrMalformed},
		{"endless headers", func(c net.Conn) {
			_, _ = c.Read(make([]byte, 4096))
			_, _ = io.WriteString(c, "RTSP/1.0 200 OK\r\n")
			for range 10000 {
				if _, err := io.WriteString(c, "X: "+strings.Repeat("y", 100)+"\r\n"); err != nil {
					return
				}
			}
		}, dial.ErrMalformed},
		{"a body too long", say("RTSP/1.0 200 OK\r\nContent-Length: 99999999\r\n\r\n"), dial.ErrMalformed},
		{"a body cut short", say("RTSP/1.0 200 OK\r\nContent-Length: 400\r\n\r\nv=0"), dial.ErrUnreachable},
		{"a description without video", say("RTSP/1.0 200 OK\r\nContent-Length: 5\r\n\r\nv=0\r\n"), dial.ErrMalformed},
		{"redirect", say("RTSP/1.0 302 Found\r\nLocation: rtsp://192.0.2.1/\r\n\r\n"), dial.ErrElsewhere},
		{"401", say("RTSP/1.0 401 Unauthorized\r\n\r\n"), dial.ErrNotAuthorised},
		{"only Basic", say("RTSP/1.0 401 Unauthorized\r\nWWW-Authenticate: Basic realm=\"x\"\r\n\r\n"), dial.ErrNotSupported},
		{"404", say("RTSP/1.0 404 Not Found\r\n\r\n"), dial.ErrRefused},
	} {
		t.Run(tc.name, func(t *testing.T) {
			host, uri := server(t, tc.f)
			user := "u"
			if tc.name == "401" {
				user = ""
			}
			c, err := Open(context.Background(), host, uri, Login{Username: user, Password: "p"})
			if err != nil {
				t.Fatal(err)
			}
			defer c.Close()
			if _, err := c.Describe(); !errors.Is(err, tc.kind) || !strings.Contains(err.Error(), "RTSP DESCRIBE on 127.0.0.1:") {
				t.Errorf("%v, want %v", err, tc.kind)
			}
		})
	}
}

func TestAStallIsSaidAsOne(t *testing.T) {
	host, uri := server(t, func(c net.Conn) {
		for i := 1; ; i++ {
			if _, err := c.Read(make([]byte, 4096)); err != nil {
				return
			}
			body := ""
			if i == 1 {
				body = "m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:t\r\n"
			}
			fmt.Fprintf(c, "RTSP/1.0 200 OK\r\nCSeq: %d\r\nSession: 1\r\nContent-Length: %d\r\n\r\n%s", i, len(body), body)
		}
	})
	begun := time.Now()
	m := Measure(context.Background(), host, stream.Profile{Token: "main", URI: uri}, Login{Username: "u", Password: "p"}, time.Second)
	if !strings.Contains(m.Trouble, "it stalled") || time.Since(begun) > 2*StepLimit {
		t.Errorf("after %v: %+v", time.Since(begun), m)
	}
}

func TestParseSDPLeniently(t *testing.T) {
	for _, tc := range []struct {
		name, sdp, codec string
	}{
		{"whole", "v=0\r\no=- 1 1 IN IP4 0.0.0.0\r\ns=x\r\nt=0 0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:trackID=0\r\n", "H264"},
		{"no o, s, t and odd order", "m=audio 0 RTP/AVP 0\nb=AS:64\nm=video 0 RTP/AVP 97\nb=AS:512\na=control:x\na=rtpmap:97 h265/90000\n", "H265"},
		{"JPEG by its static type", "m=video 0 RTP/AVP 26\r\na=control:y\r\n", "JPEG"},
	} {
		tr, err := ParseSDP([]byte(tc.sdp))
		if err != nil || tr.Codec != tc.codec || tr.Clock != 90000 || tr.Control == "" {
			t.Errorf("%s: %+v %v", tc.name, tr, err)
		}
	}
}

func FuzzParseSDP(f *testing.F) {
	f.Add([]byte("m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=fmtp:96 sprop-parameter-sets=Z2QAH6w=,aO48\r\n"))
	f.Add([]byte("m=video 0 RTP/AVP 26\n"))
	f.Fuzz(func(t *testing.T, body []byte) {
		if tr, err := ParseSDP(body); err == nil && (tr.Codec == "" || tr.Clock <= 0) {
			t.Errorf("%+v", tr)
		}
	})
}

// A stream of known make-up is measured as what it is: 15 frames a second, a key
// frame each second, one lost packet.
func TestMeterCountsWhatWasSent(t *testing.T) {
	m := Meter{Track: Track{Codec: "H264", Payload: 96, Clock: 90000}}
	now := time.Now()
	seq := uint16(65500) // runs over its end
	for i := range 76 {
		payload := append([]byte{0x41}, make([]byte, 100)...)
		if i%15 == 0 {
			payload = append([]byte{0x65}, make([]byte, 700)...)
		}
		if i == 40 {
			seq++ // lost on the way
		}
		raw, err := (&rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 96, SequenceNumber: seq,
			Timestamp: uint32(i * 6000), Marker: true}, Payload: payload}).Marshal()
		if err != nil {
			t.Fatal(err)
		}
		seq++
		m.Add(raw, now.Add(time.Duration(i)*time.Second/15))
	}
	m.Add([]byte("not RTP"), now)
	r := m.Result()
	// One group: 713 + 14 × 113 bytes a second.
	if want := float64(713+14*113) * 8 / 1000; r.Frames != 76 || r.Lost != 1 || r.KeyEvery != time.Second || r.FPS < 14.99 || r.FPS > 15.01 || r.MeanKbps < want*0.99 || r.MeanKbps > want*1.01 || r.PeakKbps < r.MeanKbps {
		t.Errorf("%+v, want a mean of %.1f kbit/s", r, want)
	}
}

func TestInspectFindsKeyFramesInEveryPacking(t *testing.T) {
	for name, tc := range map[string]struct {
		codec string
		p     []byte
		key   bool
	}{
		"single IDR": {"H264", []byte{0x65, 1}, true}, "single P": {"H264", []byte{0x41, 1}, false},
		"FU-A start of IDR": {"H264", []byte{0x7c, 0x85, 1}, true}, "FU-A middle": {"H264", []byte{0x7c, 0x05, 1}, false},
		"STAP-A with IDR": {"H264", []byte{0x78, 0, 2, 0x67, 1, 0, 2, 0x65, 1}, true}, "STAP-A cut": {"H264",
			[]byte{0x78, 0, 9, 0x65}, false},
		"H.265 IDR": {"H265", []byte{19 << 1, 1, 0}, true}, "H.265 fragment": {"H265", []byte{49 << 1, 1, 0x80 | 19},
			true}, "H.265 P": {"H265", []byte{1 << 1, 1, 0}, false},
	} {
		if key, _ := inspect(tc.codec, tc.p); key != tc.key {
			t.Errorf("%s: %v", name, key)
		}
	}
}

// A nonce that is too old is never sent: the keep-alive goes without credentials, is asked
// for them with a new nonce, and answers with that.
func TestAKeepAliveSendsNoDeadNonce(t *testing.T) {
	t.Parallel()
	heard := make(chan string, 8)
	host, url := server(t, func(c net.Conn) {
		r := textproto.NewReader(bufio.NewReader(c))
		for nonce := 1; ; {
			line, err := r.ReadLine()
			if err != nil {
				return
			}
			h, err := r.ReadMIMEHeader()
			if err != nil {
				return
			}
			method, _, _ := strings.Cut(line, " ")
			auth := h.Get("Authorization")
			if method == "GET_PARAMETER" {
				heard <- auth
			}
			answer := "RTSP/1.0 200 OK\r\nCSeq: " + h.Get("Cseq") + "\r\nSession: 1\r\n\r\n"
			if auth == "" {
				nonce++
				answer = fmt.Sprintf("RTSP/1.0 401 Unauthorized\r\nCSeq: %s\r\nWWW-Authenticate: Digest realm=\"x\", nonce=\"n%d\"\r\n\r\n", h.Get("Cseq"), nonce)
			}
			if method == "GET_PARAMETER" && auth != "" {
				answer += "$\x00\x00\x04abcd" // something is played
			}
			if _, err := io.WriteString(c, answer); err != nil {
				return
			}
		}
	})
	c, err := Open(t.Context(), host, url, Login{Username: "otter", Password: "secret"})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.do("SETUP", c.base, ""); err != nil {
		t.Fatal(err)
	}
	if err := c.KeepAlive(); err != nil {
		t.Fatal(err)
	}
	if got := <-heard; !strings.Contains(got, `nonce="n2"`) {
		t.Errorf("a fresh nonce isn't used: %q", got)
	}
	if _, err := c.Packet(); err != nil {
		t.Fatal(err)
	}
	c.Fresh = 0 // it is old now
	if err := c.KeepAlive(); err != nil {
		t.Fatal(err)
	}
	c.Fresh = time.Minute
	if _, err := c.Packet(); err != nil {
		t.Fatal(err)
	}
	if first, second := <-heard, <-heard; first != "" || !strings.Contains(second, `nonce="n3"`) {
		t.Errorf("asked with %q, then with %q", first, second)
	}
}

// Of several challenges one is answered that can be.
func TestAChallengeThatCanBeAnsweredIsTaken(t *testing.T) {
	t.Parallel()
	got := make(chan string, 1)
	host, url := server(t, func(c net.Conn) {
		r := textproto.NewReader(bufio.NewReader(c))
		for range 2 {
			if _, err := r.ReadLine(); err != nil {
				return
			}
			h, _ := r.ReadMIMEHeader()
			if a := h.Get("Authorization"); a != "" {
				got <- a
			}
			_, _ = io.WriteString(c, "RTSP/1.0 401 Unauthorized\r\nCSeq: "+h.Get("Cseq")+"\r\nWWW-Authenticate: Basic realm=\"x\"\r\nWWW-Authenticate: Digest realm=\"x\", nonce=\"a\", algorithm=WHIRLPOOL\r\nWWW-Authenticate: Digest realm=\"x\", nonce=\"b\", algorithm=SHA-256\r\n\r\n")
		}
	})
	c, err := Open(t.Context(), host, url, Login{Username: "otter", Password: "secret"})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.Describe(); !errors.Is(err, dial.ErrNotAuthorised) {
		t.Error(err)
	}
	if a := <-got; !strings.Contains(a, `nonce="b"`) {
		t.Error(a)
	}
}

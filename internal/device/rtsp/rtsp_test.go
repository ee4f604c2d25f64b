package rtsp

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/hex"
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
	if !strings.Contains(m.Trouble, "it stalled") || time.Since(begun) > 2*stepLimit {
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
		tr, err := parseSDP([]byte(tc.sdp))
		if err != nil || tr.Codec != tc.codec || tr.Clock != 90000 || tr.Control == "" {
			t.Errorf("%s: %+v %v", tc.name, tr, err)
		}
	}
}

func FuzzParseSDP(f *testing.F) {
	f.Add([]byte("m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=fmtp:96 sprop-parameter-sets=Z2QAH6w=,aO48\r\n"))
	f.Add([]byte("m=video 0 RTP/AVP 26\n"))
	f.Fuzz(func(t *testing.T, body []byte) {
		if tr, err := parseSDP(body); err == nil && (tr.Codec == "" || tr.Clock <= 0) {
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
	// One group: 701 + 14 × 101 bytes a second, each with its start code.
	if want := float64(701+14*101+15*4) * 8 / 1000; r.Frames != 76 || r.Lost != 1 || r.KeyEvery != time.Second || r.FPS < 14.99 || r.FPS > 15.01 || r.MeanKbps < want*0.99 || r.MeanKbps > want*1.01 || r.PeakKbps < r.MeanKbps {
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

// What a control attribute names, beside the base of its description.
func TestControlAddresses(t *testing.T) {
	for _, tc := range []struct{ base, attribute, want string }{
		{"rtsp://192.0.2.7/main/", "*", "rtsp://192.0.2.7/main/"},
		{"rtsp://192.0.2.7/main", "", "rtsp://192.0.2.7/main"},
		{"rtsp://192.0.2.7/cam?channel=1&sub=0", "*", "rtsp://192.0.2.7/cam?channel=1&sub=0"},
		{"rtsp://192.0.2.7/main/", "trackID=0", "rtsp://192.0.2.7/main/trackID=0"},
		{"rtsp://192.0.2.7/main", "trackID=0", "rtsp://192.0.2.7/main/trackID=0"},
		{"rtsp://192.0.2.7/cam?channel=1", "trackID=0", "rtsp://192.0.2.7/cam/trackID=0?channel=1"},
		{"rtsp://192.0.2.7/cam/?channel=1", "trackID=0", "rtsp://192.0.2.7/cam/trackID=0?channel=1"},
		{"rtsp://192.0.2.7/cam?channel=1&sub=0/", "trackID=0", "rtsp://192.0.2.7/cam?channel=1&sub=0/trackID=0"},
		{"rtsp://192.0.2.7/main/", "/other/video", "rtsp://192.0.2.7/other/video"},
		{"rtsp://192.0.2.7:8554/cam?channel=1", "/other/video?x=1", "rtsp://192.0.2.7:8554/other/video?x=1"},
		{"rtsp://192.0.2.7", "v", "rtsp://192.0.2.7/v"},
		{"rtsp://192.0.2.7/a|b/{c}", "v", "rtsp://192.0.2.7/a|b/{c}/v"},
		{"rtsp://192.0.2.7/main/", "rtsp://192.0.2.8/other/video", "rtsp://192.0.2.8/other/video"},
	} {
		if got := control(tc.base, tc.attribute); got != tc.want {
			t.Errorf("%s and %q: %s, want %s", tc.base, tc.attribute, got, tc.want)
		}
	}
}

// A server that knows exactly the addresses that it gave: nothing is appended to them, and
// the whole is controlled by its own address.
func TestAddressesAreUsedAsTheyWereGiven(t *testing.T) {
	for _, tc := range []struct {
		name, headers, session, video string // of the description; %s is the server
		setup, play                   string // as they must be asked for
	}{
		{"no base, a query", "", "*", "trackID=0", "/cam/trackID=0?channel=1", "/cam?channel=1"},
		{"Content-Base", "Content-Base: rtsp://%s/base/\r\n", "*", "v", "/base/v", "/base/"},
		{"Content-Base without a slash", "Content-Base: rtsp://%s/base\r\n", "", "v", "/base/v", "/base"},
		{"from the host's root", "Content-Base: rtsp://%s/base/\r\n", "*", "/v", "/v", "/base/"},
		{"Content-Location", "Content-Location: rtsp://%s/there\r\n", "*", "v", "/there/v", "/there"},
		{"addresses of their own", "", "rtsp://%s/whole?x=1", "rtsp://%s/video?x=2", "/video?x=2", "/whole?x=1"},
		{"of another network", "Content-Base: rtsp://10.9.9.9:%P/base/\r\n", "*", "v", "/base/v", "/base/"},
	} {
		t.Run(tc.name, func(t *testing.T) {
			asked := make(chan string, 8)
			host, uri := server(t, func(c net.Conn) {
				r := textproto.NewReader(bufio.NewReader(c))
				at := c.LocalAddr().String()
				_, port, _ := net.SplitHostPort(at)
				fill := strings.NewReplacer("%s", at, "%P", port)
				for {
					line, err := r.ReadLine()
					if err != nil {
						return
					}
					h, _ := r.ReadMIMEHeader()
					method, rest, _ := strings.Cut(line, " ")
					target, _, _ := strings.Cut(rest, " ")
					asked <- method + " " + strings.TrimPrefix(target, "rtsp://"+at)
					body := ""
					if method == "DESCRIBE" {
						body = fill.Replace("a=control:" + tc.session + "\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:" + tc.video + "\r\n")
					}
					fmt.Fprintf(c, "RTSP/1.0 200 OK\r\nCSeq: %s\r\nSession: 7;timeout=60\r\n%sContent-Length: %d\r\n\r\n%s", h.Get("Cseq"), fill.Replace(tc.headers), len(body), body)
				}
			})
			uri = strings.TrimSuffix(uri, "/main") + "/cam?channel=1"
			c, err := Open(context.Background(), host, uri, Login{})
			if err != nil {
				t.Fatal(err)
			}
			defer c.Close()
			track, err := c.Describe()
			if err != nil {
				t.Fatal(err)
			}
			if err := c.Play(track); err != nil {
				t.Fatal(err)
			}
			for _, want := range []string{"DESCRIBE /cam?channel=1", "SETUP " + tc.setup, "PLAY " + tc.play} {
				if got := <-asked; got != want {
					t.Errorf("it was asked for %q, want %q", got, want)
				}
			}
		})
	}
}

// The size of a picture is read wherever it is told, and where it isn't nothing is said.
func TestASizeIsReadWhereItIsTold(t *testing.T) {
	sps265, err := hex.DecodeString("420101016000000300900000030000" + "03005da00280802d165959a4932b80400000fa4000177002")
	if err != nil {
		t.Fatal(err)
	}
	described, err := parseSDP([]byte("m=video 0 RTP/AVP 96\r\na=rtpmap:96 H265/90000\r\na=fmtp:96 sprop-vps=QAE=;sprop-sps=" + base64.StdEncoding.EncodeToString(sps265) + "\r\n"))
	if err != nil {
		t.Fatal(err)
	}
	plain := Track{Codec: "H265", Payload: 96, Clock: 90000}
	joined := append([]byte{nalAggregate265 << 1, 1, 0, byte(len(sps265))}, sps265...)
	for _, tc := range []struct {
		name    string
		track   Track
		payload []byte
		w, h    int
	}{
		{"H.265, described", described, []byte{1 << 1, 1, 0}, 1280, 720},
		{"H.265, sent by itself", plain, sps265, 1280, 720},
		{"H.265, sent with others", plain, joined, 1280, 720},
		{"H.265, not told", plain, []byte{19 << 1, 1, 0}, 0, 0},
		{"JPEG", Track{Codec: "JPEG", Payload: 96, Clock: 90000}, []byte{0, 0, 0, 0, 1, 80, 80, 45, 1, 2}, 640, 360},
		{"JPEG too large to be told", Track{Codec: "JPEG", Payload: 96, Clock: 90000}, []byte{0, 0, 0, 0, 1, 80, 0, 45, 1, 2}, 0, 0},
		{"another codec", Track{Codec: "VP8", Payload: 96, Clock: 90000}, []byte{1, 2, 3}, 0, 0},
	} {
		m := Meter{Track: tc.track}
		raw, err := (&rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 96, Timestamp: 1}, Payload: tc.payload}).Marshal()
		if err != nil {
			t.Fatal(err)
		}
		m.Add(raw, time.Now())
		if r := m.Result(); r.Width != tc.w || r.Height != tc.h {
			t.Errorf("%s: %d × %d, want %d × %d", tc.name, r.Width, r.Height, tc.w, tc.h)
		}
	}
}

// Packets that come late or twice aren't lost, and what runs far ahead is another beginning.
func TestLossIsToldByNumbers(t *testing.T) {
	for _, tc := range []struct {
		name    string
		numbers []uint16
		lost    int
	}{
		{"in order", []uint16{7, 8, 9, 10}, 0},
		{"over the end", []uint16{65534, 65535, 0, 1}, 0},
		{"one missing", []uint16{7, 8, 10, 11}, 1},
		{"one late", []uint16{7, 9, 8, 10}, 0},
		{"one late over the end", []uint16{65535, 1, 0, 2}, 0},
		{"one twice", []uint16{7, 8, 8, 9}, 0},
		{"one twice and one missing", []uint16{7, 8, 8, 10}, 1},
		{"begun anew", []uint16{7, 8, 40000, 40001}, 0},
		{"begun anew further back", []uint16{40000, 40001, 7, 8}, 0},
	} {
		m := Meter{Track: Track{Codec: "H264", Payload: 96, Clock: 90000}}
		now := time.Now()
		for i, n := range tc.numbers {
			raw, err := (&rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 96, SequenceNumber: n, Timestamp: uint32(i) * 6000}, Payload: []byte{0x41, 1}}).Marshal()
			if err != nil {
				t.Fatal(err)
			}
			m.Add(raw, now.Add(time.Duration(i)*time.Second/15))
		}
		if r := m.Result(); r.Lost != tc.lost {
			t.Errorf("%s: %d lost, want %d", tc.name, r.Lost, tc.lost)
		}
	}
}

// Jitter is of arrivals against timestamps: a steady stream has none, one that comes now early
// and now late has about what it strays.
func TestJitter(t *testing.T) {
	for _, stray := range []time.Duration{0, 20 * time.Millisecond} {
		m := Meter{Track: Track{Codec: "H264", Payload: 96, Clock: 90000}}
		now := time.Now()
		for i := range 200 {
			raw, err := (&rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 96, SequenceNumber: uint16(i), Timestamp: uint32(i) * 3600}, Payload: []byte{0x41, 1}}).Marshal()
			if err != nil {
				t.Fatal(err)
			}
			m.Add(raw, now.Add(time.Duration(i)*40*time.Millisecond+stray*time.Duration(i%2)))
		}
		if j := m.Result().Jitter; j < stray*9/10 || j > stray*11/10+time.Microsecond {
			t.Errorf("strays by %v, jitter %v", stray, j)
		}
	}
}

// What a payload carries of the coded stream, in every packing.
func TestCodedBytes(t *testing.T) {
	for _, tc := range []struct {
		name, codec string
		p           []byte
		want        int64
	}{
		{"H.264, a unit", "H264", []byte{0x65, 1, 2}, 3 + 4},
		{"H.264, two units in one", "H264", []byte{0x78, 0, 2, 0x67, 1, 0, 3, 0x65, 1, 2}, 2 + 4 + 3 + 4},
		{"H.264, one that lies about its length", "H264", []byte{0x78, 0, 9, 0x65}, 0},
		{"H.264, the first fragment", "H264", []byte{0x7c, 0x85, 1, 2, 3}, 1 + 3 + 4},
		{"H.264, a further one", "H264", []byte{0x7c, 0x05, 1, 2, 3}, 3},
		{"H.264, a fragment of nothing", "H264", []byte{0x7c}, 0},
		{"H.265, a unit", "H265", []byte{19 << 1, 1, 0, 0}, 4 + 4},
		{"H.265, two units in one", "H265", []byte{48 << 1, 1, 0, 3, 33 << 1, 1, 9, 0, 3, 19 << 1, 1, 9}, 3 + 4 + 3 + 4},
		{"H.265, the first fragment", "H265", []byte{49 << 1, 1, 0x80 | 19, 1, 2}, 2 + 2 + 4},
		{"H.265, a further one", "H265", []byte{49 << 1, 1, 19, 1, 2}, 2},
		{"JPEG, the first packet", "JPEG", []byte{0, 0, 0, 0, 1, 80, 80, 45, 1, 2}, 2 + 609},
		{"JPEG, with tables", "JPEG", []byte{0, 0, 0, 0, 1, 255, 80, 45, 0, 0, 0, 2, 7, 7, 1, 2}, 2 + 609},
		{"JPEG, a further one", "JPEG", []byte{0, 0, 5, 0, 1, 80, 80, 45, 1, 2}, 2},
		{"JPEG, one that lies about its tables", "JPEG", []byte{0, 0, 0, 0, 1, 255, 80, 45, 0, 0, 255, 255}, 0},
		{"sound", "PCMU", []byte{1, 2, 3}, 3},
	} {
		if got := coded(tc.codec, tc.p); got != tc.want {
			t.Errorf("%s: %d, want %d", tc.name, got, tc.want)
		}
	}
}

// Metadata that isn't plain is told as what it is coded as, and isn't played (ONVIF Streaming, table 4).
func TestMetadataThatIsCodedIsTold(t *testing.T) {
	for payload, as := range map[string]string{"vnd.onvif.metadata": "", "VND.ONVIF.METADATA": "", "vnd.onvif.metadata.gzip": "gzip",
		"vnd.onvif.metadata.exi.onvif": "EXI", "vnd.onvif.metadata.exi.ext": "EXI", "vnd.onvif.metadata.zstd": "zstd"} {
		tr, err := parseSDP([]byte(oneVideo + "m=application 0 RTP/AVP 107\r\na=rtpmap:107 " + payload + "/90000\r\na=control:m\r\n"))
		if err != nil || tr.Meta == nil || coding(tr.Meta.Codec) != as {
			t.Errorf("%s: %+v %v", payload, tr.Meta, err)
			continue
		}
		ear := Ear{Track: *tr.Meta}
		if got := ear.Noted().Coded; got != as {
			t.Errorf("%s is noted as %q", payload, got)
		}
		if as == "" {
			continue
		}
		if err := new(Conn).PlayMetadata(tr); !errors.Is(err, dial.ErrNotSupported) || !strings.Contains(err.Error(), "coded as "+as) {
			t.Errorf("%s: %v", payload, err)
		}
	}
}

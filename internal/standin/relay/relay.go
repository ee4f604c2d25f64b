// Package relay is a small RTSP server (RFC 2326) with which stand-ins give on what they receive: one
// video track, interleaved over TCP, with Digest sign-in.
package relay

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"net/url"
	"strings"
	"sync"
	"time"

	"duskyharbor/internal/standin/wire"
)

// Stream is what a path gives.
type Stream struct {
	Codec   string // "H264", "H265", "JPEG"
	Payload uint8
	Sets    [][]byte // parameter sets
	// Play sends packets as they come, until ctx ends or send says no.
	Play func(ctx context.Context, send func(raw []byte) bool)
}

// Serve answers at an address until ctx ends; open gives the stream of a path, nil where there is none.
func Serve(ctx context.Context, at netip.AddrPort, digest *wire.Digest, open func(path string) *Stream) error {
	l, err := wire.Listen(ctx, at.String())
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go (&session{conn: conn, digest: digest, open: open}).serve(ctx)
		}
	}()
	return nil
}

type session struct {
	conn    net.Conn
	digest  *wire.Digest
	open    func(string) *Stream
	write   sync.Mutex
	stream  *Stream
	channel byte
	ready   bool
}

func (s *session) serve(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer s.conn.Close()
	context.AfterFunc(ctx, func() { _ = s.conn.Close() })
	r := bufio.NewReader(s.conn)
	for {
		_ = s.conn.SetReadDeadline(time.Now().Add(70 * time.Second))
		b, err := r.Peek(1)
		if err != nil {
			return
		}
		if b[0] == '$' { // reports of the client
			var h [4]byte
			if _, err := io.ReadFull(r, h[:]); err != nil {
				return
			}
			if _, err := r.Discard(int(binary.BigEndian.Uint16(h[2:]))); err != nil {
				return
			}
			continue
		}
		method, target, h, err := wire.RTSPRequest(r)
		if err != nil || !s.handle(ctx, method, target, h) {
			return
		}
	}
}

func (s *session) answer(h textproto.MIMEHeader, status, extra, body string) bool {
	out := "RTSP/1.0 " + status + "\r\nCSeq: " + h.Get("Cseq") + "\r\n" + extra
	if body != "" {
		out += fmt.Sprintf("Content-Length: %d\r\n", len(body))
	}
	return s.put([]byte(out + "\r\n" + body))
}

func (s *session) put(b []byte) bool {
	s.write.Lock()
	defer s.write.Unlock()
	_ = s.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
	_, err := s.conn.Write(b)
	return err == nil
}

func (s *session) handle(ctx context.Context, method, target string, h textproto.MIMEHeader) bool {
	if method == "OPTIONS" {
		return s.answer(h, "200 OK", "Public: OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN, GET_PARAMETER\r\n", "")
	}
	if _, v := s.digest.Check(h.Get("Authorization"), method); v != wire.Right {
		stale := map[bool]string{true: ", stale=true"}[v == wire.Stale]
		return s.answer(h, "401 Unauthorized", "WWW-Authenticate: "+s.digest.Challenge(false)+stale+"\r\n", "")
	}
	const id = "Session: 1;timeout=60\r\n"
	switch method {
	case "DESCRIBE":
		u, err := url.Parse(target)
		if err == nil {
			s.stream = s.open(strings.Trim(u.Path, "/"))
		}
		if s.stream == nil {
			return s.answer(h, "404 Not Found", "", "")
		}
		return s.answer(h, "200 OK", "Content-Base: "+strings.TrimSuffix(target, "/")+"/\r\nContent-Type: application/sdp\r\n", s.stream.sdp(s.conn.LocalAddr()))
	case "SETUP":
		t := h.Get("Transport")
		if s.stream == nil || !strings.Contains(t, "TCP") {
			return s.answer(h, "461 Unsupported Transport", "", "")
		}
		var first, second int
		if i := strings.Index(t, "interleaved="); i >= 0 {
			_, _ = fmt.Sscanf(t[i:], "interleaved=%d-%d", &first, &second)
		}
		s.channel, s.ready = byte(first), true
		return s.answer(h, "200 OK", fmt.Sprintf("Transport: RTP/AVP/TCP;unicast;interleaved=%d-%d\r\n", first, first+1)+id, "")
	case "PLAY":
		if !s.ready {
			return s.answer(h, "455 Method Not Valid in This State", "", "")
		}
		s.ready = false
		ok := s.answer(h, "200 OK", id+"Range: npt=now-\r\n", "")
		go func() {
			s.stream.Play(ctx, s.send)
			_ = s.conn.Close()
		}()
		return ok
	case "GET_PARAMETER":
		return s.answer(h, "200 OK", id, "")
	case "TEARDOWN":
		s.answer(h, "200 OK", id, "")
		return false
	}
	return s.answer(h, "501 Not Implemented", "", "")
}

func (s *session) send(raw []byte) bool {
	out := make([]byte, 4, 4+len(raw))
	out[0], out[1] = '$', s.channel
	binary.BigEndian.PutUint16(out[2:], uint16(len(raw)))
	return s.put(append(out, raw...))
}

// sdp describes the stream (RFC 8866), with its parameter sets (RFC 6184, 8.2.1; RFC 7798, 7.2.1).
func (s *Stream) sdp(at net.Addr) string {
	host, _, _ := net.SplitHostPort(at.String())
	lines := []string{"v=0", "o=- 1 1 IN IP4 " + host, "s=channel", "t=0 0", "a=control:*",
		fmt.Sprintf("m=video 0 RTP/AVP %d", s.Payload), "c=IN IP4 0.0.0.0", fmt.Sprintf("a=rtpmap:%d %s/90000", s.Payload, s.Codec)}
	if p := s.parameters(); p != "" {
		lines = append(lines, fmt.Sprintf("a=fmtp:%d %s", s.Payload, p))
	}
	return strings.Join(append(lines, "a=control:trackID=0", ""), "\r\n")
}

func (s *Stream) parameters() string {
	kinds := map[int][]string{}
	all := make([]string, 0, len(s.Sets))
	for _, set := range s.Sets {
		if len(set) < 4 {
			continue
		}
		text := base64.StdEncoding.EncodeToString(set)
		all = append(all, text)
		kinds[int(set[0]>>1)&0x3f] = append(kinds[int(set[0]>>1)&0x3f], text)
	}
	switch {
	case len(all) == 0:
		return ""
	case s.Codec == "H265":
		return "sprop-vps=" + strings.Join(kinds[32], ",") + ";sprop-sps=" + strings.Join(kinds[33], ",") + ";sprop-pps=" + strings.Join(kinds[34], ",")
	}
	return "packetization-mode=1;profile-level-id=" + fmt.Sprintf("%x", s.Sets[0][1:4]) + ";sprop-parameter-sets=" + strings.Join(all, ",")
}

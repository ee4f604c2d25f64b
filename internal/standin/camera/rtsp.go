package camera

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/pion/rtp"
	"github.com/pion/rtp/codecs"

	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// serveRTSP serves /main and /sub (RFC 2326) with Digest sign-in, RTP interleaved over TCP
// or over UDP.
func (c *Camera) serveRTSP(ctx context.Context, at netip.Addr) error {
	l, err := c.listenTCP(ctx, netip.AddrPortFrom(at, RTSPPort))
	if err != nil {
		return err
	}
	c.run(func() { <-ctx.Done(); _ = l.Close() })
	c.run(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go c.session(ctx, conn)
		}
	})
	return nil
}

type rtspSession struct {
	cam     *Camera
	conn    net.Conn
	write   sync.Mutex
	sub     bool
	channel byte
	udp     *datagrams // nil: interleaved
	setUp   bool
	playing bool
	play    context.CancelFunc
}

func (c *Camera) session(ctx context.Context, conn net.Conn) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer conn.Close()
	go func() { <-ctx.Done(); _ = conn.Close() }()
	s := &rtspSession{cam: c, conn: conn, play: func() {}}
	defer func() { s.udp.close() }()
	r := bufio.NewReader(conn)
	for {
		_ = conn.SetReadDeadline(time.Now().Add(70 * time.Second))
		if b, err := r.Peek(1); err != nil {
			return
		} else if b[0] == '$' {
			if skipInterleaved(r) != nil {
				return
			}
			continue
		}
		method, target, header, err := readRequest(r)
		if err != nil || !s.handle(ctx, method, target, header) {
			return
		}
	}
}

func skipInterleaved(r *bufio.Reader) error {
	head := make([]byte, 4)
	if _, err := io.ReadFull(r, head); err != nil {
		return err
	}
	_, err := r.Discard(int(binary.BigEndian.Uint16(head[2:])))
	return err
}

func readRequest(r *bufio.Reader) (method, target string, h textproto.MIMEHeader, err error) {
	tp := textproto.NewReader(r)
	line, err := tp.ReadLine()
	if err != nil {
		return "", "", nil, err
	}
	f := strings.Fields(line)
	if len(f) != 3 || f[2] != "RTSP/1.0" {
		return "", "", nil, errors.New("not RTSP")
	}
	h, err = tp.ReadMIMEHeader()
	return f[0], f[1], h, err
}

// answer writes a response; it returns false when the connection is gone.
func (s *rtspSession) answer(h textproto.MIMEHeader, status, extra, body string) bool {
	out := "RTSP/1.0 " + status + "\r\nCSeq: " + h.Get("Cseq") + "\r\n" + extra
	if body != "" {
		out += fmt.Sprintf("Content-Length: %d\r\n", len(body))
	}
	s.write.Lock()
	defer s.write.Unlock()
	_ = s.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
	_, err := io.WriteString(s.conn, out+"\r\n"+body)
	return err == nil
}

func (s *rtspSession) handle(ctx context.Context, method, target string, h textproto.MIMEHeader) bool {
	if method == "OPTIONS" {
		return s.answer(h, "200 OK", "Public: OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN, GET_PARAMETER\r\n", "")
	}
	if d := s.cam.lockedFor(); d > 0 {
		return s.answer(h, "403 Forbidden", fmt.Sprintf("Retry-After: %d\r\n", int(d.Seconds())+1), "")
	}
	if _, v := s.cam.rtsp.Check(h.Get("Authorization"), method); v != wire.Right {
		stale := ""
		switch {
		case v == wire.Stale && !s.cam.cfg.Manners.CountsStale:
			stale = ", stale=true"
		case h.Get("Authorization") != "":
			s.cam.wrong()
		}
		return s.answer(h, "401 Unauthorized", "WWW-Authenticate: "+s.cam.rtsp.Challenge(false)+stale+"\r\n", "")
	}
	session := "Session: 1;timeout=60\r\n"
	switch method {
	case "DESCRIBE":
		u, err := url.Parse(target)
		if err != nil || !s.cam.has(strings.Trim(u.Path, "/")) {
			return s.answer(h, "404 Not Found", "", "")
		}
		s.sub = strings.HasPrefix(u.Path, "/sub")
		return s.answer(h, "200 OK", "Content-Base: "+strings.TrimSuffix(target,
			"/")+"/\r\nContent-Type: application/sdp\r\n", s.cam.sdp(s.sub))
	case "SETUP":
		if s.playing {
			return s.answer(h, "455 Method Not Valid in This State", "", "")
		}
		transport, err := s.transport(h.Get("Transport"))
		if err != nil {
			return s.answer(h, "461 Unsupported Transport", "", "")
		}
		s.setUp = true
		return s.answer(h, "200 OK", "Transport: "+transport+"\r\n"+session, "")
	case "PLAY":
		if !s.setUp {
			return s.answer(h, "455 Method Not Valid in This State", "", "")
		}
		ok := s.answer(h, "200 OK", session+"Range: npt=now-\r\n", "")
		s.play()
		s.playing = true
		playing, stop := context.WithCancel(ctx)
		s.play = stop
		go s.stream(playing)
		return ok
	case "GET_PARAMETER":
		return s.answer(h, "200 OK", session, "")
	case "TEARDOWN":
		s.play()
		s.answer(h, "200 OK", session, "")
		return false
	}
	return s.answer(h, "501 Not Implemented", "", "")
}

func (c *Camera) sdp(sub bool) string {
	name := "main"
	if sub {
		name = "sub"
	}
	f := frames(c.cfg.Scene, false, sub)
	var sets []string
	profile := ""
	for _, nal := range f[0] {
		switch nal[0] & 0x1f {
		case 7:
			profile = fmt.Sprintf("%x", nal[1:4])
			sets = append(sets, base64.StdEncoding.EncodeToString(nal))
		case 8:
			sets = append(sets, base64.StdEncoding.EncodeToString(nal))
		}
	}
	return strings.Join([]string{"v=0", "o=- 1 1 IN IP4 " + c.At().String(), "s=" + name, "t=0 0", "a=control:*", "a=range:npt=now-",
		"m=video 0 RTP/AVP 96", "c=IN IP4 0.0.0.0", "a=rtpmap:96 H264/90000",
		"a=fmtp:96 packetization-mode=1;profile-level-id=" + profile + ";sprop-parameter-sets=" + strings.Join(sets, ","),
		"a=control:trackID=0", ""}, "\r\n")
}

// stream sends frames from the next key frame on; timestamps and sequence numbers
// grow over clips and loops.
func (s *rtspSession) stream(ctx context.Context) {
	line := s.cam.line
	n := (line.frame(time.Now())/footage.FPS + 1) * footage.FPS
	pack := &codecs.H264Payloader{}
	seq, base := uint16(time.Now().UnixNano()), uint32(time.Now().UnixNano()>>10)
	for ; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(line.when(n))):
		}
		walk, index := line.clip(n)
		nals := frames(s.cam.cfg.Scene, walk, s.sub)[index]
		var payloads [][]byte
		for _, nal := range nals {
			payloads = append(payloads, pack.Payload(1400, nal)...)
		}
		var out bytes.Buffer
		for i, p := range payloads {
			pkt := rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: 96, SSRC: ssrc, SequenceNumber: seq,
				Timestamp: base + uint32(n*90000/footage.FPS), Marker: i == len(payloads)-1}, Payload: p}
			seq++
			raw, err := pkt.Marshal()
			if err != nil {
				return
			}
			if s.udp != nil {
				s.udp.send(raw, pkt.Timestamp)
				continue
			}
			out.Write([]byte{'$', s.channel, byte(len(raw) >> 8), byte(len(raw))})
			out.Write(raw)
		}
		if s.udp != nil {
			continue
		}
		s.write.Lock()
		_ = s.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
		_, err := s.conn.Write(out.Bytes())
		s.write.Unlock()
		if err != nil {
			_ = s.conn.Close()
			return
		}
	}
}

var clipCache sync.Map // clip name → [][][]byte

// frames splits a clip into access units of NAL units.
func frames(sc footage.Scene, walk, sub bool) [][][]byte {
	name := sc.ClipName(walk, sub)
	if v, ok := clipCache.Load(name); ok {
		return v.([][][]byte)
	}
	data, err := sc.Clip(walk, sub)
	if err != nil {
		panic("camera: a clip is missing from the program: " + name)
	}
	var units [][][]byte
	var unit [][]byte
	for _, nal := range splitNAL(data) {
		kind := nal[0] & 0x1f
		if kind == 6 {
			continue // encoder's notes
		}
		unit = append(unit, nal)
		if kind == 1 || kind == 5 { // one slice a picture: it ends the unit
			units = append(units, unit)
			unit = nil
		}
	}
	clipCache.Store(name, units)
	return units
}

func splitNAL(data []byte) [][]byte {
	var out [][]byte
	for _, part := range bytes.Split(data, []byte{0, 0, 1}) {
		part = bytes.TrimRight(part, "\x00")
		if len(part) > 0 {
			out = append(out, part)
		}
	}
	return out
}

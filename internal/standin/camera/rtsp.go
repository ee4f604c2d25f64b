package camera

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"net/textproto"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pion/rtp"
	"github.com/pion/rtp/codecs"

	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// serveRTSP serves the profiles (RFC 2326) with Digest sign-in, RTP interleaved over TCP
// or over UDP.
func (c *Camera) serveRTSP(ctx context.Context, at netip.Addr) error {
	l, err := c.listenTCP(ctx, netip.AddrPortFrom(at, RTSPPort))
	if err != nil {
		return err
	}
	c.accept(ctx, l)
	if !c.cfg.Manners.TLS {
		return nil
	}
	config, err := c.certificate()
	if err == nil {
		l, err = c.listenTCP(ctx, netip.AddrPortFrom(at, RTSPSPort))
	}
	if err != nil {
		return err
	}
	c.accept(ctx, tls.NewListener(l, config))
	return nil
}

// accept serves whoever connects, until ctx ends.
func (c *Camera) accept(ctx context.Context, l net.Listener) {
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
}

// track is one medium of a session: 0 the picture, 1 the sound, 2 what goes to the speaker, 3 what
// its analytics see.
type track struct {
	kind    int
	channel byte
	udp     *datagrams // nil: interleaved
	seq     uint16
}

const (
	picture = iota
	soundIn
	soundOut
	metadata
	tracks
)

// next is the number of the packet that follows.
func (t *track) next() uint16 {
	t.seq++
	return t.seq
}

type rtspSession struct {
	cam     *Camera
	conn    net.Conn
	write   sync.Mutex
	profile profile
	tracks  [tracks]*track
	playing bool
	play    context.CancelFunc
}

func (c *Camera) session(ctx context.Context, conn net.Conn) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer conn.Close()
	go func() { <-ctx.Done(); _ = conn.Close() }()
	s := &rtspSession{cam: c, conn: conn, play: func() {}}
	defer s.end()
	r := bufio.NewReader(conn)
	for {
		_ = conn.SetReadDeadline(time.Now().Add(70 * time.Second))
		if b, err := r.Peek(1); err != nil {
			return
		} else if b[0] == '$' {
			if s.interleaved(r) != nil {
				return
			}
			continue
		}
		method, target, header, err := wire.RTSPRequest(r)
		if err != nil || !s.handle(ctx, method, target, header) {
			return
		}
	}
}

// interleaved takes one packet that comes in the conversation; what is for the speaker is played.
func (s *rtspSession) interleaved(r *bufio.Reader) error {
	head := make([]byte, 4)
	if _, err := io.ReadFull(r, head); err != nil {
		return err
	}
	data := make([]byte, binary.BigEndian.Uint16(head[2:]))
	if _, err := io.ReadFull(r, data); err != nil {
		return err
	}
	if t := s.tracks[soundOut]; t != nil && s.playing && t.udp == nil && head[1] == t.channel {
		s.cam.speaker.play(data)
	}
	return nil
}

// end gives back what the session holds.
func (s *rtspSession) end() {
	s.play()
	for _, t := range s.tracks {
		if t != nil {
			t.udp.close()
		}
	}
	s.cam.mu.Lock()
	defer s.cam.mu.Unlock()
	delete(s.cam.sessions, s)
}

// Sessions is how many streams are being played.
func (c *Camera) Sessions() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.sessions)
}

// hangUp ends the sessions of a profile, as a camera does whose encoder starts anew.
func (c *Camera) hangUp(token string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for s := range c.sessions {
		if s.profile.token == token {
			_ = s.conn.Close()
		}
	}
}

// begin counts a session in, unless the camera plays as many as it can.
func (s *rtspSession) begin() bool {
	c := s.cam
	c.mu.Lock()
	defer c.mu.Unlock()
	if most := cmp.Or(c.turned.Plays, c.cfg.Manners.Sessions); most > 0 && len(c.sessions) >= most && !c.sessions[s] {
		return false
	}
	c.sessions[s] = true
	return true
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
		p, ok := profile{}, false
		if err == nil {
			p, ok = s.cam.profile(strings.Trim(u.Path, "/"))
		}
		if !ok || s.playing {
			return s.answer(h, "404 Not Found", "", "")
		}
		s.profile = p
		back := h.Get("Require") == backChannel
		if back && !s.cam.cfg.Manners.Speaker {
			return s.answer(h, "551 Option not supported", "Unsupported: "+backChannel+"\r\n", "")
		}
		return s.answer(h, "200 OK", "Content-Base: "+strings.TrimSuffix(target,
			"/")+"/\r\nContent-Type: application/sdp\r\n", s.cam.sdp(p, back))
	case "SETUP":
		if s.playing || s.profile.token == "" {
			return s.answer(h, "455 Method Not Valid in This State", "", "")
		}
		t := &track{seq: uint16(time.Now().UnixNano())}
		if _, last, ok := strings.Cut(target, "trackID="); ok {
			t.kind, _ = strconv.Atoi(last)
		}
		if t.kind < 0 || t.kind >= tracks || t.kind == soundIn && s.cam.soundOf(s.profile) == "" || t.kind == soundOut && !s.cam.cfg.Manners.Speaker || t.kind == metadata && !s.cam.describes(s.profile) || t.kind != metadata && s.cam.cfg.Fed {
			return s.answer(h, "404 Not Found", "", "")
		}
		transport, err := s.transport(t, h.Get("Transport"))
		if err != nil {
			return s.answer(h, "461 Unsupported Transport", "", "")
		}
		if old := s.tracks[t.kind]; old != nil {
			old.udp.close()
		}
		s.tracks[t.kind] = t
		return s.answer(h, "200 OK", "Transport: "+transport+"\r\n"+session, "")
	case "PLAY":
		if s.tracks == [tracks]*track{} {
			return s.answer(h, "455 Method Not Valid in This State", "", "")
		}
		if !s.begin() {
			return s.answer(h, "453 Not Enough Bandwidth", "", "")
		}
		ok := s.answer(h, "200 OK", session+"Range: npt=now-\r\n", "")
		s.play()
		s.playing = true
		playing, stop := context.WithCancel(ctx)
		s.play = stop
		if t := s.tracks[picture]; t != nil {
			go s.stream(playing, t)
		}
		if t := s.tracks[metadata]; t != nil {
			go s.describe(playing, t)
		}
		if t := s.tracks[soundIn]; t != nil {
			go s.sound(playing, t)
		}
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

// backChannel is the feature tag by which a client asks for the way to the speaker (ONVIF
// Streaming, 5.3).
const backChannel = "www.onvif.org/ver20/backchannel"

func (c *Camera) sdp(p profile, back bool) string {
	lines := []string{"v=0", "o=- 1 1 IN IP4 " + c.At().String(), "s=" + p.token, "t=0 0", "a=control:*", "a=range:npt=now-"}
	if c.cfg.Fed {
		return strings.Join(append(lines, "m=application 0 RTP/AVP 107", "a=rtpmap:107 vnd.onvif.metadata/90000", "a=control:trackID=3", ""), "\r\n")
	}
	e := c.encoderOf(p)
	switch e.Codec {
	case "JPEG":
		lines = append(lines, "m=video 0 RTP/AVP 26", "c=IN IP4 0.0.0.0", "a=rtpmap:26 JPEG/90000")
	default:
		lines = append(lines, "m=video 0 RTP/AVP 96", "c=IN IP4 0.0.0.0", "a=rtpmap:96 "+e.Codec+"/90000", "a=fmtp:96 "+c.parameters(p, e))
	}
	lines = append(lines, "a=control:trackID=0")
	switch c.soundOf(p) {
	case pcmu:
		lines = append(lines, "m=audio 0 RTP/AVP 0", "a=rtpmap:0 PCMU/8000", "a=control:trackID=1")
	case pcma:
		lines = append(lines, "m=audio 0 RTP/AVP 8", "a=rtpmap:8 PCMA/8000", "a=control:trackID=1")
	case aac:
		lines = append(lines, "m=audio 0 RTP/AVP 97", "a=rtpmap:97 mpeg4-generic/16000/1",
			"a=fmtp:97 streamtype=5;profile-level-id=1;mode=AAC-hbr;sizelength=13;indexlength=3;indexdeltalength=3;config=1408", "a=control:trackID=1")
	}
	if c.describes(p) {
		payload := "vnd.onvif.metadata"
		if c.habits().Zips {
			payload += ".gzip"
		}
		lines = append(lines, "m=application 0 RTP/AVP 107", "a=rtpmap:107 "+payload+"/90000", "a=control:trackID=3")
	}
	if back {
		lines = append(lines, "m=audio 0 RTP/AVP 0 8", "a=rtpmap:0 PCMU/8000", "a=rtpmap:8 PCMA/8000", "a=sendonly", "a=control:trackID=2")
	}
	return strings.Join(append(lines, ""), "\r\n")
}

// parameters are the parameter sets of a coded stream (RFC 6184, 8.2.1; RFC 7798, 7.2.1).
func (c *Camera) parameters(p profile, e encoder) string {
	f := frames(c.scene(p.source), false, e.coding())
	sets := map[int][]string{}
	level := ""
	for _, nal := range f[0] {
		kind := nalKind(e.Codec, nal)
		sets[kind] = append(sets[kind], base64.StdEncoding.EncodeToString(nal))
		if e.Codec == "H264" && kind == 7 {
			level = fmt.Sprintf("%x", nal[1:4])
		}
	}
	if e.Codec == "H265" {
		return "sprop-vps=" + strings.Join(sets[32], ",") + ";sprop-sps=" + strings.Join(sets[33], ",") + ";sprop-pps=" + strings.Join(sets[34], ",")
	}
	return "packetization-mode=1;profile-level-id=" + level + ";sprop-parameter-sets=" + strings.Join(append(sets[7], sets[8]...), ",")
}

// stream sends frames from the next key frame on; timestamps and sequence numbers
// grow over clips and loops.
func (s *rtspSession) stream(ctx context.Context, t *track) {
	line, e := s.cam.line, s.cam.encoderOf(s.profile)
	step, fill := e.step(), &filler{each: e.Kbps * 1000 / 8 / e.fps(), on: e.Constant}
	n := (line.frame(time.Now())/(e.group()*step) + 1) * e.group() * step
	shared, leave := s.cam.play(s.profile, e)
	defer leave()
	pack264, pack265, live := &codecs.H264Payloader{}, &codecs.H265Payloader{}, &coded{cam: s.cam, profile: s.profile, shared: shared}
	base, kind := uint32(time.Now().UnixNano()>>10), uint8(96)
	for ; ; n += step {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(line.when(n)) + s.cam.delay()):
		}
		walk, index := line.clip(n)
		var payloads [][]byte
		switch e.Codec {
		case "JPEG":
			kind = 26
			payloads = shared.once(n, func() [][]byte { return jpegPayloads(s.cam.draw(s.profile, walk, index, e.Sub)) })
		case "H265":
			for _, nal := range frames(s.cam.scene(s.profile.source), walk, e.coding())[index/step] {
				payloads = append(payloads, pack265.Payload(packetMost, nal)...)
			}
		default:
			for _, nal := range live.frame(n, e) {
				payloads = append(payloads, pack264.Payload(packetMost, nal)...)
			}
			payloads = fill.up(payloads)
		}
		var all [][]byte
		stamp := base + uint32(n*90000/footage.FPS)
		for i, p := range payloads {
			pkt := rtp.Packet{Header: rtp.Header{Version: 2, PayloadType: kind, SSRC: ssrc, SequenceNumber: t.next(),
				Timestamp: stamp, Marker: i == len(payloads)-1}, Payload: p}
			raw, err := pkt.Marshal()
			if err != nil {
				return
			}
			if every := s.cam.loses(); every > 0 && int(t.seq)%every == 0 {
				continue // lost on the way
			}
			all = append(all, raw)
		}
		if !s.sendAll(t, all, stamp) {
			return
		}
	}
}

// Limit makes it play so many streams at the same time, at the most.
func (c *Camera) Limit(most int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Plays = most
}

// Lose makes it lose one packet of so many from now on; 0: none.
func (c *Camera) Lose(every int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Loses = every
}

// Waver makes each picture come up to so much later than it is due, one more, one less.
func (c *Camera) Waver(by time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.turned.Wavers = by
}

func (c *Camera) delay() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.turned.Wavers <= 0 {
		return 0
	}
	return rand.N(c.turned.Wavers)
}

func (c *Camera) loses() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.turned.Loses
}

func (s *rtspSession) send(t *track, raw []byte, stamp uint32) bool {
	return s.sendAll(t, [][]byte{raw}, stamp)
}

// sendAll sends packets of one moment; it returns false when the connection is gone.
func (s *rtspSession) sendAll(t *track, all [][]byte, stamp uint32) bool {
	if t.udp != nil {
		for _, raw := range all {
			t.udp.send(raw, stamp)
		}
		return true
	}
	var out bytes.Buffer
	for _, raw := range all {
		out.Write([]byte{'$', t.channel, byte(len(raw) >> 8), byte(len(raw))})
		out.Write(raw)
	}
	s.write.Lock()
	defer s.write.Unlock()
	_ = s.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
	if _, err := s.conn.Write(out.Bytes()); err != nil {
		_ = s.conn.Close()
		return false
	}
	return true
}

// jpegPayloads parts a picture into the payloads of RTP packets (RFC 2435): type 1, its own
// quantisation tables in the first one.
func jpegPayloads(img image.Image) [][]byte {
	var file bytes.Buffer
	if jpeg.Encode(&file, img, &jpeg.Options{Quality: 70}) != nil {
		return nil
	}
	data := file.Bytes()
	var tables, scan []byte
	for i := 2; i+4 <= len(data) && data[i] == 0xff; {
		size := int(data[i+2])<<8 | int(data[i+3])
		body := data[i+4 : i+2+size]
		switch data[i+1] {
		case 0xdb:
			for ; len(body) >= 65; body = body[65:] {
				tables = append(tables, body[1:65]...)
			}
		case 0xda:
			scan = data[i+2+size : len(data)-2]
		}
		if i += 2 + size; scan != nil {
			break
		}
	}
	var out [][]byte
	for at := 0; at < len(scan); {
		head := []byte{0, byte(at >> 16), byte(at >> 8), byte(at), 1, 255, byte(img.Bounds().Dx() / 8), byte(img.Bounds().Dy() / 8)}
		if at == 0 {
			head = append(append(head, 0, 0, 0, byte(len(tables))), tables...)
		}
		n := min(1400-len(head), len(scan)-at)
		out = append(out, append(head, scan[at:at+n]...))
		at += n
	}
	return out
}

var clipCache sync.Map // clip name → [][][]byte

// nalKind is the kind of a NAL unit.
func nalKind(codec string, nal []byte) int {
	if codec == "H265" {
		return int(nal[0] >> 1 & 0x3f)
	}
	return int(nal[0] & 0x1f)
}

// frames splits a clip into access units of NAL units.
func frames(sc footage.Scene, walk bool, c footage.Coding) [][][]byte {
	name := sc.ClipName(walk, c)
	if v, ok := clipCache.Load(name); ok {
		return v.([][][]byte)
	}
	data, err := sc.Clip(walk, c)
	if err != nil {
		panic("camera: a clip is missing from the program: " + name)
	}
	var units [][][]byte
	var unit [][]byte
	for _, nal := range splitNAL(data) {
		kind := nalKind(c.Codec, nal)
		picture, notes := kind == 1 || kind == 5, kind == 6
		if c.Codec == "H265" {
			picture, notes = kind < 32, kind == 39 || kind == 40
		}
		if notes {
			continue
		}
		unit = append(unit, nal)
		if picture { // one slice a picture: it ends the unit
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

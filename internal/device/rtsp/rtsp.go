// Package rtsp is the client of RTSP 1.0 (RFC 2326) with RTP interleaved over TCP or over
// UDP: it asks, plays and measures.
package rtsp

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/textproto"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/icholy/digest"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// Limits of one conversation.
const (
	stepLimit = 5 * time.Second // one request, or silence while playing
	// nonceLife is how long a nonce is used. An older one is likely to be dead, and a
	// camera may count its use as a wrong password: a request without credentials, which
	// counts nowhere, asks for a new one first.
	nonceLife = 90 * time.Second
	maxBody   = 256 << 10
	maxHeader = 64 << 10
)

// Conn is one RTSP conversation with a device.
type Conn struct {
	ctx     context.Context // of the conversation
	host    dial.Host
	conn    net.Conn
	r       *bufio.Reader
	seq     int
	login   Login
	guard   dial.Guard
	asked   bool // it asked for a sign-in
	carried bool // the last request carried the account
	took    bool // it took the account in this conversation
	chal    *digest.Challenge
	nonceN  int
	nonceAt time.Time     // when the challenge came
	renewed bool          // the keep-alive under way has been challenged once
	Fresh   time.Duration // how long a nonce is used; Open sets 90 s
	session string
	// Encrypted says that the conversation, and what is interleaved in it, goes over TLS.
	Encrypted bool
	// Hears has PlayOver ask for a stream's sound too, where it has any; Reads for its metadata.
	Hears, Reads bool
	over         Over
	udp          *pair         // where the picture's packets come by UDP
	beside       []*pair       // where those of other tracks do
	came         chan datagram // what comes on all of them, where there is more than the picture
	channels     map[byte]int  // tracks by their interleaved channel, as the device chose them
	aside        int64         // bytes of what is no track's packet, since asideAt
	asideAt      time.Time
	Passed       string // what came and was passed over: "RTCP", "answers"
	status       int    // of the last answer
	on           string
	base         string // what was asked for
	whole        string // controls the whole presentation, see aggregate; empty: base does
	gone         func() // ends what waits for it
}

// Speaks says whether a port answers OPTIONS (RFC 2326, section 10.1).
func Speaks(ctx context.Context, host dial.Host, port int) bool {
	c, err := Open(ctx, host, fmt.Sprintf("rtsp://%s/", netip.AddrPortFrom(host.Addr, uint16(port))), Login{})
	if err != nil {
		return false
	}
	defer c.Close()
	return c.Options() == nil
}

// Login is an account for RTSP. The zero Login signs in nowhere.
type Login struct {
	Username, Password string
	// Try stands before the account until the device took it; nil: the caller answers for it.
	Try dial.Try
}

// Open connects to the address's host, which is brought to where the device was
// reached. Closing ctx ends the conversation.
func Open(ctx context.Context, host dial.Host, address string, login Login) (*Conn, error) {
	fixed, _, err := stream.RepairHost(address, host.Addr)
	if err != nil {
		return nil, &dial.Error{Tried: "RTSP", On: host.Addr.String(), Kind: dial.ErrMalformed, Says: err.Error()}
	}
	u, err := url.Parse(fixed)
	if err != nil || u.Scheme != "rtsp" && u.Scheme != "rtsps" {
		return nil, &dial.Error{Tried: "RTSP", On: host.Addr.String(), Kind: dial.ErrMalformed, Says: "its stream address is neither rtsp:// nor rtsps://"}
	}
	port, secure := u.Port(), u.Scheme == "rtsps"
	switch {
	case port == "" && secure:
		port = "322" // RFC 7826, section 19.2
	case port == "":
		port = "554"
	}
	on := net.JoinHostPort(u.Hostname(), port)
	connect := host.Dial
	if secure {
		connect = host.DialTLS
	}
	conn, err := connect(ctx, on)
	if err != nil {
		return nil, err
	}
	ctx, over := context.WithCancel(ctx)
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	c := &Conn{Fresh: nonceLife, Encrypted: secure, ctx: ctx, host: host, conn: conn, login: login, guard: dial.Guard{Try: login.Try}, on: on, base: fixed, gone: func() { stop(); over() }}
	c.r = bufio.NewReaderSize(conn, 64<<10)
	return c, nil
}

// Close ends the conversation, with TEARDOWN when something played.
func (c *Conn) Close() {
	if c.session != "" {
		_ = c.conn.SetDeadline(time.Now().Add(time.Second))
		_, _ = io.WriteString(c.conn, c.request("TEARDOWN", c.aggregate(), ""))
	}
	c.gone()
	_ = c.conn.Close()
	for _, p := range append(c.beside, c.udp) {
		p.close()
	}
}

func (c *Conn) fail(tried string, kind error, says string) error {
	return &dial.Error{Tried: "RTSP " + tried, On: c.on, Kind: kind, Says: says}
}

// lost is fail for a connection that broke. One that this server closed, because its time was
// over or it was stopped, is told as that, not as the device's doing.
func (c *Conn) lost(tried string, err error) error {
	if errors.Is(err, net.ErrClosed) && c.ctx.Err() != nil {
		err = c.ctx.Err()
	}
	return c.fail(tried, dial.ErrUnreachable, dial.Plain(err))
}

type response struct {
	status int
	reason string
	header textproto.MIMEHeader
	body   []byte
}

func (c *Conn) request(method, target, extra string) string {
	c.seq++
	c.carried = false
	s := fmt.Sprintf("%s %s RTSP/1.0\r\nCSeq: %d\r\nUser-Agent: DuskyHarbor\r\n", method, target, c.seq)
	if c.session != "" {
		s += "Session: " + c.session + "\r\n"
	}
	if c.chal != nil && time.Since(c.nonceAt) < c.Fresh {
		c.nonceN++
		cred, err := digest.Digest(c.chal, digest.Options{Method: method, URI: target, Count: c.nonceN, Username: c.login.Username, Password: c.login.Password})
		if err == nil {
			s += "Authorization: " + cred.String() + "\r\n"
			c.carried = true
		}
	}
	return s + extra + "\r\n"
}

// Asked says whether the device asked for a sign-in so far: one that didn't is open to all.
func (c *Conn) Asked() bool { return c.asked }

// Took says whether the device took the account: what it answered came from beyond the sign-in.
func (c *Conn) Took() bool { return c.took }

// do sends a request, answers one challenge, and returns a response of status 200.
func (c *Conn) do(method, target, extra string) (*response, error) {
	res, err := c.once(method, target, extra)
	if err != nil || res.status != http.StatusUnauthorized {
		return c.ok(method, res, err)
	}
	c.asked = true
	stale := strings.Contains(strings.ToLower(strings.ReplaceAll(res.header.Get("Www-Authenticate"), " ", "")), "stale=true")
	if c.login.Username == "" || c.carried && !stale && !c.took { // it was sent, and refused: once is enough
		return c.ok(method, res, nil)
	}
	if err := c.challenged(res); err != nil {
		return nil, c.fail(method, dial.ErrNotSupported, "it asks for a sign-in that isn't a Digest that can be answered")
	}
	var again *response
	err = c.guard.Do(c.ctx, func() (sent bool, err error) {
		again, err = c.once(method, target, extra)
		sent = c.carried
		again, err = c.ok(method, again, err)
		var e *dial.Error
		if errors.As(err, &e) { // what else it refuses, it refuses to who may ask
			e.Beyond = sent && (e.Kind == dial.ErrRefused || e.Kind == dial.ErrElsewhere)
		}
		c.took = c.took || sent && dial.Verdict(err) == nil
		return sent, err
	})
	return again, err
}

// once sends a request and reads the response.
func (c *Conn) once(method, target, extra string) (*response, error) {
	_ = c.conn.SetDeadline(time.Now().Add(stepLimit))
	if _, err := io.WriteString(c.conn, c.request(method, target, extra)); err != nil {
		return nil, c.lost(method, err)
	}
	return c.read(method)
}

// ok is the response where its status is 200, else what it means.
func (c *Conn) ok(method string, res *response, err error) (*response, error) {
	if err == nil {
		c.status = res.status
	}
	switch {
	case err != nil:
		return nil, err
	case res.status == 200:
		return res, nil
	case res.status == 401:
		return nil, c.fail(method, dial.ErrNotAuthorised, "401")
	case res.status == statusBandwidth:
		return nil, c.fail(method, dial.ErrRefused, "it plays as many streams as it can (453)")
	case res.status >= 300 && res.status < 400:
		return nil, c.fail(method, dial.ErrElsewhere, "it points to another address, which isn't followed")
	}
	return nil, c.fail(method, dial.ErrRefused, fmt.Sprintf("%d %s", res.status, res.reason))
}

// challenged takes in the strongest challenge of an answer that can be answered (RFC
// 7616, section 3.7: the server names the one that it prefers first).
func (c *Conn) challenged(res *response) error {
	chal, err := digest.FindChallenge(http.Header(res.header))
	if err != nil {
		return err
	}
	c.chal, c.nonceN, c.nonceAt = chal, 0, time.Now()
	return nil
}

// read reads one response, passing over interleaved packets.
func (c *Conn) read(tried string) (*response, error) {
	for {
		b, err := c.r.Peek(1)
		if err != nil {
			return nil, c.lost(tried, err)
		}
		if b[0] != '$' {
			break
		}
		if _, _, err := c.packet(); err != nil {
			return nil, err
		}
	}
	line, err := c.line(tried)
	if err != nil {
		return nil, err
	}
	f := strings.SplitN(line, " ", 3)
	if len(f) < 2 || !strings.HasPrefix(f[0], "RTSP/1.") {
		return nil, c.fail(tried, dial.ErrMalformed, fmt.Sprintf("it isn't RTSP: %.40q", line))
	}
	res := &response{header: textproto.MIMEHeader{}}
	if res.status, err = strconv.Atoi(f[1]); err != nil {
		return nil, c.fail(tried, dial.ErrMalformed, "its status is no number")
	}
	if len(f) == 3 {
		res.reason = dial.CleanText(f[2], 80)
	}
	for total := 0; ; {
		line, err := c.line(tried)
		if err != nil {
			return nil, err
		}
		if line == "" {
			break
		}
		if total += len(line); total > maxHeader {
			return nil, c.fail(tried, dial.ErrMalformed, "its headers are longer than 64 kB")
		}
		if k, v, ok := strings.Cut(line, ":"); ok {
			res.header.Add(strings.TrimSpace(k), strings.TrimSpace(v))
		}
	}
	if n := res.header.Get("Content-Length"); n != "" {
		size, err := strconv.Atoi(n)
		if err != nil || size < 0 || size > maxBody {
			return nil, c.fail(tried, dial.ErrMalformed, "its body is longer than 256 kB")
		}
		res.body = make([]byte, size)
		if _, err := io.ReadFull(c.r, res.body); err != nil {
			return nil, c.lost(tried, err)
		}
	}
	return res, nil
}

func (c *Conn) line(tried string) (string, error) {
	raw, err := c.r.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		return "", c.fail(tried, dial.ErrMalformed, "a line of it is longer than 64 kB")
	}
	if err != nil {
		return "", c.lost(tried, err)
	}
	return strings.TrimRight(string(raw), "\r\n"), nil
}

// packet reads one interleaved packet: its channel and payload, which is its own
// memory.
func (c *Conn) packet() (byte, []byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(c.r, head); err != nil {
		return 0, nil, c.lost("playing", err)
	}
	data := make([]byte, binary.BigEndian.Uint16(head[2:]))
	if _, err := io.ReadFull(c.r, data); err != nil {
		return 0, nil, c.lost("playing", err)
	}
	return head[1], data, nil
}

// Options asks what the server can do; it needs no sign-in on most makes.
func (c *Conn) Options() error {
	_, err := c.do("OPTIONS", c.base, "")
	return err
}

// sessionOf is the identifier of a Session header, without its timeout.
func sessionOf(header string) string {
	id, _, _ := strings.Cut(dial.CleanText(header, 128), ";")
	return strings.TrimSpace(id)
}

// Packet waits for the next RTP packet of the picture; silence longer than stepLimit
// is a stall.
func (c *Conn) Packet() ([]byte, error) {
	for {
		track, data, err := c.Next()
		if err != nil || track == Picture {
			return data, err
		}
	}
}

// Next waits for the next RTP packet, of the picture, of its sound or of metadata, and says which;
// silence longer than stepLimit is a stall.
func (c *Conn) Next() (track int, data []byte, err error) {
	if c.came != nil {
		return c.nextDatagram()
	}
	if c.udp != nil {
		data, err := c.udp.read(c.host.Addr, time.Now().Add(stepLimit))
		if err != nil {
			return 0, nil, c.stalled(err)
		}
		return Picture, data, nil
	}
	for end := time.Now().Add(stepLimit); ; {
		if !time.Now().Before(end) { // what isn't a packet keeps nobody waiting
			return 0, nil, c.stalled(os.ErrDeadlineExceeded)
		}
		_ = c.conn.SetReadDeadline(end)
		b, err := c.r.Peek(1)
		if err != nil {
			return 0, nil, c.stalled(err)
		}
		if b[0] != '$' {
			if err := c.passOver(); err != nil {
				return 0, nil, err
			}
			if err := c.besides(answerCost, "answers"); err != nil {
				return 0, nil, err
			}
			continue
		}
		channel, data, err := c.packet()
		if err != nil {
			return 0, nil, c.stalled(err)
		}
		if track, ok := c.trackOf(channel); ok {
			return track, data, nil
		}
		if err := c.besides(len(data)+4, "RTCP"); err != nil {
			return 0, nil, err
		}
	}
}

// Of what comes besides packets: how much of it in a second is a flood (RFC 3550, section 6.2, gives RTCP
// a twentieth of the session), and what an answer counts for.
const (
	floodsAt   = 256 << 10 // bytes
	answerCost = 1 << 10
)

// besides counts what was passed over. A device that floods the conversation with it is let go.
func (c *Conn) besides(n int, what string) error {
	c.Passed = what
	if now := time.Now(); now.Sub(c.asideAt) > time.Second {
		c.asideAt, c.aside = now, 0
	}
	if c.aside += int64(n); c.aside > floodsAt {
		return c.fail("playing", dial.ErrMalformed, fmt.Sprintf("it floods the conversation with %s: more than %d kB in a second", what, floodsAt>>10))
	}
	return nil
}

// trackOf is the track whose packets come on an interleaved channel; ok is false where none's do.
func (c *Conn) trackOf(channel byte) (track int, ok bool) {
	if len(c.channels) == 0 { // as it was asked for
		return int(channel / 2), channel == 2*Picture || channel == 2*Sound || channel == 2*Metadata
	}
	track, ok = c.channels[channel]
	return track, ok
}

// takes notes on which interleaved channel a track's packets come: the device may choose another than
// it was asked for (RFC 2326, section 12.39).
func (c *Conn) takes(track int, transport string) {
	if c.channels == nil {
		c.channels = map[byte]int{}
	}
	channel := 2 * track
	for part := range strings.SplitSeq(transport, ";") {
		if given, ok := strings.CutPrefix(strings.TrimSpace(strings.ToLower(part)), "interleaved="); ok {
			first, _, _ := strings.Cut(given, "-")
			if n, err := strconv.ParseUint(strings.TrimSpace(first), 10, 8); err == nil {
				channel = int(n)
			}
		}
	}
	c.channels[byte(channel)] = track
}

// stalled words what ends the waiting for a packet.
func (c *Conn) stalled(err error) error {
	var e *dial.Error
	says := dial.Plain(err)
	if errors.As(err, &e) {
		if e.Says != "the time allowed ran out" {
			return err
		}
		says = e.Says
	}
	if says == "the time allowed ran out" {
		return c.fail("playing", ErrStalled, "it stalled: nothing came for 5 s")
	}
	return c.fail("playing", dial.ErrUnreachable, says)
}

// ErrStalled is the kind of dial.Error where a device that plays sent nothing for a while; what follows may
// still come.
var ErrStalled = fmt.Errorf("%w: it stalled", dial.ErrUnreachable)

// passOver reads the answer to a keep-alive between packets. One that asks for a new nonce
// is answered with it, once.
func (c *Conn) passOver() error {
	res, err := c.read("playing")
	if err != nil || res.status != http.StatusUnauthorized || c.login.Username == "" {
		return err
	}
	if c.renewed || c.challenged(res) != nil {
		return c.fail("keeping the session", dial.ErrNotAuthorised, "401")
	}
	c.renewed = true
	return c.keepAlive()
}

// KeepAlive asks for the session to be kept; its answer is passed over by Packet. A nonce
// that is too old isn't sent: the first request goes without credentials then.
func (c *Conn) KeepAlive() error {
	c.renewed = false
	if c.udp != nil { // nothing else comes in the conversation: the answer is awaited here
		_, err := c.do("GET_PARAMETER", c.aggregate(), "")
		return err
	}
	return c.keepAlive()
}

func (c *Conn) keepAlive() error {
	_ = c.conn.SetWriteDeadline(time.Now().Add(stepLimit))
	_, err := io.WriteString(c.conn, c.request("GET_PARAMETER", c.aggregate(), ""))
	return err
}

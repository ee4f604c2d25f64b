// Package dial is the one way out to devices. A device is spoken to only at the
// address where it was reached; whatever it tells us to dial is dialled there or
// not at all, and never at our own ports.
package dial

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Kinds of trouble, for errors.Is: the judges need them apart.
var (
	ErrUnreachable   = errors.New("unreachable")
	ErrRefused       = errors.New("refused")
	ErrNotAuthorised = errors.New("not authorised")
	ErrClock         = errors.New("clock") // it takes no message of that time, whoever signs in
	ErrNotSupported  = errors.New("not supported")
	ErrMalformed     = errors.New("malformed")
	ErrElsewhere     = errors.New("elsewhere") // it named another address or one of our own ports
	ErrLocked        = errors.New("locked")    // it takes no sign-in for a while, whoever asks
)

// Error says what was tried, on what, of which kind it failed, and the device's or
// the network's own words.
type Error struct {
	Tried string // "GetProfiles"
	On    string // "127.40.1.11:8080"
	Kind  error
	Says  string
	// Offers lists the HTTP schemes of a 401, in lower case; Until is when a lock ends.
	Offers []string
	Until  time.Time
	// Beyond is set where this is no word on the account that asked: the device knows it, and
	// refuses what was asked, or doesn't let it.
	Beyond bool
}

// Error is one plain sentence.
func (e *Error) Error() string {
	what := e.Tried + " on " + e.On
	switch {
	case errors.Is(e.Kind, ErrUnreachable):
		return what + " got no answer: " + e.Says
	case errors.Is(e.Kind, ErrNotAuthorised):
		return what + " was refused: not authorised (" + e.Says + ")"
	case errors.Is(e.Kind, ErrClock):
		return what + " was refused for its time, not for the account (" + e.Says + ")"
	case errors.Is(e.Kind, ErrNotSupported):
		return what + " isn't supported: " + e.Says
	case errors.Is(e.Kind, ErrMalformed):
		return what + " got an answer that can't be read: " + e.Says
	case errors.Is(e.Kind, ErrLocked):
		return what + " was refused: it is locked (" + e.Says + ")"
	case errors.Is(e.Kind, ErrCertificate):
		return what + " wasn't made: " + e.Says
	case errors.Is(e.Kind, ErrElsewhere):
		return what + " wasn't made: " + e.Says
	}
	return what + " was refused: " + e.Says
}

// Unwrap lets errors.Is see the kind.
func (e *Error) Unwrap() error { return e.Kind }

// Dialer makes connections to devices.
type Dialer struct {
	// Own lists what this product itself listens on; it is never dialled.
	Own []netip.AddrPort
	// Connect limits making a connection; 2 s where zero.
	Connect time.Duration
	// Local is the address to dial from; the system's choice where it is invalid.
	Local netip.Addr
	// Within is where devices may be; anywhere where it is invalid.
	Within netip.Prefix
}

// At is the dialer bound to one device.
func (d *Dialer) At(addr netip.Addr) Host { return Host{d: d, Addr: addr} }

// Host is one device at the address where it was reached.
type Host struct {
	Addr netip.Addr
	d    *Dialer
	pin  *string
}

// Pinned is the host whose certificate must have that fingerprint where it is spoken to over
// TLS; an empty one takes and keeps what it shows first. See Client.
func (h Host) Pinned(pin *string) Host {
	h.pin = pin
	return h
}

// DialTLS is Dial with TLS over it, to a host that is Pinned.
func (h Host) DialTLS(ctx context.Context, hostport string) (net.Conn, error) {
	if h.pin == nil {
		return nil, &Error{Tried: "connecting", On: hostport, Kind: ErrCertificate, Says: "no certificate of it is trusted"}
	}
	conn, err := h.Dial(ctx, hostport)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, handshakeLimit)
	defer cancel()
	over := tls.Client(conn, pinned(h.pin))
	if err := over.HandshakeContext(ctx); err != nil {
		_ = conn.Close()
		kind, says := ErrUnreachable, Plain(err)
		if errors.Is(err, ErrCertificate) {
			kind, says = ErrCertificate, ErrCertificate.Error()
		}
		return nil, &Error{Tried: "connecting", On: hostport, Kind: kind, Says: says}
	}
	return over, nil
}

// handshakeLimit is how long a device may take to agree on TLS.
const handshakeLimit = 5 * time.Second

// ParseOwn reads listen addresses for Dialer.Own: with an address, with none (":8420"), or
// with a name, which may mean any address of this machine.
func ParseOwn(listen ...string) []netip.AddrPort {
	var out []netip.AddrPort
	for _, l := range listen {
		host, text, err := net.SplitHostPort(l)
		port, perr := strconv.ParseUint(text, 10, 16)
		if err != nil || perr != nil {
			continue
		}
		addr, err := netip.ParseAddr(host)
		if err != nil {
			addr = netip.IPv4Unspecified()
		}
		out = append(out, netip.AddrPortFrom(addr.Unmap(), uint16(port)))
	}
	return out
}

// Outside says whether an address is outside of where devices may be: nothing may be sent
// there, whatever the protocol.
func (d *Dialer) Outside(a netip.Addr) bool { return d.Within.IsValid() && !d.Within.Contains(a) }

// ofThisMachine says whether an address is one of this machine's; where that can't be told, it
// is taken for one.
func ofThisMachine(a netip.Addr) bool {
	if a.IsLoopback() || a.IsUnspecified() {
		return true
	}
	all, err := net.InterfaceAddrs()
	if err != nil {
		return true
	}
	for _, x := range all {
		if n, ok := x.(*net.IPNet); ok && n.IP.Equal(a.AsSlice()) {
			return true
		}
	}
	return false
}

func (d *Dialer) own(a netip.AddrPort) bool {
	for _, o := range d.Own {
		if o.Port() == a.Port() && (o.Addr() == a.Addr().Unmap() || o.Addr().IsUnspecified() && ofThisMachine(a.Addr().Unmap())) {
			return true
		}
	}
	return false
}

// Dial connects over TCP to a host:port that must be this device.
func (h Host) Dial(ctx context.Context, hostport string) (net.Conn, error) {
	ap, err := netip.ParseAddrPort(hostport)
	if err != nil || ap.Addr().Unmap() != h.Addr {
		return nil, &Error{Tried: "connecting", On: h.Addr.String(), Kind: ErrElsewhere,
			Says: fmt.Sprintf("it named %.60q, which isn't where it was reached", hostport)}
	}
	if h.d.own(ap) {
		return nil, &Error{Tried: "connecting", On: h.Addr.String(), Kind: ErrElsewhere, Says: "it named a port of this server"}
	}
	if h.d.Outside(h.Addr) {
		return nil, &Error{Tried: "connecting", On: h.Addr.String(), Kind: ErrElsewhere,
			Says: "this server dials nothing outside " + h.d.Within.String()}
	}
	limit := h.d.Connect
	if limit == 0 {
		limit = 2 * time.Second
	}
	activity := activityOf(ctx)
	out := &net.Dialer{Timeout: limit}
	if h.d.Local.IsValid() {
		out.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(h.d.Local, 0))
	}
	conn, err := out.DialContext(ctx, "tcp", hostport)
	if err == nil && activity != nil {
		return heardConn{conn, activity}, nil
	}
	if err != nil {
		if activity != nil && errors.Is(err, syscall.ECONNREFUSED) {
			activity.hear()
		}
		return nil, &Error{Tried: "connecting", On: hostport, Kind: ErrUnreachable, Says: Plain(err)}
	}
	return conn, nil
}

// Packets opens a UDP flow to a port of this device; the deadline of ctx is its own.
func (h Host) Packets(ctx context.Context, port uint16) (net.Conn, error) {
	at := netip.AddrPortFrom(h.Addr, port)
	if h.d.Outside(h.Addr) {
		return nil, &Error{Tried: "sending", On: at.String(), Kind: ErrElsewhere,
			Says: "this server dials nothing outside " + h.d.Within.String()}
	}
	if h.d.own(at) {
		return nil, &Error{Tried: "sending", On: at.String(), Kind: ErrElsewhere, Says: "that is a port of this server"}
	}
	out := &net.Dialer{}
	if h.d.Local.IsValid() {
		out.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(h.d.Local, 0))
	}
	conn, err := out.DialContext(ctx, "udp", at.String())
	if err != nil {
		return nil, &Error{Tried: "sending", On: at.String(), Kind: ErrUnreachable, Says: Plain(err)}
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	return stoppable{conn, stop}, nil
}

// stoppable is a flow that a context ends.
type stoppable struct {
	net.Conn
	stop func() bool
}

// Close ends the flow, and with it the wait for its context.
func (s stoppable) Close() error {
	s.stop()
	return s.Conn.Close()
}

// Plain words an error of the network for people.
func Plain(err error) string {
	var timeout interface{ Timeout() bool }
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "the port is closed"
	case errors.Is(err, context.Canceled):
		return "it was stopped"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return "it closed the connection in the middle"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "no way leads there"
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return "the time allowed ran out"
	}
	s := err.Error()
	for _, w := range []struct{ heard, says string }{
		{"server gave HTTP response to HTTPS client", "it speaks plain HTTP where HTTPS was expected"},
		{"response headers exceeded", "its headers are longer than 64 kB"},
		{"tls:", "it speaks no TLS that can be agreed on"},
		{"malformed HTTP", "what it answers isn't HTTP"},
		{"malformed MIME", "what it answers isn't HTTP"},
		{"malformed chunked", "what it answers isn't HTTP"},
		{"chunk", "what it answers isn't HTTP"},
		{"transport connection broken", "what it answers isn't HTTP"},
		{"readLoop", "what it answers isn't HTTP"}, // it spoke before it was asked
		{"net/http", "what it answers isn't HTTP"},
		{"http: ", "what it answers isn't HTTP"},
		{" tcp ", "the connection broke"},
	} {
		if strings.Contains(s, w.heard) { // the library's words are for who writes programs
			return w.says
		}
	}
	return s[:min(len(s), 160)]
}

// Client is an HTTP client for this device alone: no proxy, no redirect, no
// keep-alive beyond its use. pin, where not nil, holds the certificate's
// fingerprint: empty takes and stores the first, else another is refused.
func (h Host) Client(pin *string) *http.Client {
	t := &http.Transport{
		DialContext:            func(ctx context.Context, _, hostport string) (net.Conn, error) { return h.Dial(ctx, hostport) },
		ResponseHeaderTimeout:  70 * time.Second,
		MaxResponseHeaderBytes: 64 << 10,
		MaxIdleConnsPerHost:    2,
		IdleConnTimeout:        5 * time.Second,
		TLSHandshakeTimeout:    handshakeLimit,
	}
	if pin != nil {
		t.TLSClientConfig = pinned(pin)
	}
	return &http.Client{Transport: bounded{t}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// refusalMost is how many bytes of an answer are read that refuses a sign-in: whoever
// answers the challenge passes over them.
const refusalMost = 64 << 10

// bounded cuts the bodies of answers that ask for a sign-in: a device could send one
// without end to whoever reads to its end before trying again.
type bounded struct{ *http.Transport }

// RoundTrip sends a request.
func (b bounded) RoundTrip(req *http.Request) (*http.Response, error) {
	res, err := b.Transport.RoundTrip(req)
	if err == nil && res.StatusCode == http.StatusUnauthorized {
		res.Body = cut{io.LimitReader(res.Body, refusalMost), res.Body}
	}
	return res, err
}

// cut is a body of which a part is read.
type cut struct {
	io.Reader
	io.Closer
}

// ErrCertificate is returned when a device shows another certificate than before.
var ErrCertificate = errors.New("it shows another certificate than before")

// pinned trusts one certificate by its SHA-256 fingerprint: devices make their own.
func pinned(pin *string) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true,
		VerifyConnection: func(cs tls.ConnectionState) error {
			sum := sha256.Sum256(cs.PeerCertificates[0].Raw)
			seen := hex.EncodeToString(sum[:])
			switch *pin {
			case "":
				*pin = seen
			case seen:
			default:
				return ErrCertificate
			}
			return nil
		}}
}

// longestLock is the longest lock that a device is believed.
const longestLock = 24 * time.Hour

// LockedFor is how long a device says that it takes no sign-in (Retry-After of a 401,
// 403 or 429; RFC 9110, section 10.2.3), 0 where it says nothing of it.
func LockedFor(res *http.Response) time.Duration {
	switch res.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusTooManyRequests:
		n, err := strconv.Atoi(res.Header.Get("Retry-After"))
		if err == nil && n > 0 {
			return min(time.Duration(n)*time.Second, longestLock)
		}
	}
	return 0
}

// LockedError words such an answer.
func LockedError(res *http.Response, tried, on string) *Error {
	d := LockedFor(res)
	return &Error{Tried: tried, On: on, Kind: ErrLocked, Says: fmt.Sprintf("for %.0f more minutes", d.Minutes()), Until: time.Now().Add(d)}
}

// ReadAll reads at most limit bytes of an answer; more is malformed.
func ReadAll(r io.Reader, limit int64, tried, on string) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err != nil {
		return nil, &Error{Tried: tried, On: on, Kind: ErrUnreachable, Says: Plain(err)}
	}
	if int64(len(data)) > limit {
		return nil, &Error{Tried: tried, On: on, Kind: ErrMalformed, Says: fmt.Sprintf("it is longer than %d kB", limit>>10)}
	}
	return data, nil
}

// CleanText makes text from a device printable: no control characters, at most
// limit bytes.
func CleanText(s string, limit int) string {
	if isClean(s, limit) {
		return s
	}
	s = strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f || r == 0xfffd || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
			return ' '
		}
		return r
	}, s)
	s = strings.TrimSpace(s)
	if len(s) > limit {
		s = strings.ToValidUTF8(s[:limit], "")
	}
	return s
}

// isClean says whether a text is plain already, as most are.
func isClean(s string, limit int) bool {
	if s == "" {
		return true
	}
	if len(s) > limit || s[0] == ' ' || s[len(s)-1] == ' ' {
		return false
	}
	for i := range len(s) {
		if s[i] < 0x20 || s[i] >= 0x7f {
			return false
		}
	}
	return true
}

// Package onvif is the client of the ONVIF services the product uses: Device,
// Media2, Events (pull point) and Analytics.
package onvif

import (
	"context"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

const (
	soapNS   = "http://www.w3.org/2003/05/soap-envelope"
	deviceNS = "http://www.onvif.org/ver10/device/wsdl"
	mediaNS  = "http://www.onvif.org/ver20/media/wsdl"
	media1NS = "http://www.onvif.org/ver10/media/wsdl"
	eventNS  = "http://www.onvif.org/ver10/events/wsdl"
	rulesNS  = "http://www.onvif.org/ver20/analytics/wsdl"
	schemaNS = "http://www.onvif.org/ver10/schema"
	notifyNS = "http://docs.oasis-open.org/wsn/b-2"
)

// CallLimit is how long one call may take, long polls aside.
const CallLimit = 8 * time.Second

// Login is an account with the scheme it is sent by. The zero Login sends none.
type Login struct {
	Username, Password string
	Scheme             access.Scheme
	// Ahead is added to this machine's time for a token's Created: the device's own
	// time, so that a wrong clock doesn't look like a wrong password.
	Ahead time.Duration
	// Pin is the fingerprint of the certificate that is trusted over HTTPS; empty trusts
	// the first that is shown, which Client.Pin then tells.
	Pin string
	// Try stands before the login until the device took it; nil: whoever makes the client
	// answers for it.
	Try dial.Try
}

// Client speaks to one device. It may be used by several goroutines.
type Client struct {
	secure  *bool // it offers streams over TLS; nil: not asked yet
	host    dial.Host
	service string // device service
	login   Login
	ahead   atomic.Int64 // nanoseconds, see Login.Ahead
	shut    atomic.Bool  // it wants a login even for what it should tell to anyone
	pin     string
	session *dial.Session
}

// New makes a client for the device service at serviceURL, whose host is replaced
// by the one that was reached.
func New(host dial.Host, serviceURL string, login Login) (*Client, error) {
	fixed, _, err := stream.RepairHost(serviceURL, host.Addr)
	if err != nil {
		return nil, &dial.Error{Tried: "its device service", On: host.Addr.String(), Kind: dial.ErrMalformed, Says: err.Error()}
	}
	c := &Client{host: host, service: fixed, login: login, pin: login.Pin}
	c.ahead.Store(int64(login.Ahead))
	var sign dial.Sign
	switch login.Scheme {
	case access.Digest:
		sign = dial.Digest(login.Username, login.Password)
	case access.Basic:
		sign = dial.Basic(login.Username, login.Password)
	}
	c.session = host.Session(&c.pin, login.Try, sign)
	return c, nil
}

// Pin is the fingerprint of the certificate that the device showed, where it speaks
// HTTPS.
func (c *Client) Pin() string { return c.pin }

// Follow takes the device's time from a new reading: after its clock was set, a token
// with the old time would be refused.
func (c *Client) Follow(r clock.Reading) { c.ahead.Store(int64(r.Offset.Mid())) }

// on is where the device service answers, for errors.
func (c *Client) on() string {
	if u, err := url.Parse(c.service); err == nil {
		return u.Host
	}
	return c.host.Addr.String()
}

// Close lets idle connections go.
func (c *Client) Close() { c.session.Close() }

// call sends one request to the device service's address or to, and returns the
// body's first element, whose name must be op + "Response" in ns. What a device tells to
// anyone is asked without the login first. One that changes nothing is sent once more where
// the connection broke; while it isn't known whether the device takes the login, each sending
// is a try of its own, within the budget.
func (c *Client) call(ctx context.Context, to, ns, op, inner string, limit time.Duration) (*node, error) {
	if c.login.Scheme == "" || preAuth[op] && !c.shut.Load() {
		n, err := c.twice(ctx, to, ns, op, inner, limit, c.session.Plain)
		if c.login.Scheme == "" || !errors.Is(err, dial.ErrNotAuthorised) {
			return n, err
		}
		c.shut.Store(true)
	}
	if c.session.Took() {
		var n *node
		err := c.session.Do(ctx, func(ctx context.Context, signed *http.Client) error {
			var err error
			n, err = c.twice(ctx, to, ns, op, inner, limit, signed)
			return err
		})
		return n, err
	}
	if c.login.Scheme == access.Token && c.login.Try != nil && op != "GetDeviceInformation" {
		// A token's refusal doesn't tell who isn't known from who may not do this: it is asked
		// for what each account may read (ONVIF Core, 5.9.4.3, READ_SYSTEM).
		_, err := c.call(ctx, "", deviceNS, "GetDeviceInformation", `<GetDeviceInformation xmlns="`+deviceNS+`"/>`, CallLimit)
		if err != nil && !c.session.Took() {
			return nil, err
		}
	}
	began := time.Now()
	n, err := c.guarded(ctx, to, ns, op, inner, limit)
	if c.login.Try != nil && broke(ctx, err, began, limit) && strings.HasPrefix(op, "Get") { // somebody counts
		if again, aerr := c.guarded(ctx, to, ns, op, inner, limit); aerr == nil || c.session.Took() {
			n, err = again, aerr
		}
	}
	return n, err
}

// guarded sends one request with the login as a try.
func (c *Client) guarded(ctx context.Context, to, ns, op, inner string, limit time.Duration) (*node, error) {
	var n *node
	err := c.session.Do(ctx, func(ctx context.Context, signed *http.Client) error {
		var err error
		n, err = c.once(ctx, to, ns, op, inner, limit, signed)
		if c.stepped(ctx, err) { // its clock was set since it was read: that is no word on the account
			n, err = c.once(ctx, to, ns, op, inner, limit, signed)
		}
		var e *dial.Error
		if !dial.Sent(ctx) && c.login.Scheme == access.Digest && errors.As(err, &e) && slices.Contains(e.Offers, "digest") { // none that could be answered
			err = &dial.Error{Tried: "signing in", On: c.on(), Kind: dial.ErrNotSupported, Says: "it asks for a Digest that can't be answered"}
		}
		return err
	})
	return n, err
}

// stepsFrom is how far a clock must have gone from where it was for a token's refusal to be the
// clock's: what sign-in windows allow is more.
const stepsFrom = 2 * time.Second

// stepped says whether a token was refused after the device's clock was set, and takes in the
// time that it has now.
func (c *Client) stepped(ctx context.Context, err error) bool {
	if c.login.Scheme != access.Token || c.login.Try == nil || !errors.Is(err, dial.ErrNotAuthorised) && !errors.Is(err, dial.ErrClock) {
		return false
	}
	anyone := &Client{host: c.host, service: c.service, session: c.session} // signs in nowhere: the guard is held here
	r, terr := anyone.Time(ctx)
	if terr != nil || (r.Offset.Mid()-time.Duration(c.ahead.Load())).Abs() < stepsFrom {
		return false
	}
	c.Follow(r)
	return true
}

// twice is once, and once more for what changes nothing, where the connection broke.
func (c *Client) twice(ctx context.Context, to, ns, op, inner string, limit time.Duration, by *http.Client) (*node, error) {
	began := time.Now()
	n, err := c.once(ctx, to, ns, op, inner, limit, by)
	if broke(ctx, err, began, limit) && strings.HasPrefix(op, "Get") {
		n, err = c.once(ctx, to, ns, op, inner, limit, by)
	}
	return n, err
}

// broke says whether a connection broke, rather than that nobody answered in time.
func broke(ctx context.Context, err error, began time.Time, limit time.Duration) bool {
	return errors.Is(err, dial.ErrUnreachable) && ctx.Err() == nil && time.Since(began) < limit/2
}

// preAuth are what a device answers without a login (ONVIF Core, 5.12.1, PRE_AUTH): that it
// does says nothing of ours.
var preAuth = map[string]bool{"GetWsdlUrl": true, "GetServices": true, "GetServiceCapabilities": true, "GetCapabilities": true,
	"GetHostname": true, "GetSystemDateAndTime": true, "GetEndpointReference": true}

// once is call without a second sending, by the plain client or the signed one.
func (c *Client) once(ctx context.Context, to, ns, op, inner string, limit time.Duration, by *http.Client) (*node, error) {
	if to == "" {
		to = c.service
	}
	fixed, _, err := stream.RepairHost(to, c.host.Addr)
	if err != nil {
		return nil, &dial.Error{Tried: op, On: c.host.Addr.String(), Kind: dial.ErrMalformed, Says: err.Error()}
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	token := ""
	if by != c.session.Plain {
		token = c.token()
	}
	body := `<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="` + soapNS + `"><s:Header>` + token + `</s:Header><s:Body>` + inner + `</s:Body></s:Envelope>`
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, fixed, strings.NewReader(body))
	if err != nil {
		return nil, &dial.Error{Tried: op, On: c.host.Addr.String(), Kind: dial.ErrMalformed, Says: "its service address is none"}
	}
	req.Header.Set("Content-Type", `application/soap+xml; charset=utf-8; action="`+ns+"/"+op+`"`)
	return c.send(req, ns, op, by)
}

func (c *Client) send(req *http.Request, ns, op string, by *http.Client) (*node, error) {
	on := req.URL.Host
	res, err := dial.Ask(by, req, op)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	switch {
	case dial.LockedFor(res) > 0:
		return nil, dial.LockedError(res, op, on)
	case res.StatusCode == http.StatusUnauthorized:
		e := &dial.Error{Tried: op, On: on, Kind: dial.ErrNotAuthorised, Says: "HTTP 401"}
		for _, h := range res.Header.Values("WWW-Authenticate") {
			scheme, _, _ := strings.Cut(h, " ")
			e.Offers = append(e.Offers, strings.ToLower(scheme))
		}
		return nil, e
	case res.StatusCode == http.StatusNotFound, res.StatusCode == http.StatusMethodNotAllowed, res.StatusCode == http.StatusNotImplemented:
		return nil, &dial.Error{Tried: op, On: on, Kind: dial.ErrNotSupported, Says: fmt.Sprintf("HTTP %d", res.StatusCode)}
	case res.StatusCode >= 300 && res.StatusCode < 400:
		return nil, &dial.Error{Tried: op, On: on, Kind: dial.ErrElsewhere, Says: "it points to another address, which isn't followed"}
	}
	data, err := dial.ReadAll(res.Body, maxBody, op, on)
	if err != nil {
		return nil, err
	}
	root, err := parse(data)
	if isPage(data) {
		return nil, &dial.Error{Tried: op, On: on, Kind: dial.ErrNotSupported, Says: "it answers with a web page"}
	}
	if err != nil && res.StatusCode != http.StatusOK {
		return nil, &dial.Error{Tried: op, On: on, Kind: dial.ErrMalformed, Says: fmt.Sprintf("it answers HTTP %d, and nothing that ONVIF knows", res.StatusCode)}
	}
	if err != nil {
		return nil, &dial.Error{Tried: op, On: on, Kind: dial.ErrMalformed, Says: err.Error()}
	}
	bodyNode := root.child(soapNS, "Body")
	if root.name.Local != "Envelope" || bodyNode == nil || len(bodyNode.kids) == 0 {
		return nil, &dial.Error{Tried: op, On: on, Kind: dial.ErrMalformed, Says: "it is no SOAP 1.2 answer"}
	}
	first := bodyNode.kids[0]
	if first.name.Local == "Fault" {
		err := faultError(first, op, on)
		// Who signs in by HTTP and isn't known is answered 401: a fault comes from beyond that.
		// A token's fault may be either, but for what each account may read.
		err.Beyond = by != c.session.Plain && !errors.Is(err, dial.ErrClock) && (c.login.Scheme != access.Token || c.session.Took())
		return nil, err
	}
	if first.name.Local != op+"Response" || first.name.Space != ns {
		return nil, &dial.Error{Tried: op, On: on, Kind: dial.ErrMalformed, Says: fmt.Sprintf("it answers with %.60q", first.name.Local)}
	}
	return first, nil
}

// isPage says whether an answer is a web page: what isn't ONVIF may answer anything
// with its start page.
func isPage(data []byte) bool {
	head := strings.ToLower(strings.TrimSpace(string(data[:min(len(data), 64)])))
	return strings.HasPrefix(head, "<!doctype html") || strings.HasPrefix(head, "<html")
}

// faultError words a fault (ONVIF Core, 5.8.2; Web Services Security 1.1.1, section 12) and
// gives it its kind.
func faultError(f *node, op, on string) *dial.Error {
	code := f.at("Code", "Subcode").str("Value")
	if deeper := f.at("Code", "Subcode", "Subcode").str("Value"); deeper != "" {
		code += "/" + deeper
	}
	says := strings.TrimSpace(code + " " + f.str("Reason", "Text"))
	kind := dial.ErrRefused
	switch {
	case strings.Contains(code, "MessageExpired"):
		kind = dial.ErrClock
	case strings.Contains(code, "NotAuthorized"), strings.Contains(code, "FailedAuthentication"), strings.Contains(code, "SecurityToken"):
		kind = dial.ErrNotAuthorised
	case strings.Contains(code, "ActionNotSupported"), strings.Contains(code, "UnknownAction"):
		kind = dial.ErrNotSupported
	}
	return &dial.Error{Tried: op, On: on, Kind: kind, Says: says}
}

// token is the WS-UsernameToken header (Username Token Profile 1.0), built just
// before sending: a request that queued too long would look like a wrong clock.
func (c *Client) token() string {
	if c.login.Scheme != access.Token {
		return ""
	}
	nonce := make([]byte, 16)
	rand.Read(nonce)
	created := time.Now().Add(time.Duration(c.ahead.Load())).UTC().Format("2006-01-02T15:04:05.000Z")
	sum := sha1.Sum([]byte(string(nonce) + created + c.login.Password))
	return `<w:Security s:mustUnderstand="1" xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd" xmlns:u="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"><w:UsernameToken><w:Username>` +
		escape(c.login.Username) + `</w:Username><w:Password Type="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest">` + base64.StdEncoding.EncodeToString(sum[:]) +
		`</w:Password><w:Nonce EncodingType="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary">` + base64.StdEncoding.EncodeToString(nonce) + `</w:Nonce><u:Created>` + created + `</u:Created></w:UsernameToken></w:Security>`
}

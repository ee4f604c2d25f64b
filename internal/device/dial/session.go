package dial

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"sync/atomic"

	"github.com/icholy/digest"
)

// Login is an account that a device is asked with over HTTP. The zero Login sends none.
type Login struct {
	Username, Password string
	Try                Try // stands before it is sent; nil: nobody counts
}

// Sign makes a transport sign the requests that it sends.
type Sign func(next http.RoundTripper) http.RoundTripper

// Digest signs by HTTP Digest (RFC 7616): once the device asked for it.
func Digest(username, password string) Sign {
	return func(next http.RoundTripper) http.RoundTripper {
		return &digest.Transport{Username: username, Password: password, Transport: next}
	}
}

// Basic signs by HTTP Basic (RFC 7617): at once, in clear.
func Basic(username, password string) Sign {
	return func(next http.RoundTripper) http.RoundTripper { return basic{username, password, next} }
}

type basic struct {
	username, password string
	next               http.RoundTripper
}

func (b basic) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.SetBasicAuth(b.username, b.password)
	return b.next.RoundTrip(r)
}

// Session asks one device over HTTP with one account: whatever sends an account by HTTP goes through one. It
// may be used by several goroutines.
type Session struct {
	Plain *http.Client // it sends no account
	sign  Sign
	guard Guard
	kept  atomic.Pointer[http.Client] // the device took the account from it
	on    string
}

// Session makes a session whose requests sign signs; pin is the one of Client. A nil sign is of who puts the account
// into the message itself: each request carries it then.
func (h Host) Session(pin *string, try Try, sign Sign) *Session {
	return &Session{Plain: h.Client(pin), sign: sign, guard: Guard{Try: try}, on: h.Addr.String()}
}

// signed is a client that signs its requests: until the device took the account a new one each time, since one that
// knows a challenge would send the account at once, and once more when that is refused.
func (s *Session) signed() *http.Client {
	if kept := s.kept.Load(); kept != nil && s.guard.Took() {
		return kept
	}
	var by http.RoundTripper = carrier{s.Plain.Transport, s.sign == nil}
	if s.sign != nil {
		by = s.sign(by)
	}
	return &http.Client{CheckRedirect: s.Plain.CheckRedirect, Transport: by}
}

// Close lets idle connections go.
func (s *Session) Close() { s.Plain.CloseIdleConnections() }

// Took says whether the device took the account.
func (s *Session) Took() bool { return s.guard.Took() }

// Do asks by ask, with a client that signs, as a try until the device took the account. Requests are made with the
// context that ask is given: see Sent. The error of ask is the device's verdict, see Verdict.
func (s *Session) Do(ctx context.Context, ask func(ctx context.Context, signed *http.Client) error) error {
	return s.guard.Do(ctx, func() (bool, error) {
		signed := s.signed()
		ctx, sent := counting(ctx)
		err := ask(ctx, signed)
		if sent.Load() > 0 && Verdict(err) == nil {
			s.kept.Store(signed)
		}
		return sent.Load() > 0, err
	})
}

// Get fetches at most most bytes of what is at an address, within the account's budget. What refuses is worded
// by Refusal; tried names it for people ("its picture").
func (s *Session) Get(ctx context.Context, at, tried string, most int64) ([]byte, error) {
	var data []byte
	err := s.Do(ctx, func(ctx context.Context, signed *http.Client) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
		if err != nil {
			return &Error{Tried: tried, On: s.on, Kind: ErrMalformed, Says: "that is no address of a page"}
		}
		res, err := Ask(signed, req, tried)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if refused := Refusal(res, tried, s.on); refused != nil {
			return refused
		}
		data, err = ReadAll(res.Body, most, tried, s.on)
		return err
	})
	if err != nil {
		return nil, err
	}
	return data, nil
}

// Ask sends a request and words what hinders it: an error is an *Error.
func Ask(by *http.Client, req *http.Request, tried string) (*http.Response, error) {
	res, err := by.Do(req)
	if err == nil {
		return res, nil
	}
	var own *Error
	if errors.As(err, &own) {
		return nil, &Error{Tried: tried, On: req.URL.Host, Kind: own.Kind, Says: own.Says}
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if errors.Is(err, ErrCertificate) {
		return nil, &Error{Tried: tried, On: req.URL.Host, Kind: ErrCertificate, Says: ErrCertificate.Error()}
	}
	return nil, &Error{Tried: tried, On: req.URL.Host, Kind: ErrUnreachable, Says: Plain(err)}
}

// Refusal words an answer that isn't what was asked for; nil for a status of success. A 401 or 403 is a word on
// the account; another address isn't followed; everything else comes from beyond the sign-in.
func Refusal(res *http.Response, tried, on string) *Error {
	e := &Error{Tried: tried, On: on, Kind: ErrRefused, Says: fmt.Sprintf("HTTP %d", res.StatusCode)}
	switch {
	case LockedFor(res) > 0:
		return LockedError(res, tried, on)
	case res.StatusCode == http.StatusUnauthorized, res.StatusCode == http.StatusForbidden:
		e.Kind = ErrNotAuthorised
	case res.StatusCode >= 300 && res.StatusCode < 400:
		e.Kind, e.Says = ErrElsewhere, "it points to another address, which isn't followed"
	case res.StatusCode >= 200 && res.StatusCode < 300:
		return nil
	default:
		e.Beyond = true
	}
	return e
}

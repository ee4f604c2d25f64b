package dial

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptrace"
	"sync"
	"sync/atomic"
)

// Try stands before an account that is about to be sent to a device: a wrong one may lock
// it. It is for one account and one device.
type Try interface {
	// Begin writes the try down. Its error forbids it: nothing may be sent then.
	Begin(ctx context.Context) error
	// End tells what came of it: sent, whether anything of the account left this machine,
	// and the device's verdict, nil where it took the account.
	End(ctx context.Context, sent bool, verdict error) error
}

// Guard sends an account through its Try until the device took it, one request at a time;
// from then on nothing of it is a try. The zero Guard lets everything through.
type Guard struct {
	Try  Try
	mu   sync.Mutex
	took atomic.Bool
}

// Took says whether the device took the account.
func (g *Guard) Took() bool { return g.took.Load() }

// Do sends by send, which says whether the account left this machine. An answer that isn't a
// verdict on the account, but comes from beyond it, is told by a nil verdict: see Verdict.
func (g *Guard) Do(ctx context.Context, send func() (sent bool, err error)) error {
	if g.Try == nil || g.took.Load() {
		_, err := send()
		return err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.took.Load() {
		_, err := send()
		return err
	}
	if err := g.Try.Begin(ctx); err != nil {
		return err
	}
	sent, err := send()
	verdict := Verdict(err)
	if sent && verdict == nil {
		g.took.Store(true)
	}
	return errors.Join(err, g.Try.End(ctx, sent, verdict))
}

// Verdict is what an answer says of the account that asked: nil where it came from beyond
// the sign-in, which took the account then (ONVIF Core, 5.12: who isn't known is answered
// HTTP 401; who is known and may not is answered a fault).
func Verdict(err error) error {
	var e *Error
	if errors.As(err, &e) && e.Beyond {
		return nil
	}
	return err
}

// carrier tells whether a request left this machine that carried an account.
type carrier struct {
	next http.RoundTripper
	all  bool // each request carries one, not just those with an Authorization header
	sent *atomic.Bool
}

// Carrier wraps a transport so that sent is set once a request that carries an account is on
// the wire: one with an Authorization header, or each where all is set.
func Carrier(next http.RoundTripper, all bool, sent *atomic.Bool) http.RoundTripper {
	return carrier{next, all, sent}
}

func (c carrier) RoundTrip(r *http.Request) (*http.Response, error) {
	if c.all || r.Header.Get("Authorization") != "" {
		trace := &httptrace.ClientTrace{WroteHeaders: func() { c.sent.Store(true) }}
		r = r.WithContext(httptrace.WithClientTrace(r.Context(), trace))
	}
	return c.next.RoundTrip(r)
}

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
		return g.through(ctx, send)
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.took.Load() {
		return g.through(ctx, send)
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

// through sends what is no try. A device that took the account, and refuses it now, was given another password
// meanwhile: that is written down afterwards, and the next sending is a try again.
func (g *Guard) through(ctx context.Context, send func() (sent bool, err error)) error {
	sent, err := send()
	verdict := Verdict(err)
	if sent && verdict == nil {
		g.took.Store(true)
	}
	if sent && errors.Is(verdict, ErrNotAuthorised) && g.Try != nil {
		g.took.Store(false)
		if berr := g.Try.Begin(ctx); berr != nil {
			return errors.Join(err, berr)
		}
		return errors.Join(err, g.Try.End(ctx, true, verdict))
	}
	return err
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

// carried counts the requests with an account that left this machine, in a context.
type carried struct{}

// counting has the requests of a context counted that carry an account.
func counting(ctx context.Context) (context.Context, *atomic.Int32) {
	n := new(atomic.Int32)
	return context.WithValue(ctx, carried{}, n), n
}

// Sent says whether an account left this machine, in what was asked with the context that Session.Do gave.
func Sent(ctx context.Context) bool {
	n, ok := ctx.Value(carried{}).(*atomic.Int32)
	return ok && n.Load() > 0
}

// carrier notes in a request's context that it left this machine with an account.
type carrier struct {
	next http.RoundTripper
	all  bool // each request carries one, not just those with an Authorization header
}

// RoundTrip sends a request.
func (c carrier) RoundTrip(r *http.Request) (*http.Response, error) {
	n, ok := r.Context().Value(carried{}).(*atomic.Int32)
	if ok && (c.all || r.Header.Get("Authorization") != "") {
		trace := &httptrace.ClientTrace{WroteHeaders: func() { n.Add(1) }}
		r = r.WithContext(httptrace.WithClientTrace(r.Context(), trace))
	}
	return c.next.RoundTrip(r)
}

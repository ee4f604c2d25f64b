package gather

import (
	"cmp"
	"context"
	"errors"
	"time"

	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/rtsp"
)

// Feed is how a view is looked at by an analyser: its stills are taken and given to it, and what it sees is heard from it. Its functions
// are called by one goroutine each.
type Feed struct {
	// Hear connects to where the analyser streams what it sees of the view; the conversation ends with the context.
	Hear func(context.Context) (*rtsp.Conn, error)
	// Take takes a still of the view, JPEG, and Give gives one to the analyser with when it was taken.
	Take  func(context.Context) ([]byte, error)
	Give  func(ctx context.Context, at time.Time, jpeg []byte) error
	Every time.Duration // between two stills
	Most  int           // bytes of one
	Token string        // of the view's analytics configuration there, by which its events name it
	Close func()
	again time.Duration // after trouble; 0: sendAgain
}

const (
	healthEvery = 20 * time.Second
	sendAgain   = 5 * time.Second // after trouble
	sendLimit   = 15 * time.Second
)

// errLarge is told of a still that isn't sent.
var errLarge = trouble.UserError("its stills are larger than the analyser takes: set its view stream smaller on Streams")

// send takes stills and gives them to the analyser, one at a time, until ctx ends: while one can't be given none is taken, so that nothing
// waits here. news is told how it goes where that is another than before.
func (f *Feed) send(ctx context.Context, news func(error)) {
	told, said := false, ""
	tell := func(err error) {
		text := ""
		if err != nil {
			text = err.Error()
		}
		if !told || text != said {
			told, said = true, text
			news(err)
		}
	}
	each := time.NewTicker(f.Every)
	defer each.Stop()
	for {
		err := f.one(ctx)
		if ctx.Err() != nil {
			return
		}
		tell(err)
		wait := each.C
		if err != nil {
			wait = time.After(cmp.Or(f.again, sendAgain))
		}
		select {
		case <-ctx.Done():
			return
		case <-wait:
		}
	}
}

// one takes one still and gives it.
func (f *Feed) one(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, sendLimit)
	defer cancel()
	asked := time.Now()
	jpeg, err := f.Take(ctx)
	if err != nil {
		return err
	}
	if f.Most > 0 && len(jpeg) > f.Most {
		return errLarge
	}
	// It is of some moment between asking and answer: of the middle, until a device tells.
	return f.Give(ctx, asked.Add(time.Since(asked)/2), jpeg)
}

// feed begins to send a view's stills where an analyser looks at it; nil where none does. end stops it.
func (g *Gatherer) feed(ctx context.Context, id int64) (f *Feed, end func(), err error) {
	if g.Feed == nil {
		return nil, func() {}, nil
	}
	opening, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	if f, err = g.Feed(opening, id); err != nil || f == nil {
		if err != nil {
			g.sent(ctx, id, err)
		}
		return nil, func() {}, err
	}
	sending, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		f.send(sending, func(err error) { g.sent(ctx, id, err) })
	}()
	return f, func() { stop(); <-done; f.Close() }, nil
}

// sent keeps how sending goes. Trouble of ours isn't kept as the analyser's.
func (g *Gatherer) sent(ctx context.Context, id int64, hindered error) {
	if g.Sent == nil {
		return
	}
	keeping, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	if err := g.Sent(keeping, id, hindered); err != nil && ctx.Err() == nil && !errors.Is(err, context.Canceled) {
		g.Log.Error("how a view's stills are sent isn't kept", "view", id, "err", err)
	}
}

// health reads the analyser of a view now and then.
func (g *Gatherer) health(ctx context.Context, id int64) {
	if g.Health == nil {
		return
	}
	asking, cancel := context.WithTimeout(ctx, sendLimit)
	defer cancel()
	if err := g.Health(asking, id); err != nil && ctx.Err() == nil {
		g.Log.Error("an analyser isn't read", "view", id, "err", err)
	}
}

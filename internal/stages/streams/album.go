package streams

import (
	"context"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"duskyharbor/internal/core/trouble"
)

// How stills are kept for those who look at the same time.
const (
	stillAge    = 2 * time.Second  // a still that young is given again
	missAge     = 15 * time.Second // a camera that gave none isn't asked again that soon
	stillsBytes = 64 << 20         // of all that are kept
	stillsAsked = 8                // cameras asked at the same time
)

// album keeps the last still of each view for a moment: a camera is asked once, however many
// look, and only so many are asked at the same time.
type album struct {
	now   func() time.Time
	asks  singleflight.Group
	gate  chan struct{}
	mu    sync.Mutex
	kept  map[string]still
	bytes int
}

// still is what a camera gave, or why it gave nothing.
type still struct {
	data []byte
	err  error
	at   time.Time
}

func newAlbum() *album {
	return &album{now: time.Now, gate: make(chan struct{}, stillsAsked), kept: map[string]still{}}
}

// of gives the still of a view, asking get where none is young enough. Whoever asked first may
// go away: those who wait with it get theirs all the same.
func (a *album) of(ctx context.Context, view string, get func(context.Context) ([]byte, error)) ([]byte, error) {
	if s, ok := a.young(view); ok {
		return s.data, s.err
	}
	c := a.asks.DoChan(view, func() (any, error) {
		if s, ok := a.young(view); ok { // who asked before has just got it
			return s.data, s.err
		}
		a.gate <- struct{}{}
		defer func() { <-a.gate }()
		s := still{}
		s.data, s.err = whole(context.WithoutCancel(ctx), get)
		s.at = a.now()
		a.keep(view, s)
		return s.data, s.err
	})
	select {
	case r := <-c:
		data, _ := r.Val.([]byte)
		return data, r.Err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// whole is get, whose picture is decoded: what breaks a decoder takes nobody along.
func whole(ctx context.Context, get func(context.Context) ([]byte, error)) (data []byte, err error) {
	defer func() {
		if r := recover(); r != nil {
			data, err = nil, trouble.UserErrorf("The still can't be decoded: %v", r)
		}
	}()
	return get(ctx)
}

func (s still) young(now time.Time) bool {
	age := stillAge
	if s.err != nil {
		age = missAge
	}
	return now.Sub(s.at) < age
}

func (a *album) young(view string) (still, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	s, ok := a.kept[view]
	return s, ok && s.young(a.now())
}

// keep puts a still into the album; what is no longer young goes, and of more bytes than are
// kept in all the oldest.
func (a *album) keep(view string, s still) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.drop(view)
	for v, old := range a.kept {
		if !old.young(s.at) {
			a.drop(v)
		}
	}
	for len(a.kept) > 0 && a.bytes+len(s.data) > stillsBytes {
		oldest, at := "", time.Time{}
		for v, old := range a.kept {
			if at.IsZero() || old.at.Before(at) {
				oldest, at = v, old.at
			}
		}
		a.drop(oldest)
	}
	a.kept[view] = s
	a.bytes += len(s.data)
}

func (a *album) drop(view string) {
	if s, ok := a.kept[view]; ok {
		a.bytes -= len(s.data)
		delete(a.kept, view)
	}
}

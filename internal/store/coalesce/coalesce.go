// Package coalesce has calls that come at the same time done together: while one round
// of them is under way those that come wait for the next, so that the busier it is the
// more each round serves, and one that comes alone waits for nothing.
package coalesce

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
)

// Limit is how long one round may take.
const Limit = 10 * time.Second

// Group gathers calls of one kind. Do does all of a round's: it returns an answer for
// each, in their order, or an error for all. After an error of which Apart says true
// nothing of the round was done, and it may be one call's own: then each is done by
// itself. Most limits a round; 0 means 128. A copy must not be made once it is used.
type Group[In, Out any] struct {
	Do    func(ctx context.Context, all []In) ([]Out, error)
	Apart func(error) bool // nil: never
	Most  int

	mu      sync.Mutex
	waiting []call[In, Out]
	busy    bool
}

// ErrPanic is returned where Do panicked.
var ErrPanic = errors.New("a round panicked")

// lull is how long a round that follows one of several calls waits for more.
const lull = 4 * time.Millisecond

type call[In, Out any] struct {
	ctx  context.Context
	in   In
	done chan answer[Out] // of one
}

type answer[Out any] struct {
	out Out
	err error
}

// Call has one call done in the next round. One whose context ends before its round
// begins isn't done; one whose context ends during it may be, like any call.
func (r *Group[In, Out]) Call(ctx context.Context, in In) (Out, error) {
	c := call[In, Out]{ctx, in, make(chan answer[Out], 1)}
	r.mu.Lock()
	r.waiting = append(r.waiting, c)
	lead := !r.busy
	r.busy = true
	r.mu.Unlock()
	if lead {
		go r.run()
	}
	select {
	case a := <-c.done:
		return a.out, a.err
	case <-ctx.Done():
		var none Out
		return none, WaitError{ctx.Err()}
	}
}

// WaitError is returned where a call's context ended before it was done: it is the round that was waited
// for, and nothing else.
type WaitError struct{ Err error }

// Error is that of the context.
func (e WaitError) Error() string { return "waiting for the database: " + e.Err.Error() }

// Unwrap lets errors.Is see the context's error.
func (e WaitError) Unwrap() error { return e.Err }

// run does rounds until nobody waits.
func (r *Group[In, Out]) run() {
	for last := 0; ; {
		if last > 1 { // it is busy: a little lull serves more at once
			time.Sleep(lull)
		}
		r.mu.Lock()
		n := len(r.waiting)
		if n == 0 {
			r.busy = false
			r.mu.Unlock()
			return
		}
		if most := r.Most; most > 0 {
			n = min(n, most)
		} else {
			n = min(n, 128)
		}
		round := r.waiting[:n:n]
		r.waiting = r.waiting[n:]
		r.mu.Unlock()
		r.round(round)
		last = n
	}
}

// round does one round.
func (r *Group[In, Out]) round(all []call[In, Out]) {
	var alive []call[In, Out]
	var ins []In
	for _, c := range all {
		if c.ctx.Err() == nil {
			alive, ins = append(alive, c), append(ins, c.in)
		}
	}
	if len(alive) == 0 {
		return
	}
	outs, err := r.do(ins)
	if err != nil && len(alive) > 1 && (errors.Is(err, ErrPanic) || r.Apart != nil && r.Apart(err)) {
		for i, c := range alive {
			out, err := r.do(ins[i : i+1])
			c.answer(out, 0, err)
		}
		return
	}
	for i, c := range alive {
		c.answer(outs, i, err)
	}
}

func (r *Group[In, Out]) do(ins []In) (outs []Out, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), Limit)
	defer cancel()
	defer func() {
		if p := recover(); p != nil { // one call's trouble, and no reason for all to end
			err = fmt.Errorf("%w: %v", ErrPanic, p)
		}
	}()
	return r.Do(ctx, ins)
}

func (c call[In, Out]) answer(outs []Out, i int, err error) {
	a := answer[Out]{err: err}
	if err == nil {
		a.out = outs[i]
	}
	c.done <- a
}

package coalesce

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
)

// Calls that come while a round is under way share the next; each gets its own answer.
func TestCallsShareRounds(t *testing.T) {
	var rounds, calls atomic.Int32
	open := make(chan struct{})
	r := Group[int, int]{Do: func(_ context.Context, all []int) ([]int, error) {
		rounds.Add(1)
		calls.Add(int32(len(all)))
		<-open
		out := make([]int, len(all))
		for i, n := range all {
			out[i] = n * n
		}
		return out, nil
	}}
	var wg sync.WaitGroup
	for n := range 100 {
		wg.Go(func() {
			if got, err := r.Call(t.Context(), n); err != nil || got != n*n {
				t.Errorf("%d: %d %v", n, got, err)
			}
		})
	}
	for waits := 0; waits < 99; { // all but the first wait for its round's end
		r.mu.Lock()
		waits = len(r.waiting) + int(calls.Load()) - 1
		r.mu.Unlock()
	}
	close(open)
	wg.Wait()
	if n := calls.Load(); n != 100 {
		t.Errorf("%d calls were done", n)
	}
	if n := rounds.Load(); n > 4 {
		t.Errorf("it took %d rounds", n)
	}
	if got, err := r.Call(t.Context(), 3); got != 9 || err != nil { // it rested
		t.Errorf("%d %v", got, err)
	}
}

// What is wrong with one call is its own trouble, be it an error or a panic.
func TestOneBadCallSpoilsNoOther(t *testing.T) {
	bad := errors.New("bad")
	t.Run("an error", func(t *testing.T) { oneBad(t, bad, func() error { return bad }) })
	t.Run("a panic", func(t *testing.T) { oneBad(t, ErrPanic, func() error { panic("bad") }) })
}

func oneBad(t *testing.T, bad error, fails func() error) {
	hold := make(chan struct{})
	r := Group[int, int]{Most: 10, Apart: func(err error) bool { return err == bad },
		Do: func(_ context.Context, all []int) ([]int, error) {
			<-hold
			for _, n := range all {
				if n == 7 {
					return nil, fails()
				}
			}
			return all, nil
		}}
	var wg sync.WaitGroup
	for n := range 30 {
		wg.Go(func() {
			got, err := r.Call(t.Context(), n)
			if n == 7 && !errors.Is(err, bad) || n != 7 && (err != nil || got != n) {
				t.Errorf("%d: %d %v", n, got, err)
			}
		})
	}
	close(hold)
	wg.Wait()
}

// Who stops waiting before its round begins isn't done.
func TestACallThatIsGivenUpIsNotDone(t *testing.T) {
	begun, hold := make(chan struct{}), make(chan struct{})
	var done []int
	r := Group[int, int]{Do: func(_ context.Context, all []int) ([]int, error) {
		if all[0] == 1 {
			close(begun)
			<-hold
		}
		done = append(done, all...)
		return all, nil
	}}
	var wg sync.WaitGroup
	wg.Go(func() { _, _ = r.Call(t.Context(), 1) })
	<-begun
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := r.Call(ctx, 2); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	wg.Go(func() { _, _ = r.Call(t.Context(), 3) })
	for n := 0; n < 2; {
		r.mu.Lock()
		n = len(r.waiting)
		r.mu.Unlock()
	}
	close(hold)
	wg.Wait()
	if len(done) != 2 || done[0] != 1 || done[1] != 3 {
		t.Errorf("done: %v", done)
	}
}

package store_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// Waiting for the database that a time limit cuts off is told as that: for a connection of a pool that is
// used up, in a query that a lock holds up, and in a batch. What ends in time, or fails of itself, isn't.
func TestWaitingForTheDatabaseIsTold(t *testing.T) {
	t.Parallel()
	st := testbed.Store(t)
	limited := func() (context.Context, context.CancelFunc) {
		return context.WithTimeout(store.Watched(t.Context()), 150*time.Millisecond)
	}
	ctx, cancel := limited()
	defer cancel()
	if err := st.Writable(ctx); err != nil || store.Stalled(ctx) {
		t.Fatalf("in time: %v, stalled %t", err, store.Stalled(ctx))
	}
	if _, err := st.Pool.Exec(ctx, `select nonsense`); err == nil || store.Stalled(ctx) {
		t.Errorf("a query that fails: %v", err)
	}
	ctx, cancel = limited()
	defer cancel()
	if _, err := st.Pool.Exec(ctx, `select pg_sleep(5)`); !errors.Is(err, context.DeadlineExceeded) || !store.Stalled(ctx) {
		t.Errorf("a query: %v, stalled %t", err, store.Stalled(ctx))
	}
	var held []interface{ Release() }
	for range st.Pool.Config().MaxConns {
		c, err := st.Pool.Acquire(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		held = append(held, c)
	}
	ctx, cancel = limited()
	defer cancel()
	if _, err := st.Pool.Exec(ctx, `select 1`); !errors.Is(err, context.DeadlineExceeded) || !store.Stalled(ctx) {
		t.Errorf("a connection: %v, stalled %t", err, store.Stalled(ctx))
	}
	ctx, cancel = limited()
	defer cancel()
	if _, err := st.ReadSite(ctx, 1, []int64{}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("calls that are done together: %v", err)
	}
	for _, c := range held {
		c.Release()
	}
	if store.Stalled(t.Context()) {
		t.Error("a context that nobody watches is stalled")
	}
}

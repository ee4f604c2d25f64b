package store

import (
	"context"
	"errors"
	"sync/atomic"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// A time limit may run out while the database is awaited: in a query, for a connection of the pool, or
// in a round of calls that are done together. Whoever set the limit asks Stalled then, so that trouble
// of ours isn't told as a device's.

type stallKey struct{}

// Watched is a context of which Stalled tells whether waiting for the database was cut off.
func Watched(ctx context.Context) context.Context {
	return context.WithValue(ctx, stallKey{}, new(atomic.Bool))
}

// Stalled says whether waiting for the database was cut off within a context that Watched made.
func Stalled(ctx context.Context) bool {
	b, ok := ctx.Value(stallKey{}).(*atomic.Bool)
	return ok && b.Load()
}

// cutOff notes that an error ended the waiting for the database, where it is one of a context.
func cutOff(ctx context.Context, err error) {
	if b, ok := ctx.Value(stallKey{}).(*atomic.Bool); ok && (errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled)) {
		b.Store(true)
	}
}

// tracer notes what pgx was waiting for when a context ended.
type tracer struct{}

func (tracer) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	return ctx
}

func (tracer) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, d pgx.TraceQueryEndData) {
	cutOff(ctx, d.Err)
}

func (tracer) TraceBatchStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceBatchStartData) context.Context {
	return ctx
}

func (tracer) TraceBatchQuery(ctx context.Context, _ *pgx.Conn, d pgx.TraceBatchQueryData) {
	cutOff(ctx, d.Err)
}

func (tracer) TraceBatchEnd(ctx context.Context, _ *pgx.Conn, d pgx.TraceBatchEndData) {
	cutOff(ctx, d.Err)
}

func (tracer) TraceAcquireStart(ctx context.Context, _ *pgxpool.Pool, _ pgxpool.TraceAcquireStartData) context.Context {
	return ctx
}

func (tracer) TraceAcquireEnd(ctx context.Context, _ *pgxpool.Pool, d pgxpool.TraceAcquireEndData) {
	cutOff(ctx, d.Err)
}

// Writable says whether the database answers and writes: an error of PostgreSQL's class 53 is that it has
// no room.
func (s *Store) Writable(ctx context.Context) error {
	_, err := s.db.Exec(ctx, `insert into pulse (id, at) values (1, now()) on conflict (id) do update set at = excluded.at`)
	return err
}

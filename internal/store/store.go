// Package store keeps everything that matters in PostgreSQL. It returns core types
// and holds no rule.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/tern/v2/migrate"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned when a row that was asked for isn't there.
var ErrNotFound = errors.New("not found")

// Store is the database. Its methods may be used by several goroutines.
type Store struct {
	Pool      *pgxpool.Pool
	db        conn // the pool, or the transaction that this store is of
	coalesced coalesced
}

// conn is a pool or a transaction.
type conn interface {
	querier
	execer
	SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults
	Begin(ctx context.Context) (pgx.Tx, error)
}

// On is the store of a pool that is open.
func On(pool *pgxpool.Pool) *Store {
	s := &Store{Pool: pool, db: pool}
	s.gather()
	return s
}

// Config is how the product connects to the database at dsn.
func Config(dsn string) (*pgxpool.Config, error) {
	cfg, err := pgxpool.ParseConfig(dsn)
	if err != nil {
		return nil, fmt.Errorf("store: the database address can't be read: %w", err)
	}
	cfg.MaxConns = 20
	cfg.ConnConfig.Tracer = tracer{}
	cfg.AfterConnect = func(_ context.Context, c *pgx.Conn) error { plainJSON(c); return nil }
	return cfg, nil
}

// Open connects to the database at dsn.
func Open(ctx context.Context, dsn string) (*Store, error) {
	cfg, err := Config(dsn)
	if err != nil {
		return nil, err
	}
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("store: %w", err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("store: the database doesn't answer: %w", err)
	}
	return On(pool), nil
}

// Close lets the connections go.
func (s *Store) Close() { s.Pool.Close() }

// migrationLock keeps several processes from migrating at once.
const migrationLock = 72_004_201

// Migrate brings the schema forward, this product's and the job queue's.
func (s *Store) Migrate(ctx context.Context) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("store: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1)", migrationLock); err != nil {
		return fmt.Errorf("store: %w", err)
	}
	defer func() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1)", migrationLock)
	}()
	m, err := migrate.NewMigrator(ctx, conn.Conn(), "public.schema_version")
	if err != nil {
		return fmt.Errorf("store: migrating: %w", err)
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	if err := m.LoadMigrations(files); err != nil {
		return fmt.Errorf("store: migrating: %w", err)
	}
	if err := m.Migrate(ctx); err != nil {
		return fmt.Errorf("store: migrating: %w", err)
	}
	queue, err := rivermigrate.New(riverpgxv5.New(s.Pool), nil)
	if err != nil {
		return fmt.Errorf("store: migrating the job queue: %w", err)
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("store: migrating the job queue: %w", err)
	}
	return nil
}

// Empty says whether the database holds no table yet.
func (s *Store) Empty(ctx context.Context) (bool, error) {
	var tables bool
	err := s.db.QueryRow(ctx, `select exists (select 1 from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname = 'public' and c.relkind in ('r', 'p'))`).Scan(&tables)
	return !tables, err
}

// InTx runs f in one transaction.
func (s *Store) InTx(ctx context.Context, f func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, s.db, f)
}

// Within runs f with a store of one transaction: all that f does by it is kept, or where f fails none of it.
// It isn't for several goroutines.
func (s *Store) Within(ctx context.Context, f func(tx *Store) error) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		in := &Store{Pool: s.Pool, db: tx}
		in.gather()
		return f(in)
	})
}

// Tx is the transaction that this store is of; ok: it is of one.
func (s *Store) Tx() (tx pgx.Tx, ok bool) {
	tx, ok = s.db.(pgx.Tx)
	return tx, ok
}

// querier is a pool or a transaction.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

func queryOne[T any](ctx context.Context, q querier, sql string, args ...any) (T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		var zero T
		return zero, err
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if errors.Is(err, pgx.ErrNoRows) {
		return v, ErrNotFound
	}
	return v, err
}

func queryAll[T any](ctx context.Context, q querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[T])
}

// ids reads a column of numbers.
func ids(ctx context.Context, q querier, sql string, args ...any) ([]int64, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// execer is a pool or a transaction that statements are sent to.
type execer interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
}

// lazily sends one statement whose loss in a crash of the database costs only a
// reading: its commit doesn't wait for the disk. What must not be lost (a try, a
// change, what a person did) isn't written this way.
func (s *Store) lazily(ctx context.Context, sql string, args ...any) error {
	b := &pgx.Batch{}
	b.Queue(`select set_config('synchronous_commit', 'off', true)`)
	b.Queue(sql, args...)
	return s.db.SendBatch(ctx, b).Close()
}

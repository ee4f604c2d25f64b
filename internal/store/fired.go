package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Fired is one beginning that a camera's rule told of.
type Fired struct {
	At    time.Time // on this server's clock
	Rule  string
	Topic string
}

// maxFired is how many firings are read at once.
const maxFired = 20000

func keepFired(ctx context.Context, tx pgx.Tx, source int64, all []Fired) error {
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"fired"}, []string{"source_id", "at", "rule", "topic"}, pgx.CopyFromSlice(len(all), func(i int) ([]any, error) {
		return []any{source, all[i].At, all[i].Rule, all[i].Topic}, nil
	}))
	return err
}

// FiredBetween are the beginnings that a view's rules told of from one moment to another, oldest first: 20,000 at the most.
func (s *Store) FiredBetween(ctx context.Context, source int64, from, to time.Time) ([]Fired, error) {
	return queryAll[Fired](ctx, s.db, `select at, rule, topic from fired where source_id = $1 and at >= $2 and at <= $3 order by at limit $4`, source, from, to, maxFired)
}

// Checked is what a person said of a firing.
type Checked struct {
	Object string
	At     time.Time
	Right  bool
}

// maxChecked is how many are kept of a view.
const maxChecked = 2000

// KeepChecked keeps what a person said of a firing of a view's object, to a millisecond; nil takes it back. ErrFull where as
// many are kept as can be.
func (s *Store) KeepChecked(ctx context.Context, source int64, object string, at time.Time, right *bool) error {
	at = at.UTC().Truncate(time.Millisecond)
	if right == nil {
		_, err := s.db.Exec(ctx, `delete from checked where source_id = $1 and object = $2 and at = $3`, source, object, at)
		return err
	}
	tag, err := s.db.Exec(ctx, `insert into checked (source_id, object, at, was_right) select $1, $2, $3, $4
		where (select count(*) from checked where source_id = $1) < $5
		on conflict (source_id, object, at) do update set was_right = excluded.was_right, checked_at = now()`, source, object, at, *right, maxChecked)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrFull
	}
	return err
}

// CheckedBetween is what was said of firings from one moment to another.
func (s *Store) CheckedBetween(ctx context.Context, source int64, from, to time.Time) ([]Checked, error) {
	return queryAll[Checked](ctx, s.db, `select object, at, was_right as right from checked where source_id = $1 and at >= $2 and at <= $3 order by at`, source, from, to)
}

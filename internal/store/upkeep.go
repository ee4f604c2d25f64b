package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Pass says whether key may try once more: burst times at once, then one time in every.
// It counts over all servers.
func (s *Store) Pass(ctx context.Context, key string, burst int, every time.Duration) (bool, error) {
	var ok bool
	err := s.Pool.QueryRow(ctx, `insert into gate as g (key, left_over) values ($1, $2 - 1) on conflict (key) do update
		set left_over = least($2, g.left_over + extract(epoch from now() - g.at) / $3) - 1, at = now()
		where least($2, g.left_over + extract(epoch from now() - g.at) / $3) >= 1 returning true`, key, float64(burst), every.Seconds()).Scan(&ok)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	return ok, err
}

// Keep is how long is kept what nobody's record rests on; 0: for ever. Changes, proofs,
// the audit log and the newest value of each fact are always kept.
type Keep struct {
	Facts   time.Duration // earlier values of facts
	Notices time.Duration // what changed on the networks
	Steps   time.Duration // what each step of a run said; the run keeps its sums
	Tries   time.Duration // sign-ins to devices
}

// Usual is kept unless something else is asked for.
var Usual = Keep{Facts: 400 * 24 * time.Hour, Notices: 400 * 24 * time.Hour, Steps: 90 * 24 * time.Hour, Tries: 90 * 24 * time.Hour}

// pruneAtOnce is how many rows of a table one statement takes.
const pruneAtOnce = 5000

// Prune deletes what is older than k, the oldest first, and returns how many rows that
// were. What one call leaves, the next one takes.
func (s *Store) Prune(ctx context.Context, k Keep) (int64, error) {
	var n int64
	for _, t := range []struct {
		table, at string
		keep      time.Duration
	}{
		{"fact_history", "read_at", k.Facts},
		{"happening", "at", k.Notices},
		{"run_step", "ended_at", k.Steps},
		{"try", "at", k.Tries},
	} {
		if t.keep <= 0 {
			continue
		}
		// Numbers grow with time: the oldest rows are read by them, without an index of times.
		tag, err := s.Pool.Exec(ctx, fmt.Sprintf(`delete from %[1]s where id in (select id from (select id, %[2]s from %[1]s order by id limit $1) o where o.%[2]s < now() - $2::interval)`, t.table, t.at), pruneAtOnce, t.keep)
		if err != nil {
			return n, err
		}
		n += tag.RowsAffected()
	}
	_, err := s.Pool.Exec(ctx, `delete from gate where at < now() - interval '1 day'`)
	return n, err
}

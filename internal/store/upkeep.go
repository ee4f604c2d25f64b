package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Pass counts one more refused try under key, before it is known how it ends, and answers 0;
// or answers how long is still to be waited, and counts nothing. wait says how long who was
// refused so often in a row waits. It counts over all servers; a day without a try begins anew.
func (s *Store) Pass(ctx context.Context, key string, wait func(missed int) time.Duration) (left time.Duration, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into gate (key) values ($1) on conflict (key) do nothing`, key); err != nil {
			return err
		}
		var missed int
		var since time.Duration
		err := tx.QueryRow(ctx, `select case when at < now() - interval '1 day' then 0 else missed end, greatest(clock_timestamp() - at, interval '0') from gate where key = $1 for update`, key).Scan(&missed, &since)
		if err != nil {
			return err
		}
		if left = wait(missed) - since; left > 0 {
			return nil
		}
		left = 0
		_, err = tx.Exec(ctx, `update gate set missed = $2, at = clock_timestamp() where key = $1`, key, missed+1)
		return err
	})
	return left, err
}

// Passed forgets what was refused under own: who tried has shown who they are. Under shared,
// which others try under too, this one try isn't counted.
func (s *Store) Passed(ctx context.Context, own, shared string) error {
	_, err := s.db.Exec(ctx, `with forgotten as (delete from gate where key = $1) update gate set missed = greatest(missed - 1, 0) where key = $2`, own, shared)
	return err
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
		tag, err := s.db.Exec(ctx, fmt.Sprintf(`delete from %[1]s where id in (select id from (select id, %[2]s from %[1]s order by id limit $1) o where o.%[2]s < now() - $2::interval)`, t.table, t.at), pruneAtOnce, t.keep)
		if err != nil {
			return n, err
		}
		n += tag.RowsAffected()
	}
	_, err := s.db.Exec(ctx, `delete from gate where at < now() - interval '1 day'`)
	return n, err
}

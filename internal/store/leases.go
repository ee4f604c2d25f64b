package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Lease takes or renews a device for holder until ttl is over; ok is false while
// another holds it. The fence grows with every taking and never falls back.
func (s *Store) Lease(ctx context.Context, device int64, holder string, ttl time.Duration) (fence int64, ok bool, err error) {
	err = s.db.QueryRow(ctx, `insert into lease (device_id, holder, fence, until) values ($1, $2, 1, now() + $3::interval)
		on conflict (device_id) do update set holder = excluded.holder, until = excluded.until, fence = lease.fence + 1
		where lease.until <= now() or lease.holder = excluded.holder returning fence`, device, holder, ttl).Scan(&fence)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, false, nil
	}
	return fence, err == nil, err
}

// Release gives a lease back; its fence stays.
func (s *Store) Release(ctx context.Context, device int64, holder string) error {
	_, err := s.db.Exec(ctx, `update lease set until = now() where device_id = $1 and holder = $2`, device, holder)
	return err
}

// Renew keeps what a step holds until ttl is over: the device's lease with its fence, and
// the slots that it has. ErrFenced where another took the device over.
func (s *Store) Renew(ctx context.Context, c Claim, ttl time.Duration) error {
	tag, err := s.db.Exec(ctx, `with c as (update claim set until = now() + $4::interval where holder = $2 and until > now())
		update lease set until = now() + $4::interval where device_id = $1 and holder = $2 and fence = $3`, c.Device, c.Holder, c.Fence, ttl)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrFenced
	}
	return err
}

// GiveWay gives back the slots of networks and recorders that a holder has; its lease
// of the device stays.
func (s *Store) GiveWay(ctx context.Context, holder string) error {
	return s.lazily(ctx, `select claims_back($1)`, holder)
}

// Beat tells the other servers that this one lives.
func (s *Store) Beat(ctx context.Context, server string) error {
	_, err := s.db.Exec(ctx, `insert into server (id) values ($1) on conflict (id) do update set heard_at = now()`, server)
	return err
}

// Leave takes a server off the list.
func (s *Store) Leave(ctx context.Context, server string) error {
	_, err := s.db.Exec(ctx, `delete from server where id = $1`, server)
	return err
}

// Holders lists the servers that have jobs under way or hold leases or claims, with
// how long each has been silent. One that isn't on the list of servers was taken over
// before: what it still holds was written by a statement that was on its way when it
// died.
func (s *Store) Holders(ctx context.Context) (map[string]time.Duration, error) {
	type row struct {
		ID     string
		Silent time.Duration
	}
	rows, err := queryAll[row](ctx, s.db, `select h.id, coalesce(now() - s.heard_at, interval '1 hour') silent from
		(select attempted_by[array_upper(attempted_by, 1)] id from river_job where state = 'running' and attempted_by is not null
		union select substring(holder from '^[^/]*/[^/]*/[^/]*') from lease where until > now()
		union select substring(holder from '^[^/]*/[^/]*/[^/]*') from claim where until > now()) h
		left join server s on s.id = h.id where h.id is not null`)
	out := map[string]time.Duration{}
	for _, r := range rows {
		out[r.ID] = r.Silent
	}
	return out, err
}

// deadlocked says whether a transaction was given up so that another may go on: it may be begun anew
// at once.
func deadlocked(err error) bool {
	var pe *pgconn.PgError
	return errors.As(err, &pe) && pe.Code == deadlockDetected
}

// deadlockDetected is PostgreSQL's code (its manual, appendix A).
const deadlockDetected = "40P01"

// TakeOver makes the jobs of dead servers available again at once and ends their
// leases and claims; it returns how many jobs there were. A server's death isn't one of
// a job's attempts. The last statements of the dead, and others that take over, may be under way:
// what meets them is begun anew.
func (s *Store) TakeOver(ctx context.Context, dead []string) (jobs int64, err error) {
	for range 5 {
		if jobs, err = s.takeOver(ctx, dead); !deadlocked(err) {
			break
		}
	}
	return jobs, err
}

func (s *Store) takeOver(ctx context.Context, dead []string) (jobs int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		for _, sql := range []string{
			`update lease set until = now() where until > now() and exists (select 1 from unnest($1::text[]) id where starts_with(holder, id || '/'))`,
			`update claim set until = '-infinity' where until > now() and exists (select 1 from unnest($1::text[]) id where starts_with(holder, id || '/'))`,
			`delete from server where id = any($1)`,
		} {
			if _, err := tx.Exec(ctx, sql, dead); err != nil {
				return err
			}
		}
		tag, err := tx.Exec(ctx, `update river_job set state = 'available', scheduled_at = now(), max_attempts = max_attempts + 1
			where state = 'running' and attempted_by[array_upper(attempted_by, 1)] = any($1)`, dead)
		jobs = tag.RowsAffected()
		return err
	})
	return jobs, err
}

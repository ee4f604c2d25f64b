package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// LiveCall is a browser that wants to see a view moving.
type LiveCall struct {
	ID       int64
	SourceID int64
	Offer    string
	Answer   *string // nil: not yet
	Trouble  *string // why there is no answer
}

// ErrCrowded is returned where as many look already as may.
var ErrCrowded = errors.New("store: as many look as may")

// CallLive keeps a browser's offer to see a view of the site; most may look at one view, mostSite
// at all of a site. ErrNotFound where the site has no such view, ErrCrowded where there are more.
func (s *Store) CallLive(ctx context.Context, site, source int64, offer string, most, mostSite int) (id int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		var here, all int
		err := tx.QueryRow(ctx, `select (select count(*) from live_call where source_id = v.id),
			(select count(*) from live_call c join source o on o.id = c.source_id where o.site_id = v.site_id)
			from source v where v.id = $2 and v.site_id = $1 for update`, site, source).Scan(&here, &all)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return ErrNotFound
		case err != nil:
			return err
		case here >= most || all >= mostSite:
			return ErrCrowded
		}
		return tx.QueryRow(ctx, `insert into live_call (source_id, offer) values ($1, $2) returning id`, source, offer).Scan(&id)
	})
	return id, err
}

// ClaimReader makes a server the one that reads a view's stream, or keeps it so, until ttl is
// over; mine is false while another is.
func (s *Store) ClaimReader(ctx context.Context, source int64, holder string, ttl time.Duration) (mine bool, err error) {
	tag, err := s.db.Exec(ctx, `insert into live_reader (source_id, holder, until) values ($1, $2, now() + $3::interval)
		on conflict (source_id) do update set holder = excluded.holder, until = excluded.until
		where live_reader.until <= now() or live_reader.holder = excluded.holder`, source, holder, ttl)
	return err == nil && tag.RowsAffected() > 0, err
}

// ReleaseReader gives a view's stream back.
func (s *Store) ReleaseReader(ctx context.Context, source int64, holder string) error {
	_, err := s.db.Exec(ctx, `delete from live_reader where source_id = $1 and holder = $2`, source, holder)
	return err
}

// WaitingCalls lists who waits for an answer of the views that a server reads.
func (s *Store) WaitingCalls(ctx context.Context, holder string) ([]LiveCall, error) {
	return queryAll[LiveCall](ctx, s.db, `select c.id, c.source_id, c.offer, c.answer, c.trouble from live_call c
		join live_reader r on r.source_id = c.source_id and r.holder = $1 and r.until > now()
		where c.answer is null and c.trouble is null order by c.id`, holder)
}

// AnswerCall keeps the answer to a browser, or why there is none.
func (s *Store) AnswerCall(ctx context.Context, id int64, answer, trouble string) error {
	_, err := s.db.Exec(ctx, `update live_call set answer = nullif($2, ''), trouble = nullif($3, '') where id = $1`, id, answer, trouble)
	return err
}

// Call reads a browser's call; ErrNotFound where it is gone.
func (s *Store) Call(ctx context.Context, id int64) (LiveCall, error) {
	all, err := queryAll[LiveCall](ctx, s.db, `select id, source_id, offer, answer, trouble from live_call where id = $1`, id)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return LiveCall{}, err
	}
	return all[0], nil
}

// TouchCall notes that a call's page still looks; ErrNotFound where the site has no such call.
func (s *Store) TouchCall(ctx context.Context, site, id int64) error {
	tag, err := s.db.Exec(ctx, `update live_call c set kept_at = now() from source o where c.id = $2 and o.id = c.source_id and o.site_id = $1`, site, id)
	return orNone(tag.RowsAffected(), err)
}

// LeftCalls lists which of these calls nobody keeps any more, silent for longer than quiet or
// taken off, and forgets them and all others that old.
func (s *Store) LeftCalls(ctx context.Context, ids []int64, quiet time.Duration) ([]int64, error) {
	if _, err := s.db.Exec(ctx, `delete from live_call where kept_at < now() - $1::interval`, quiet); err != nil {
		return nil, err
	}
	rows, err := s.db.Query(ctx, `select id from unnest($1::bigint[]) id where not exists (select 1 from live_call c where c.id = id.id)`, ids)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// DropCalls takes calls off.
func (s *Store) DropCalls(ctx context.Context, ids ...int64) error {
	_, err := s.db.Exec(ctx, `delete from live_call where id = any($1)`, ids)
	return err
}

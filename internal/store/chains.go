package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/stage"
)

// Chained is a run that ended and goes on with other stages.
type Chained struct {
	ID            int64
	SiteID        int64
	Person, Token int64
	AskedOf       string // the query of its selection, as it was asked: "all", or words
	Then          []stage.Stage
	Chain         int64 // the run that it all began with
}

// ErrGoneOn says that another went on with a run already.
var ErrGoneOn = errors.New("store: another went on with the run")

// chainWaits is for how long a run that ended is gone on with: who begins nothing for so long was down, and nobody waits
// for it any more.
const chainWaits = 10 * time.Minute

// ChainsDue lists runs that ended and go on. One that was stopped doesn't, nor one that ended long ago.
func (s *Store) ChainsDue(ctx context.Context, limit int) ([]Chained, error) {
	if _, err := s.db.Exec(ctx, `update run set then_read = '{}' where then_read <> '{}' and (stop or ended_at < now() - $1::interval)`, chainWaits); err != nil {
		return nil, err
	}
	return queryAll[Chained](ctx, s.db, `select r.id, r.site_id, coalesce(r.person_id, 0) person, coalesce(r.token_id, 0) token,
			r.asked_of, r.then_read "then", coalesce(r.chain, r.id) chain
		from run r join site s on s.id = r.site_id
		where r.then_read <> '{}' and r.ended_at is not null and s.put_away_at is null order by r.id limit $1`, limit)
}

// EndChain has a run go on no more.
func (s *Store) EndChain(ctx context.Context, run int64) error {
	_, err := s.db.Exec(ctx, `update run set then_read = '{}' where id = $1`, run)
	return err
}

// goOn has a run be the one that another goes on with: ErrGoneOn where it isn't to go on any more.
func goOn(ctx context.Context, tx pgx.Tx, after int64) error {
	tag, err := tx.Exec(ctx, `update run set then_read = '{}' where id = $1 and then_read <> '{}' and not stop`, after)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrGoneOn
	}
	return err
}

// GoesOn has a run that goes already be what a new one would have been: it goes on with its stages, where it doesn't go
// on with any.
func (s *Store) GoesOn(ctx context.Context, tx pgx.Tx, run int64, n NewRun) error {
	if n.After != 0 {
		if err := goOn(ctx, tx, n.After); err != nil {
			return err
		}
	}
	if len(n.Then) == 0 && n.Chain == 0 {
		return nil
	}
	_, err := tx.Exec(ctx, `update run set then_read = $2, chain = coalesce(chain, nullif($3::bigint, 0)), asked_of = $4
		where id = $1 and then_read = '{}'`, run, numbers(n.Then), n.Chain, n.AskedOf)
	return err
}

func numbers(all []stage.Stage) []int16 {
	out := make([]int16, len(all))
	for i, st := range all {
		out[i] = int16(st)
	}
	return out
}

// ChainOf lists the runs that began with a run of a site, it among them, the first one first.
func (s *Store) ChainOf(ctx context.Context, site, first int64) ([]Run, error) {
	return queryAll[Run](ctx, s.db, runSelect+`where r.site_id = $1 and (r.id = $2 or r.chain = $2) order by r.id`, site, first)
}

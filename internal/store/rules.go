package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/rule"
)

// maxDrawn is how many rules are kept of a view.
const maxDrawn = 64

// ErrFull is returned where no more of something is kept.
var ErrFull = errors.New("store: no more of it is kept")

// KeepRule keeps a rule that was drawn for a view of a site; with ID 0 a new one. ErrTaken where another of the view has its
// name, ErrFull where as many are kept as can be, ErrNotFound where the site has no such view or rule.
func (s *Store) KeepRule(ctx context.Context, site, source int64, d rule.Drawn) (id int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if err := s.redrawn(ctx, tx, site, source); err != nil {
			return err
		}
		if d.ID != 0 {
			id = d.ID
			tag, err := tx.Exec(ctx, `update drawn_rule set name = $3, rule = $4, changed_at = now(),
				was = case when was = $3 then '' when was = '' and name <> $3 then name else was end where source_id = $1 and id = $2`, source, id, d.Name, d.Rule)
			return orNone(tag.RowsAffected(), err)
		}
		var has int
		if err := tx.QueryRow(ctx, `select count(*) from drawn_rule where source_id = $1`, source).Scan(&has); err != nil {
			return err
		}
		if has >= maxDrawn {
			return ErrFull
		}
		return tx.QueryRow(ctx, `insert into drawn_rule (source_id, name, rule) values ($1, $2, $3) returning id`, source, d.Name, d.Rule).Scan(&id)
	})
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return 0, ErrTaken
	}
	return id, err
}

// DropRule takes a drawn rule off a view; what its camera has stays.
func (s *Store) DropRule(ctx context.Context, site, source, id int64) (name string, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if err := s.redrawn(ctx, tx, site, source); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `delete from drawn_rule where source_id = $1 and id = $2 returning name`, source, id).Scan(&name)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		return err
	})
	return name, err
}

// CopyRules draws rules of a view, or the one of a name, for others of the site as well, and answers with those that were
// drawn: names by view. One that has a rule of the name keeps its own.
func (s *Store) CopyRules(ctx context.Context, site, from int64, name string, to []int64) (drawn map[int64][]string, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		drawn, err = draw(ctx, tx, `insert into drawn_rule (source_id, name, rule) select s.id, r.name, r.rule
				from drawn_rule r join source f on f.id = r.source_id and f.site_id = $1 cross join source s
			where r.source_id = $2 and ($3 = '' or r.name = $3) and s.id = any($4) and s.site_id = $1 and s.id <> $2
				and (select count(*) from drawn_rule x where x.source_id = s.id) < $5
			order by s.id, r.id on conflict do nothing returning source_id, name`, site, from, name, to, maxDrawn)
		return err
	})
	return drawn, err
}

// draw has rules be drawn by a query that returns views and names, and the marks that rest on them be made again.
func draw(ctx context.Context, tx pgx.Tx, sql string, with ...any) (map[int64][]string, error) {
	rows, err := tx.Query(ctx, sql, with...)
	if err != nil {
		return nil, err
	}
	drawn := map[int64][]string{}
	var of int64
	var called string
	if _, err := pgx.ForEachRow(rows, []any{&of, &called}, func() error {
		drawn[of] = append(drawn[of], called)
		return nil
	}); err != nil {
		return nil, err
	}
	ids := make([]int64, 0, len(drawn))
	for id := range drawn {
		ids = append(ids, id)
	}
	_, err = tx.Exec(ctx, `update device set version = version + 1 where id in (select device_id from source where id = any($1))`, ids)
	return drawn, err
}

// SwitchRule has a drawn rule of a view be off, or on again; ErrNotFound where the site's view has no such rule.
func (s *Store) SwitchRule(ctx context.Context, site, source, id int64, off bool) (name string, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if err := s.redrawn(ctx, tx, site, source); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `update drawn_rule set off = $3, changed_at = now() where source_id = $1 and id = $2 returning name`, source, id, off).Scan(&name)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		return err
	})
	return name, err
}

// RuleNames says which rules a view's camera has: by names of before that are gone nothing is meant any more.
func (s *Store) RuleNames(ctx context.Context, source int64, names []string) error {
	_, err := s.db.Exec(ctx, `update drawn_rule set was = '' where source_id = $1 and was <> '' and not (was = any($2))`, source, names)
	return err
}

// redrawn has the marks of a view's device be made again, which rest on its rules; nobody else draws for it meanwhile.
func (s *Store) redrawn(ctx context.Context, tx pgx.Tx, site, source int64) error {
	tag, err := tx.Exec(ctx, `update device set version = version + 1 where id = (select device_id from source where id = $2 and site_id = $1)`, site, source)
	return orNone(tag.RowsAffected(), err)
}

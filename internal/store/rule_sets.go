package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/rule"
)

// maxRuleSets is how many sets of rules a site keeps.
const maxRuleSets = 100

// RuleSets are a site's sets of rules, by name.
func (s *Store) RuleSets(ctx context.Context, site int64) ([]rule.Set, error) {
	return queryAll[rule.Set](ctx, s.db, `select id, name, rules from rule_set where site_id = $1 order by name`, site)
}

// KeepRuleSet keeps rules by a name. ErrTaken where the site has a set of the name, ErrFull where it keeps as many as can be.
func (s *Store) KeepRuleSet(ctx context.Context, site int64, name string, rules []rule.Rule) (id int64, err error) {
	err = s.db.QueryRow(ctx, `insert into rule_set (site_id, name, rules) select $1, $2, $3 where (select count(*) from rule_set where site_id = $1) < $4 returning id`,
		site, name, rules, maxRuleSets).Scan(&id)
	var pg *pgconn.PgError
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return 0, ErrFull
	case errors.As(err, &pg) && pg.Code == "23505":
		return 0, ErrTaken
	}
	return id, err
}

// DropRuleSet forgets a set; what was drawn by it stays. ErrNotFound where the site has no such set.
func (s *Store) DropRuleSet(ctx context.Context, site, id int64) (name string, err error) {
	err = s.db.QueryRow(ctx, `delete from rule_set where site_id = $1 and id = $2 returning name`, site, id).Scan(&name)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", ErrNotFound
	}
	return name, err
}

// DrawRuleSet draws the rules of a set for views of the site, and answers with those that were drawn: names by view. One that
// has a rule of the name keeps its own.
func (s *Store) DrawRuleSet(ctx context.Context, site, id int64, to []int64) (drawn map[int64][]string, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		drawn, err = draw(ctx, tx, `insert into drawn_rule (source_id, name, rule) select s.id, x.r ->> 'Name', x.r
				from rule_set k cross join lateral jsonb_array_elements(k.rules) with ordinality x (r, nth) cross join source s
			where k.site_id = $1 and k.id = $2 and s.id = any($3) and s.site_id = $1
				and (select count(*) from drawn_rule d where d.source_id = s.id) < $4
			order by s.id, x.nth on conflict do nothing returning source_id, name`, site, id, to, maxDrawn)
		return err
	})
	return drawn, err
}

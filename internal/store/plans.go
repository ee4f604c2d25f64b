package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/recording"
)

// RecordingPlan is a recording plan of a site.
type RecordingPlan struct {
	ID   int64
	Name string
	Plan recording.Plan
	For  int // views that it was chosen for
}

// ErrTaken says that something of that name is there already.
var ErrTaken = errors.New("store: the name is taken")

// RecordingPlans lists a site's plans by name.
func (s *Store) RecordingPlans(ctx context.Context, site int64) ([]RecordingPlan, error) {
	return queryAll[RecordingPlan](ctx, s.db, `select p.id, p.name, p.plan, (select count(*) from source s where s.plan_id = p.id) "for"
		from recording_plan p where p.site_id = $1 order by lower(p.name)`, site)
}

// KeepRecordingPlan keeps a plan; with ID 0 a new one. ErrTaken where another has its name,
// ErrNotFound where there is none to change. What it is chosen for is judged by it from then on.
func (s *Store) KeepRecordingPlan(ctx context.Context, site int64, p RecordingPlan) (id int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if p.ID == 0 {
			return tx.QueryRow(ctx, `insert into recording_plan (site_id, name, plan) values ($1, $2, $3) returning id`, site, p.Name, p.Plan).Scan(&id)
		}
		id = p.ID
		tag, err := tx.Exec(ctx, `update recording_plan set name = $3, plan = $4, changed_at = now() where site_id = $1 and id = $2`, site, id, p.Name, p.Plan)
		if err := orNone(tag.RowsAffected(), err); err != nil {
			return err
		}
		return newlyPlanned(ctx, tx, id)
	})
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return 0, ErrTaken
	}
	return id, err
}

// newlyPlanned has the marks of all that a plan was chosen for be made again.
func newlyPlanned(ctx context.Context, tx pgx.Tx, plan int64) error {
	_, err := tx.Exec(ctx, `update device set version = version + 1 where id in (select device_id from source where plan_id = $1)`, plan)
	return err
}

// DropRecordingPlan takes a plan off a site: nothing is chosen any more for those that it was
// chosen for, whose devices it answers; what their channels keep stays.
func (s *Store) DropRecordingPlan(ctx context.Context, site, id int64) (name string, devices []int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if devices, err = ids(ctx, tx, `select distinct device_id from source where site_id = $1 and plan_id = $2`, site, id); err != nil {
			return err
		}
		if err := newlyPlanned(ctx, tx, id); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `delete from recording_plan where site_id = $1 and id = $2 returning name`, site, id).Scan(&name)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		return err
	})
	return name, devices, err
}

// ChoosePlan chooses a plan for views of a site, 0: none, and answers their devices. ErrNotFound
// where the site has no such plan.
func (s *Store) ChoosePlan(ctx context.Context, site, plan int64, sources []int64) (devices []int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if plan != 0 {
			var there bool
			if err := tx.QueryRow(ctx, `select exists (select 1 from recording_plan where site_id = $1 and id = $2)`, site, plan).Scan(&there); err != nil {
				return err
			}
			if !there {
				return ErrNotFound
			}
		}
		devices, err = ids(ctx, tx, `with p as (update source set plan_id = nullif($2::bigint, 0) where site_id = $1 and id = any($3) returning device_id)
			update device d set version = version + 1 where d.id in (select device_id from p) returning d.id`, site, plan, sources)
		return err
	})
	return devices, err
}

// Retention is for how many days a site keeps, see the columns of site.
type Retention struct {
	Least, Most, Active int // days, days, percent
}

// SetRetention keeps it; all of the site's cameras are judged by it from then on.
func (s *Store) SetRetention(ctx context.Context, site int64, k Retention) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update site set least_days = $2, most_days = $3, active_percent = $4 where id = $1`, site, k.Least, k.Most, k.Active); err != nil {
			return fmt.Errorf("store: keeping: %w", err)
		}
		_, err := tx.Exec(ctx, `update device set version = version + 1 where site_id = $1`, site)
		return err
	})
}

package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/stream"
)

// EncoderSetting is a named setting of a site's encoders.
type EncoderSetting struct {
	ID   int64
	Name string
	Want stream.Want
	For  int // views that it was chosen for
}

// EncoderSettings lists a site's settings by name.
func (s *Store) EncoderSettings(ctx context.Context, site int64) ([]EncoderSetting, error) {
	return queryAll[EncoderSetting](ctx, s.db, `select e.id, e.name, e.want, (select count(*) from source_setting x
		where x.setting_id = e.id)::int "for"
		from encoder_setting e where e.site_id = $1 order by lower(e.name)`, site)
}

// KeepEncoderSetting keeps a setting; with ID 0 a new one. ErrTaken where another has its name, ErrNotFound where there
// is none to change. What it is chosen for is judged by it from then on.
func (s *Store) KeepEncoderSetting(ctx context.Context, site int64, e EncoderSetting) (id int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if e.ID == 0 {
			return tx.QueryRow(ctx, `insert into encoder_setting (site_id, name, want) values ($1, $2, $3)
				returning id`, site, e.Name, e.Want).Scan(&id)
		}
		id = e.ID
		tag, err := tx.Exec(ctx, `update encoder_setting set name = $3, want = $4, changed_at = now()
			where site_id = $1 and id = $2`, site, id, e.Name, e.Want)
		if err := orNone(tag.RowsAffected(), err); err != nil {
			return err
		}
		// A setting of another stream isn't chosen for the one of before any more.
		if _, err := tx.Exec(ctx, `update source_setting x set stream = $2 where setting_id = $1 and stream <> $2
			and not exists (select 1 from source_setting y where y.source_id = x.source_id and y.stream = $2)`, id, string(e.Want.Of)); err != nil {
			return err
		}
		if err := newlySet(ctx, tx, id); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `delete from source_setting where setting_id = $1 and stream <> $2`, id, string(e.Want.Of))
		return err
	})
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return 0, ErrTaken
	}
	return id, err
}

// newlySet has the marks of all that a setting was chosen for be made again.
func newlySet(ctx context.Context, tx pgx.Tx, setting int64) error {
	_, err := tx.Exec(ctx, `update device set version = version + 1 where id in (select s.device_id
		from source_setting x join source s on s.id = x.source_id where x.setting_id = $1)`, setting)
	return err
}

// DropEncoderSetting takes a setting off a site, and answers the devices that it was chosen for; what their encoders are
// set to stays.
func (s *Store) DropEncoderSetting(ctx context.Context, site, id int64) (name string, devices []int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if devices, err = ids(ctx, tx, `select distinct s.device_id from source_setting x join source s on s.id = x.source_id
			where s.site_id = $1 and x.setting_id = $2`, site, id); err != nil {
			return err
		}
		if err := newlySet(ctx, tx, id); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `delete from encoder_setting where site_id = $1 and id = $2 returning name`, site, id).Scan(&name)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		return err
	})
	return name, devices, err
}

// ChooseSetting chooses a setting for views of a site, and answers it with their devices; with 0 none is chosen for any of
// their streams any more. ErrNotFound where the site has no such setting.
func (s *Store) ChooseSetting(ctx context.Context, site, setting int64, sources []int64) (e EncoderSetting, devices []int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if setting == 0 {
			if _, err := tx.Exec(ctx, `delete from source_setting where source_id in (select id from source
				where site_id = $1 and id = any($2))`, site, sources); err != nil {
				return err
			}
		} else {
			if e, err = queryOne[EncoderSetting](ctx, tx, `select id, name, want, 0 "for" from encoder_setting
				where site_id = $1 and id = $2`, site, setting); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `insert into source_setting (source_id, stream, setting_id) select id, $4, $2 from source
				where site_id = $1 and id = any($3)
				on conflict (source_id, stream) do update set setting_id = excluded.setting_id`, site, setting, sources, string(e.Want.Of)); err != nil {
				return err
			}
		}
		devices, err = ids(ctx, tx, `update device d set version = version + 1 where d.id in (select device_id from source
			where site_id = $1 and id = any($2)) returning d.id`, site, sources)
		return err
	})
	return e, devices, err
}

package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
)

// Scene is one reading of a site, or of some of its devices, in one round trip.
type Scene struct {
	Site    Site
	Devices []Device
	Facts   map[int64]Facts
	Tries   map[int64][]access.Try
	Proofs  map[int64]Proof // newest of each source
}

// Scene reads these devices of a site and all its recorders, or all of the site's
// where only is nil.
func (s *Store) Scene(ctx context.Context, site int64, only []int64) (Scene, error) {
	const some = `(select id from device where site_id = $1 and ($2::bigint[] is null or id = any($2) or kind = 'recorder'))`
	sc := Scene{Facts: map[int64]Facts{}, Tries: map[int64][]access.Try{}, Proofs: map[int64]Proof{}}
	b := &pgx.Batch{}
	b.Queue(`select id, name, zone, zone_posix, demo from site where id = $1`, site).Query(func(rows pgx.Rows) (err error) {
		sc.Site, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Site])
		if err == pgx.ErrNoRows {
			err = ErrNotFound
		}
		return err
	})
	b.Queue(`select `+deviceColumns+deviceFrom+`where d.id in `+some+` order by d.position, d.id`, site, only).Query(func(rows pgx.Rows) (err error) {
		sc.Devices, err = pgx.CollectRows(rows, pgx.RowToStructByName[Device])
		return err
	})
	b.Queue(`select device_id, name, value, via, read_at from fact where device_id in `+some, site, only).Query(func(rows pgx.Rows) error {
		var f Fact
		_, err := pgx.ForEachRow(rows, []any{&f.DeviceID, &f.Name, &f.Value, &f.Via, &f.ReadAt}, func() error {
			if sc.Facts[f.DeviceID] == nil {
				sc.Facts[f.DeviceID] = Facts{}
			}
			g := f
			g.Value = append([]byte(nil), f.Value...)
			sc.Facts[f.DeviceID][f.Name] = g
			return nil
		})
		return err
	})
	b.Queue(`select t.device_id, t.at, coalesce(t.set_id, 0) set_id, t.set_name as "set", t.scheme, t.outcome, t.detail from try t
		where t.device_id in `+some+` and t.at > now() - $3::interval order by t.at, t.id`, site, only, access.Period).Query(func(rows pgx.Rows) error {
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[TryOf])
		for _, t := range all {
			sc.Tries[t.DeviceID] = append(sc.Tries[t.DeviceID], t.Try)
		}
		return err
	})
	b.Queue(`select distinct on (p.source_id) p.id, p.source_id, p.test, p.started_at, p.ended_at from proof p join source s on s.id = p.source_id
		where s.device_id in `+some+` order by p.source_id, p.started_at desc, p.id desc`, site, only).Query(func(rows pgx.Rows) error {
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[Proof])
		for _, p := range all {
			sc.Proofs[p.SourceID] = p
		}
		return err
	})
	return sc, s.Pool.SendBatch(ctx, b).Close()
}

package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
)

// Scene is one reading of a site, or of some of its devices, in one round trip.
type Scene struct {
	Site    Site
	Devices []Device
	Facts   map[int64]Facts
	Tries   map[int64][]access.Try
	Proofs  map[int64]Proof // newest of each source
	Nets    []Network
	Leasts  []Least
	// Accepted findings by device and stage, then code.
	Accepted map[int64]map[stage.Stage]map[string]finding.Acceptance
	Sets     map[int64]access.Set // that open these devices, by number
}

// Scene reads these devices of a site and all its recorders, or all of the site's
// where only is nil. What it holds of other devices than Devices lists is of no
// account; its maps are shared and must not be written.
func (s *Store) Scene(ctx context.Context, site int64, only []int64) (Scene, error) {
	if only == nil {
		return s.scene(ctx, site, nil)
	}
	got, err := s.together.scenes.Call(ctx, sceneOf{site, only})
	if err != nil {
		return Scene{}, err
	}
	return got.Scene, got.err
}

// some are the scene's recorders and these of its devices.
func (sc Scene) some(only []int64) []Device {
	wanted := make(map[int64]bool, len(only))
	for _, id := range only {
		wanted[id] = true
	}
	var out []Device
	for _, d := range sc.Devices {
		if wanted[d.ID] || d.Kind == identity.Recorder {
			out = append(out, d)
		}
	}
	return out
}

func (s *Store) scene(ctx context.Context, site int64, only []int64) (Scene, error) {
	// Named devices and the recorders are looked up by number, whatever the planner thinks
	// of how many there are; the site is held by the query of devices.
	some := `any($2::bigint[] || array(select id from device where site_id = $1 and kind = 'recorder'))`
	if only == nil {
		some = `any(array(select id from device where site_id = $1 and $2::bigint[] is null))`
	}
	sc := Scene{Facts: map[int64]Facts{}, Tries: map[int64][]access.Try{}, Proofs: map[int64]Proof{},
		Accepted: map[int64]map[stage.Stage]map[string]finding.Acceptance{}, Sets: map[int64]access.Set{}}
	b := &pgx.Batch{}
	b.Queue(`select `+siteColumns+` from site s where s.id = $1`, site).Query(func(rows pgx.Rows) (err error) {
		sc.Site, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Site])
		if err == pgx.ErrNoRows {
			err = ErrNotFound
		}
		return err
	})
	b.Queue(`select `+deviceColumns+deviceFrom+`where d.site_id = $1 and d.id = `+some+` order by d.position, d.id`, site, only).Query(func(rows pgx.Rows) (err error) {
		sc.Devices, err = pgx.CollectRows(rows, pgx.RowToStructByName[Device])
		return err
	})
	b.Queue(`select device_id, name, value, via, read_at from fact where device_id = `+some, site, only).Query(func(rows pgx.Rows) error {
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
		where t.device_id = `+some+` and t.at > now() - $3::interval order by t.at, t.id`, site, only, access.Period).Query(func(rows pgx.Rows) error {
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[TryOf])
		for _, t := range all {
			sc.Tries[t.DeviceID] = append(sc.Tries[t.DeviceID], t.Try)
		}
		return err
	})
	b.Queue(`select distinct on (p.source_id) p.id, p.source_id, p.test, p.started_at, p.ended_at from proof p join source s on s.id = p.source_id
		where s.device_id = `+some+` order by p.source_id, p.started_at desc, p.id desc`, site, only).Query(func(rows pgx.Rows) error {
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[Proof])
		for _, p := range all {
			sc.Proofs[p.SourceID] = p
		}
		return err
	})
	b.Queue(`select id, name, prefix, bench, looked_at, look from network where site_id = $1 order by id`, site).Query(func(rows pgx.Rows) (err error) {
		sc.Nets, err = pgx.CollectRows(rows, pgx.RowToStructByName[Network])
		return err
	})
	b.Queue(`select make, model, least from firmware_least where site_id = $1`, site).Query(func(rows pgx.Rows) (err error) {
		sc.Leasts, err = pgx.CollectRows(rows, pgx.RowToStructByName[Least])
		return err
	})
	b.Queue(`select a.device_id, a.stage, a.code, coalesce(p.name, 'someone') who, a.at from acceptance a left join person p on p.id = a.person_id where a.device_id = `+some, site, only).Query(func(rows pgx.Rows) error {
		var device int64
		var st stage.Stage
		var code string
		var a finding.Acceptance
		_, err := pgx.ForEachRow(rows, []any{&device, &st, &code, &a.Who, &a.At}, func() error {
			if sc.Accepted[device] == nil {
				sc.Accepted[device] = map[stage.Stage]map[string]finding.Acceptance{}
			}
			if sc.Accepted[device][st] == nil {
				sc.Accepted[device][st] = map[string]finding.Acceptance{}
			}
			sc.Accepted[device][st][code] = a
			return nil
		})
		return err
	})
	b.Queue(`select `+setColumns+` from credential_set where id = any(array(select opened_set from device where id = `+some+` and opened_set is not null)) and device_id is not null
		union all select `+setColumns+` from credential_set where site_id = $1 and device_id is null`, site, only).Query(func(rows pgx.Rows) error {
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[SealedSet])
		for _, x := range all {
			sc.Sets[x.ID] = x.Set
		}
		return err
	})
	return sc, s.Pool.SendBatch(ctx, b).Close()
}

package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
)

// SiteReading is one reading of a site, or of some of its devices, in one round trip.
type SiteReading struct {
	Site     Site
	Devices  []Device
	Sources  []Source        // of these devices, in the list's order
	Facts    map[int64]Facts // by device, of the device itself
	OfView   map[int64]Facts // by source
	Tries    map[int64][]access.Try
	Proofs   map[int64]Proof   // newest of each source
	Walks    map[int64][]Proof // newest of each source's routes
	Nets     []Network
	Leasts   []identity.Least
	Accepted map[Target]map[stage.Stage]map[string]finding.Acceptance // by code
	Taken    map[int64]string                                         // by device: what else answers at the address where the list expects it
	Sets     map[int64]access.Set                                     // that open these devices, by number
	Plans    map[int64]RecordingPlan                                  // of the site, by number
	Settings map[int64][]stream.Setting                               // of encoders, by the source that they were chosen for
	Drawn    map[int64][]rule.Drawn                                   // rules, by the source that they were drawn for
}

// ReadSite reads these devices of a site and all its recorders and analysers, or all of the site's
// where only is nil. What it holds of other devices than Devices lists is of no
// account; its maps are shared and must not be written.
func (s *Store) ReadSite(ctx context.Context, site int64, only []int64) (SiteReading, error) {
	if only == nil {
		return s.readSite(ctx, site, nil)
	}
	got, err := s.coalesced.sites.Call(ctx, siteOf{site, only})
	if err != nil {
		return SiteReading{}, err
	}
	return got.SiteReading, got.err
}

// some are the site's recorders and analysers, and these of its devices, with their views.
func (sc SiteReading) some(only []int64) (devices []Device, sources []Source) {
	wanted := make(map[int64]bool, len(only))
	for _, id := range only {
		wanted[id] = true
	}
	for _, d := range sc.Devices {
		if wanted[d.ID] || d.Kind != identity.Camera {
			devices = append(devices, d)
		}
	}
	for _, v := range sc.Sources {
		if wanted[v.Device.ID] {
			sources = append(sources, v)
		}
	}
	return devices, sources
}

func (s *Store) readSite(ctx context.Context, site int64, only []int64) (SiteReading, error) {
	// Named devices, the recorders and the analysers are looked up by number, whatever the planner thinks
	// of how many there are; the site is held by the query of devices.
	some := `any($2::bigint[] || array(select id from device where site_id = $1 and kind <> 'camera'))`
	if only == nil {
		some = `any(array(select id from device where site_id = $1 and $2::bigint[] is null))`
	}
	sc := SiteReading{Facts: map[int64]Facts{}, OfView: map[int64]Facts{}, Tries: map[int64][]access.Try{}, Proofs: map[int64]Proof{}, Walks: map[int64][]Proof{},
		Accepted: map[Target]map[stage.Stage]map[string]finding.Acceptance{}, Sets: map[int64]access.Set{}, Taken: map[int64]string{}, Plans: map[int64]RecordingPlan{}, Settings: map[int64][]stream.Setting{}, Drawn: map[int64][]rule.Drawn{}}
	b := &pgx.Batch{}
	b.Queue(`select `+siteColumns+` from site s where s.id = $1`, site).Query(func(rows pgx.Rows) (err error) {
		sc.Site, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[Site])
		if err == pgx.ErrNoRows {
			err = ErrNotFound
		}
		return err
	})
	b.Queue(`select `+sourceColumns+` from device d left join source s on s.device_id = d.id where d.site_id = $1 and d.id = `+some+` order by d.position, d.id, s.nth`, site, only).Query(func(rows pgx.Rows) error {
		all, err := sourcesIn(rows)
		for _, v := range all {
			if n := len(sc.Devices); n == 0 || sc.Devices[n-1].ID != v.Device.ID {
				sc.Devices = append(sc.Devices, v.Device)
			}
			if v.ID != 0 {
				sc.Sources = append(sc.Sources, v)
			}
		}
		return err
	})
	b.Queue(`select device_id, view, name, value, via, read_at from fact where device_id = `+some, site,
		only).Query(func(rows pgx.Rows) error {
		var f Fact
		_, err := pgx.ForEachRow(rows, []any{&f.DeviceID, &f.View, &f.Name, &f.Value, &f.Via, &f.ReadAt}, func() error {
			g := f
			if f.View != 0 {
				put(sc.OfView, f.View, g)
			} else {
				put(sc.Facts, f.DeviceID, g)
			}
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
	b.Queue(`select distinct on (p.source_id, p.test->>'topic', p.test->>'input') p.id, p.source_id, p.test, p.started_at, p.ended_at from proof p join source s on s.id = p.source_id
		where s.device_id = `+some+` order by p.source_id, p.test->>'topic', p.test->>'input', p.started_at desc, p.id desc`, site, only).Query(func(rows pgx.Rows) error {
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[Proof])
		for _, p := range all {
			sc.Walks[p.SourceID] = append(sc.Walks[p.SourceID], p)
			if had, ok := sc.Proofs[p.SourceID]; !ok || p.StartedAt.After(had.StartedAt) || p.StartedAt.Equal(had.StartedAt) && p.ID > had.ID {
				sc.Proofs[p.SourceID] = p
			}
		}
		return err
	})
	b.Queue(`select `+networkColumns+` from network where site_id = $1 order by id`,
		site).Query(func(rows pgx.Rows) (err error) {
		sc.Nets, err = pgx.CollectRows(rows, pgx.RowToStructByName[Network])
		return err
	})
	// What another device answers at, or something that is neither camera nor recorder.
	// Few devices are somewhere else than wanted: they are picked out first, whatever the
	// planner takes the tables to hold.
	b.Queue(`with d as materialized (select id, site_id, expected_at from device d where d.id = `+some+` and expected_at is not null and address is distinct from expected_at)
		select d.id, o.place from d cross join lateral (select o.place from device o where o.site_id = d.site_id and o.address = d.expected_at and o.id <> d.id
			and exists (select 1 from fact f where f.device_id = o.id and f.name = '`+fact.Seen+`') offset 0) o
		union all select d.id, coalesce(nullif(x.o->>'title', ''), 'a device that is neither camera nor recorder') from d join network n on n.site_id = d.site_id and d.expected_at <<= n.prefix
			cross join lateral jsonb_array_elements(coalesce(n.look->'others', '[]')) x(o) where (x.o->>'address')::inet = d.expected_at`, site, only).Query(func(rows pgx.Rows) error {
		var device int64
		var what string
		_, err := pgx.ForEachRow(rows, []any{&device, &what}, func() error { sc.Taken[device] = what; return nil })
		return err
	})
	b.Queue(`select id, name, plan, 0 "for" from recording_plan where site_id = $1`, site).Query(func(rows pgx.Rows) error {
		all, err := pgx.CollectRows(rows, pgx.RowToStructByName[RecordingPlan])
		for _, p := range all {
			sc.Plans[p.ID] = p
		}
		return err
	})
	b.Queue(`select x.source_id, e.id, e.name, e.want from source_setting x join source s on s.id = x.source_id join encoder_setting e on e.id = x.setting_id
		where s.device_id = `+some+` and e.site_id = $1 order by x.source_id, x.stream`, site, only).Query(func(rows pgx.Rows) error {
		var of int64
		var e stream.Setting
		_, err := pgx.ForEachRow(rows, []any{&of, &e.ID, &e.Name, &e.Want}, func() error {
			sc.Settings[of] = append(sc.Settings[of], e)
			return nil
		})
		return err
	})
	b.Queue(`select r.source_id, r.id, r.off, r.was, r.rule from drawn_rule r join source s on s.id = r.source_id
		where s.device_id = `+some+` and s.site_id = $1 order by r.source_id, r.id`, site, only).Query(func(rows pgx.Rows) error {
		var of int64
		var d rule.Drawn
		_, err := pgx.ForEachRow(rows, []any{&of, &d.ID, &d.Off, &d.Was, &d.Rule}, func() error {
			sc.Drawn[of] = append(sc.Drawn[of], d)
			d.Rule = rule.Rule{}
			return nil
		})
		return err
	})
	b.Queue(`select make, model, least from firmware_least where site_id = $1`, site).Query(func(rows pgx.Rows) (err error) {
		sc.Leasts, err = pgx.CollectRows(rows, pgx.RowToStructByName[identity.Least])
		return err
	})
	b.Queue(`select a.device_id, a.view, a.stage, a.code, coalesce(p.name, 'someone') who, a.at from acceptance a left join person p on p.id = a.person_id where a.device_id = `+some, site, only).Query(func(rows pgx.Rows) error {
		var of Target
		var st stage.Stage
		var code string
		var a finding.Acceptance
		_, err := pgx.ForEachRow(rows, []any{&of.Device, &of.Source, &st, &code, &a.Who, &a.At}, func() error {
			if sc.Accepted[of] == nil {
				sc.Accepted[of] = map[stage.Stage]map[string]finding.Acceptance{}
			}
			if sc.Accepted[of][st] == nil {
				sc.Accepted[of][st] = map[string]finding.Acceptance{}
			}
			sc.Accepted[of][st][code] = a
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
	return sc, s.db.SendBatch(ctx, b).Close()
}

func put(all map[int64]Facts, of int64, f Fact) {
	if all[of] == nil {
		all[of] = Facts{}
	}
	all[of][f.Name] = f
}

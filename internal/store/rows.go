package store

import (
	"context"
	"net/netip"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
)

// SetNote keeps what a person notes of a device.
func (s *Store) SetNote(ctx context.Context, site, device int64, text string) error {
	tag, err := s.db.Exec(ctx, `update device set note = $3 where site_id = $1 and id = $2`, site, device, text)
	return orNone(tag.RowsAffected(), err)
}

// NoteOf is what a person noted of a device; nothing of one that is gone.
func (s *Store) NoteOf(ctx context.Context, device int64) (text string, err error) {
	err = s.db.QueryRow(ctx, `select coalesce((select note from device where id = $1), '')`, device).Scan(&text)
	return text, err
}

// Plan keeps which recorder of the site views are planned for; 0: none. A channel that was
// planned on another recorder is forgotten. It returns the devices that it touched, those
// whose plan is another now.
func (s *Store) Plan(ctx context.Context, site, recorder int64, sources []int64) (touched []int64, err error) {
	return touched, s.InTx(ctx, func(tx pgx.Tx) error {
		if recorder != 0 {
			var there bool
			if err := tx.QueryRow(ctx, `select exists (select 1 from device where site_id = $1 and id = $2 and kind = 'recorder' and cascade is null)`, site, recorder).Scan(&there); err != nil {
				return err
			}
			if !there {
				return ErrNotFound
			}
		}
		touched, err = ids(ctx, tx, `with p as (update source s set recorder_id = nullif($3::bigint, 0), channel = 0
				where s.site_id = $1 and s.id = any($2) and s.recorder_id is distinct from nullif($3::bigint, 0) returning s.device_id)
			update device d set version = version + 1 where d.id in (select device_id from p) returning d.id`, site, sources, recorder)
		return err
	})
}

// SetAccount keeps which set is a recorder's or an analyser's account; 0: none. What it refused may be sent again
// then: a person acted. ErrNotFound where either
// isn't of the site, or the device is a camera.
func (s *Store) SetAccount(ctx context.Context, site, recorder, set int64) error {
	tag, err := s.db.Exec(ctx, `update device set set_id = nullif($3::bigint, 0), refused = '{}', version = version + 1 where site_id = $1 and id = $2 and kind <> 'camera'
		and ($3 = 0 or exists (select 1 from credential_set c where c.id = $3 and c.site_id = $1))`, site, recorder, set)
	return orNone(tag.RowsAffected(), err)
}

// Rename gives a device that has no rows of its own, a recorder, another place.
func (s *Store) Rename(ctx context.Context, site, device int64, place string) error {
	tag, err := s.db.Exec(ctx, `update device set place = $3, version = version + 1 where site_id = $1 and id = $2 and kind <> 'camera'`, site, device, place)
	return orNone(tag.RowsAffected(), err)
}

// Goes counts what goes with a device that is removed.
type Goes struct {
	Views, Readings, Changes, Proofs int
	Planned                          int // views that are planned for a recorder, and stay
}

// GoesWith counts what goes with some devices of a site.
func (s *Store) GoesWith(ctx context.Context, site int64, devices []int64) (Goes, error) {
	return queryOne[Goes](ctx, s.db, `with d as (select id from device where site_id = $1 and id = any($2))
		select (select count(*) from source where device_id in (select id from d)) views,
			(select count(*) from fact where device_id in (select id from d)) + (select count(*) from fact_history where device_id in (select id from d)) readings,
			(select count(*) from change where device_id in (select id from d)) changes,
			(select count(*) from proof p join source s on s.id = p.source_id where s.device_id in (select id from d)) proofs,
			(select count(*) from source where recorder_id in (select id from d)) planned`, site, devices)
}

// Remove takes devices off a site with all that was read of them. Nothing is written to
// them. ErrBusy while a change of one of them is being made.
func (s *Store) Remove(ctx context.Context, site int64, devices []int64) (removed int, err error) {
	return removed, s.InTx(ctx, func(tx pgx.Tx) error {
		var open bool
		if err := tx.QueryRow(ctx, `select exists (select 1 from change where site_id = $1 and device_id = any($2) and state in ('asked', 'sent', 'undoing'))`, site, devices).Scan(&open); err != nil {
			return err
		}
		if open {
			return ErrBusy
		}
		tag, err := tx.Exec(ctx, `delete from device where site_id = $1 and id = any($2)`, site, devices)
		if err != nil {
			return err
		}
		removed = int(tag.RowsAffected())
		_, err = tx.Exec(ctx, endIdle, site)
		return err
	})
}

// RecorderName is a recorder by its name.
type RecorderName struct {
	ID    int64
	Place string
}

// PlannedFor counts the views of a site that are planned for a recorder.
func (s *Store) PlannedFor(ctx context.Context, site, recorder int64) (n int, err error) {
	err = s.db.QueryRow(ctx, `select count(*) from source where site_id = $1 and recorder_id = $2`, site, recorder).Scan(&n)
	return n, err
}

// RecorderNames lists a site's recorders that take cameras, by name.
func (s *Store) RecorderNames(ctx context.Context, site int64) ([]RecorderName, error) {
	return queryAll[RecorderName](ctx, s.db, `select id, place from device where site_id = $1 and kind = 'recorder' and cascade is null order by position, id`, site)
}

// RecorderRow is a recorder, or an analyser, in the list of a site's.
type RecorderRow struct {
	ID          int64
	Place       string
	Make, Model string
	Address     *netip.Addr
	SetID       int64 // its account; 0: none
	Set         string
	Note        string
	Heard       bool // it answered a look
	Planned     int  // views that are planned for it, or that it looks at
}

// Recorders lists a site's recorders with what was heard of them.
func (s *Store) Recorders(ctx context.Context, site int64) ([]RecorderRow, error) {
	return s.Owned(ctx, site, identity.Recorder)
}

// Owned lists a site's recorders, or its analysers, with what was heard of them.
func (s *Store) Owned(ctx context.Context, site int64, kind identity.Kind) ([]RecorderRow, error) {
	return queryAll[RecorderRow](ctx, s.db, `select d.id, d.place, d.make, d.model, d.address, coalesce(d.set_id, 0) set_id, coalesce(c.name, '') "set", d.note,
			`+has(fact.Seen, "")+` heard, (select count(*) from source s where s.recorder_id = d.id or s.analyser_id = d.id) planned
		from device d left join credential_set c on c.id = d.set_id where d.site_id = $1 and d.kind = $2 order by d.position, d.id`, site, kind)
}

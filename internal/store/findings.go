package store

import (
	"context"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
)

// Accept keeps a person's word that a finding of a source stands and is lived with; in a
// stage that is the device's, of the device.
func (s *Store) Accept(ctx context.Context, of Source, st stage.Stage, code string, person int64) error {
	_, err := s.db.Exec(ctx, `insert into acceptance (device_id, source_id, stage, code, person_id) values ($1, nullif($2::bigint, 0), $3, $4, nullif($5::bigint, 0))
		on conflict (device_id, stage, code, view) do update set person_id = excluded.person_id, at = now()`, of.Device.ID, viewOf(of, st), st, code, person)
	if err != nil {
		return err
	}
	return s.grown(ctx, of.Device.ID)
}

// Unaccept takes that word back; ErrNotFound where nobody gave it.
func (s *Store) Unaccept(ctx context.Context, of Source, st stage.Stage, code string) error {
	gone, err := s.db.Exec(ctx, `delete from acceptance where (device_id, view, stage, code) = ($1, $2, $3, $4)`, of.Device.ID, viewOf(of, st), st, code)
	if err == nil && gone.RowsAffected() == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return err
	}
	return s.grown(ctx, of.Device.ID)
}

// viewOf is the view that what a stage says of a source is kept of; 0 where it is the
// device's.
func viewOf(of Source, st stage.Stage) int64 {
	if st.OfDevice() {
		return 0
	}
	return of.ID
}

// grown makes a device's marks rest on something newer than before.
func (s *Store) grown(ctx context.Context, device int64) error {
	_, err := s.db.Exec(ctx, `update device set version = version + 1 where id = $1`, device)
	return err
}

// AllowBasic keeps what of a device may be given its password in clear; nil: nothing.
func (s *Store) AllowBasic(ctx context.Context, device int64, what *identity.Word) error {
	_, err := s.db.Exec(ctx, `update device set basic_for = $2, version = version + 1 where id = $1`, device, what)
	return err
}

// SetOurs keeps a person's word that what answers for devices is of this site.
func (s *Store) SetOurs(ctx context.Context, site int64, words map[int64]identity.Word) error {
	b := &pgx.Batch{}
	for device, w := range words {
		b.Queue(`update device set ours = $3, version = version + 1 where site_id = $1 and id = $2`, site, device, w)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// List puts devices that nobody expected on the list, at the places where they were found,
// with a person's word for each.
func (s *Store) List(ctx context.Context, site int64, words map[int64]identity.Word) error {
	b := &pgx.Batch{}
	for device, w := range words {
		b.Queue(`update device set expected = true, expected_at = coalesce(expected_at, address), ours = $3, version = version + 1 where site_id = $1 and id = $2 and kind = 'camera'`, site, device, w)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// TakenAddress is a device that a person says has moved, with what answers for it there.
type TakenAddress struct {
	Device    int64
	Seen      identity.Sighting
	Newcomer  int64 // the row that what answers there had of its own; 0: none
	LookFacts []NewFact
}

// TakeAddresses moves devices to where a person says that they are now, all or none: what was
// read of them stays, and the rows that what answers there had are gone.
func (s *Store) TakeAddresses(ctx context.Context, site int64, all []TakenAddress) error {
	err := s.InTx(ctx, func(tx pgx.Tx) error {
		b := &pgx.Batch{}
		for _, m := range all {
			if m.Newcomer != 0 {
				b.Queue(`delete from device where site_id = $1 and id = $2 and kind = 'camera' and not expected`, site, m.Newcomer)
			}
			b.Queue(`update device set address = $3, uuid = case when $4 <> '' then $4 else uuid end, ours = $5, tries = tries + 1, version = version + 1 where site_id = $1 and id = $2`,
				site, m.Device, m.Seen.Address, identity.CleanUUID(m.Seen.UUID), identity.WordOn(m.Seen))
		}
		b.Queue(endIdle, site)
		return tx.SendBatch(ctx, b).Close()
	})
	if err != nil {
		return err
	}
	var facts []NewFact
	for _, m := range all {
		facts = append(facts, m.LookFacts...)
	}
	return s.KeepFacts(ctx, facts...)
}

// ExpectAt corrects where the list expects a device.
func (s *Store) ExpectAt(ctx context.Context, device int64, at netip.Addr) error {
	_, err := s.db.Exec(ctx, `update device set expected_at = $2, expected = true, version = version + 1 where id = $1`, device, at)
	return err
}

// Moved keeps where a device is reached from now on.
func (s *Store) Moved(ctx context.Context, device int64, at netip.Addr) error {
	_, err := s.db.Exec(ctx, `update device set address = $2, version = version + 1 where id = $1`, device, at)
	return err
}

// Replace gives a place on the list to the device that answers now: who it is comes
// from seen, what was read of the one before is history, and the row of the device that
// took it, where it had one, is gone.
func (s *Store) Replace(ctx context.Context, place, newcomer int64, seen identity.Sighting) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		var site int64
		if err := tx.QueryRow(ctx, `select site_id from device where id = $1`, place).Scan(&site); err != nil {
			return err
		}
		b := &pgx.Batch{}
		b.Queue(`delete from fact where device_id = $1`, place) // of the device and of its views
		b.Queue(`update device set uuid = $2, mac = $3, serial = $4, make = case when $5 <> '' then $5 else make end, model = case when $6 <> '' then $6 else model end, address = $7,
			opened_set = null, allow_basic = false, basic_for = null, refused = '{}', ours = $8, views = 0, tries = tries + 1, version = version + 1 where id = $1`, place,
			identity.CleanUUID(seen.UUID), identity.CleanMAC(seen.MAC), identity.CleanSerial(seen.Serial), seen.Make, seen.Model, seen.Address, identity.WordOn(seen))
		b.Queue(`delete from acceptance where device_id = $1`, place)
		if newcomer != 0 {
			b.Queue(`insert into fact (device_id, name, value, via, read_at) select $1, name, value, via, read_at from fact where device_id = $2 and view = 0`, place, newcomer)
			b.Queue(`update try set device_id = $1 where device_id = $2`, place, newcomer)
			b.Queue(`update credential_set set device_id = $1 where device_id = $2`, place, newcomer)
			b.Queue(`update device p set opened_set = n.opened_set, refused = n.refused from device n where p.id = $1 and n.id = $2`, place, newcomer)
			b.Queue(`delete from device where id = $1`, newcomer)
			b.Queue(endIdle, site)
		}
		return tx.SendBatch(ctx, b).Close()
	})
}

// LeaveOut removes a device that isn't expected.
func (s *Store) LeaveOut(ctx context.Context, site, device int64) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `delete from device where id = $1 and site_id = $2 and kind = 'camera' and not expected`, device, site)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, endIdle, site)
		return err
	})
}

// Notice is what changed on the networks from one look to the next.
type Notice struct {
	Device int64
	At     time.Time
	Kind   string // "appeared", "vanished", "moved", "firmware", "replaced", "lost"
	Place  string
	Says   string
}

// Note keeps what happened.
func (s *Store) Note(ctx context.Context, site int64, all ...Notice) error {
	if len(all) == 0 {
		return nil
	}
	b := &pgx.Batch{}
	for _, h := range all {
		b.Queue(`insert into happening (site_id, device_id, kind, place, says) values ($1, nullif($2::bigint, 0), $3, $4, $5)`, site, h.Device, h.Kind, h.Place, h.Says)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// NoteOnce keeps what happened, unless the same was kept of that device since a moment: what
// is read again after a crash isn't told twice.
func (s *Store) NoteOnce(ctx context.Context, site int64, since time.Time, h Notice) error {
	_, err := s.db.Exec(ctx, `insert into happening (site_id, device_id, kind, place, says) select $1, $2, $3, $4, $5
		where not exists (select 1 from happening where site_id = $1 and device_id = $2 and kind = $3 and at >= $6)`,
		site, h.Device, h.Kind, h.Place, h.Says, since)
	return err
}

// Notices lists what happened at a site since a moment, newest first, at most limit.
func (s *Store) Notices(ctx context.Context, site int64, since time.Time, limit int) ([]Notice, error) {
	return queryAll[Notice](ctx, s.db, `select coalesce(device_id, 0) device, at, kind, place, says from happening where site_id = $1 and at > $2 order by at desc, id desc limit $3`, site, since, limit)
}

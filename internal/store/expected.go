package store

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/core/fact"
)

// Upload is a list that a person gave and hasn't taken yet.
type Upload struct {
	Name  string
	Lines expected.Table
	At    time.Time
}

// KeepUpload keeps a person's list of a site in the place of the one before.
func (s *Store) KeepUpload(ctx context.Context, site, person int64, name string, t expected.Table) error {
	_, err := s.db.Exec(ctx, `insert into upload (site_id, person_id, name, lines) values ($1, $2, $3, $4)
		on conflict (site_id, person_id) do update set name = excluded.name, lines = excluded.lines, at = now()`, site, person, name, t)
	return err
}

// Upload finds a person's list of a site; ErrNotFound where there is none of the last hour.
func (s *Store) Upload(ctx context.Context, site, person int64) (Upload, error) {
	return queryOne[Upload](ctx, s.db, `select name, lines, at from upload where site_id = $1 and person_id = $2 and at > now() - interval '1 hour'`, site, person)
}

// DropUpload forgets a person's list, and with it those that nobody took in an hour.
func (s *Store) DropUpload(ctx context.Context, site, person int64) error {
	_, err := s.db.Exec(ctx, `delete from upload where site_id = $1 and person_id = $2 or at < now() - interval '1 hour'`, site, person)
	return err
}

// Expect writes the rows of a list beside what the site knows, see expected.Match: a row that
// is about a known view changes what is expected of it; one that names an input of a device
// that has no row yet is a further view of that device, and any other is a new camera. A
// camera that was found stays where it was reached. It returns how many were new and how
// many known, and all devices that were touched.
func (s *Store) Expect(ctx context.Context, site int64, rows []expected.Row, recorders map[string]int64) (added,
	changed int, touched []int64, err error) {
	about, byID, err := s.about(ctx, site, rows)
	if err != nil {
		return 0, 0, nil, err
	}
	b := &pgx.Batch{}
	var fresh []NewDevice
	deviceOf := map[int]int{} // by row that is about a new device: its place in fresh
	var further []int         // rows that are a further view of a device
	for i, r := range rows {
		var at *netip.Addr
		if r.Address.IsValid() {
			at = &r.Address
		}
		var recorder *int64
		if id, ok := recorders[r.Recorder]; ok {
			recorder = &id
		}
		id := about[i].View
		if id == 0 && (about[i].Device != 0 || about[i].With >= 0) {
			further = append(further, i)
			continue
		}
		if id == 0 {
			deviceOf[i] = len(fresh)
			fresh = append(fresh, NewDevice{Device{SiteID: site, Kind: "camera", Place: r.Place, Make: r.Make,
				Model: r.Model, Address: at, ExpectedAt: at, Expected: true, MAC: r.MAC}, recorder, r.Channel, r.Input})
			continue
		}
		v := byID[id]
		touched = append(touched, v.Device.ID)
		b.Queue(`update source set name = $2, recorder_id = coalesce($3, recorder_id), channel = case when $4 > 0 then $4 else channel end, input = case when $5 > 0 then $5 else input end where id = $1`, id, r.Place, recorder, r.Channel, r.Input)
		if !v.First() { // the device is told by the row of its first view
			b.Queue(`update device set version = version + 1 where id = $1`, v.Device.ID)
			continue
		}
		b.Queue(`update device d set place = $2, make = case when $3 <> '' then $3 else make end, model = case when $4 <> '' then $4 else model end, expected = true, expected_at = coalesce($5, expected_at),
			address = case when `+has(fact.Seen, "")+` then address else coalesce($5, address) end,
			mac = case when mac = '' then $6 else mac end, version = version + 1 where id = $1`,
			v.Device.ID, r.Place, r.Make, r.Model, at, r.MAC)
	}
	if err := s.db.SendBatch(ctx, b).Close(); err != nil {
		return 0, 0, nil, err
	}
	ids, err := s.AddDevices(ctx, site, fresh)
	if err != nil {
		return 0, 0, nil, err
	}
	touched = append(touched, ids...)
	b = &pgx.Batch{}
	for _, i := range further {
		device := about[i].Device
		if device == 0 {
			device = ids[deviceOf[about[i].With]]
		}
		touched = append(touched, device)
		r := rows[i]
		var recorder *int64
		if id, ok := recorders[r.Recorder]; ok {
			recorder = &id
		}
		b.Queue(`insert into source (device_id, site_id, nth, name, recorder_id, channel, input)
			select $1, $2, (select max(nth) + 1 from source where device_id = $1), $3, $4, $5, $6`, device, site, r.Place, recorder, r.Channel, r.Input)
		b.Queue(`update device set version = version + 1 where id = $1`, device)
	}
	if err := s.db.SendBatch(ctx, b).Close(); err != nil {
		return 0, 0, nil, err
	}
	added = len(fresh) + len(further)
	return added, len(rows) - added, touched, s.ShowListed(ctx, touched)
}

// about says of each row of a list what it is about, with all views of the site by number.
func (s *Store) about(ctx context.Context, site int64, rows []expected.Row) (about []expected.About, byID map[int64]Source, err error) {
	all, err := querySources(ctx, s.db, `where d.site_id = $1 order by d.position, d.id, s.nth`, site)
	if err != nil {
		return nil, nil, err
	}
	var known []expected.Camera
	byID = make(map[int64]Source, len(all))
	for _, v := range all {
		d := v.Device
		byID[v.ID] = v
		c := expected.Camera{ID: v.ID, Device: d.ID, Place: v.Place, MAC: d.MAC, Input: v.Input}
		for _, a := range []*netip.Addr{d.Address, d.ExpectedAt} {
			if a != nil {
				c.Address = append(c.Address, *a)
			}
		}
		known = append(known, c)
	}
	return expected.Match(rows, known), byID, nil
}

// Entry is the view as a row of the expected list. recorders has their names by number.
func (s Source) Entry(recorders map[int64]string) expected.Entry {
	d := s.Device
	e := expected.Entry{ID: s.ID, Device: d.ID, First: s.First(), Expected: d.Expected,
		Row: expected.Row{Place: s.Place, MAC: d.MAC, Make: d.Make, Model: d.Model, Channel: s.Channel, Input: s.Input}}
	if d.ExpectedAt != nil {
		e.Address = *d.ExpectedAt
	}
	if s.RecorderID != nil {
		e.Recorder = recorders[*s.RecorderID]
	}
	return e
}

// Compare says what taking a list would mean, row by row, and how many cameras that are
// expected it doesn't name. recorders has their names by number.
func (s *Store) Compare(ctx context.Context, site int64, rows []expected.Row, recorders map[int64]string) (lines []expected.Taking, gone []string, err error) {
	about, byID, err := s.about(ctx, site, rows)
	if err != nil {
		return nil, nil, err
	}
	was := map[int64]expected.Entry{}
	for id, v := range byID {
		was[id] = v.Entry(recorders)
	}
	lines, missing := expected.Compare(rows, about, was)
	for _, id := range missing {
		if byID[id].Device.Expected {
			gone = append(gone, byID[id].Place)
		}
	}
	return lines, gone, nil
}

// SetExpected writes a row of the list as a person edited it, empty cells too: what is expected
// of the device is told by the row of its first view. What a device said of itself, and where
// it was reached, stays. recorder 0: none. ErrNotFound where the site has no such row.
func (s *Store) SetExpected(ctx context.Context, site, source int64, r expected.Row, recorder int64) error {
	var at *netip.Addr
	if r.Address.IsValid() {
		at = &r.Address
	}
	var device int64
	err := s.InTx(ctx, func(tx pgx.Tx) error {
		var first bool
		err := tx.QueryRow(ctx, `update source set name = $3, recorder_id = nullif($4::bigint, 0), channel = $5, input = $6 where id = $2 and site_id = $1 returning device_id, nth = 1`,
			site, source, r.Place, recorder, r.Channel, r.Input).Scan(&device, &first)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		if !first {
			_, err = tx.Exec(ctx, `update device set version = version + 1 where id = $1`, device)
			return err
		}
		_, err = tx.Exec(ctx, `update device d set place = $2, make = $3, model = $4, expected_at = $5, address = case when `+has(fact.Seen, "")+` then address else $5 end,
			mac = case when uuid = '' and serial = '' then $6 else mac end, version = version + 1 where id = $1`, device, r.Place, r.Make, r.Model, at, r.MAC)
		return err
	})
	if err != nil {
		return err
	}
	return s.ShowListed(ctx, []int64{device})
}

// Unlist takes a camera off the list: one that was never found goes whole, one that was found
// stays as one that nobody expects, and gets no account then. ErrBusy while a change of it is
// being made.
func (s *Store) Unlist(ctx context.Context, site, device int64) (stays bool, err error) {
	err = s.db.QueryRow(ctx, `update device d set expected = false, expected_at = null, ours = null, version = version + 1
		where site_id = $1 and id = $2 and kind = 'camera' and expected and exists (select 1 from fact f where f.device_id = d.id and f.name = $3) returning true`,
		site, device, fact.Seen).Scan(&stays)
	if !errors.Is(err, pgx.ErrNoRows) {
		return stays, err
	}
	n, err := s.Remove(ctx, site, []int64{device})
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return false, err
}

// Expected lists what the site expects, in the list's order.
func (s *Store) Expected(ctx context.Context, site int64) ([]expected.Row, error) {
	type row struct {
		Place, MAC, Make, Model, Recorder string
		ExpectedAt                        *netip.Addr
		Channel, Input                    int
		ID                                int64
	}
	all, err := queryAll[row](ctx, s.db, `select s.id, s.name place, d.mac, d.make, d.model, coalesce(r.place, '') recorder, d.expected_at, s.channel, s.input`+sourceFrom+`left join device r on r.id = s.recorder_id
		where d.site_id = $1 and d.kind = 'camera' and d.expected order by d.position, d.id, s.nth`, site)
	if err != nil {
		return nil, err
	}
	out := make([]expected.Row, len(all))
	for i, r := range all {
		out[i] = expected.Row{Line: i + 2, Place: r.Place, MAC: r.MAC, Make: r.Make, Model: r.Model,
			Recorder: r.Recorder, Channel: r.Channel, Input: r.Input, Source: r.ID}
		if r.ExpectedAt != nil {
			out[i].Address = *r.ExpectedAt
		}
	}
	return out, nil
}

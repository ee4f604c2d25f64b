package store

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// Device is a camera or recorder of a site.
type Device struct {
	ID         int64
	SiteID     int64
	Kind       identity.Kind
	Place      string
	Make       string
	Model      string
	Address    *netip.Addr
	ExpectedAt *netip.Addr
	Expected   bool
	UUID       string
	MAC        string
	Serial     string
	RecorderID *int64
	Channel    int
	SetID      *int64
	Version    int64
	SourceID   int64 // its first source; 0 for recorders
}

// Known is the device as identity reconciles it.
func (d Device) Known() identity.Known {
	k := identity.Known{ID: d.ID, Place: d.Place, UUID: d.UUID, MAC: d.MAC, Serial: d.Serial, Make: d.Make, Model: d.Model, Kind: d.Kind, Expected: d.Expected}
	switch {
	case d.Address != nil:
		k.Address = *d.Address
	case d.ExpectedAt != nil:
		k.Address = *d.ExpectedAt
	}
	return k
}

const deviceColumns = `d.id, d.site_id, d.kind, d.place, d.make, d.model, d.address, d.expected_at, d.expected, d.uuid, d.mac, d.serial, d.recorder_id, d.channel, d.set_id, d.version, coalesce(s.id, 0) source_id`

// Devices lists a site's devices, cameras in the list's order.
func (s *Store) Devices(ctx context.Context, site int64) ([]Device, error) {
	return many[Device](ctx, s.Pool, `select `+deviceColumns+` from device d left join source s on s.device_id = d.id and s.token = ''
		where d.site_id = $1 order by d.position, d.id`, site)
}

// Device finds one device.
func (s *Store) Device(ctx context.Context, id int64) (Device, error) {
	return one[Device](ctx, s.Pool, `select `+deviceColumns+` from device d left join source s on s.device_id = d.id and s.token = '' where d.id = $1`, id)
}

// AddDevice adds a device; a camera gets its first source.
func (s *Store) AddDevice(ctx context.Context, d Device) (int64, error) {
	var id int64
	err := s.InTx(ctx, func(tx pgx.Tx) error {
		var err error
		id, err = addDevice(ctx, tx, d)
		return err
	})
	return id, err
}

func addDevice(ctx context.Context, tx pgx.Tx, d Device) (int64, error) {
	var id int64
	err := tx.QueryRow(ctx, `insert into device (site_id, kind, place, make, model, address, expected_at, expected, uuid, mac, serial, recorder_id, channel, set_id, position)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, (select coalesce(max(position), 0) + 1 from device where site_id = $1)) returning id`,
		d.SiteID, d.Kind, d.Place, d.Make, d.Model, d.Address, d.ExpectedAt, d.Expected, d.UUID, d.MAC, d.Serial, d.RecorderID, d.Channel, d.SetID).Scan(&id)
	if err != nil || d.Kind != identity.Camera {
		return id, err
	}
	_, err = tx.Exec(ctx, `insert into source (device_id, name) values ($1, $2)`, id, d.Place)
	return id, err
}

// Identify writes what a device says of itself where it was not known, and where it
// was reached.
func (s *Store) Identify(ctx context.Context, id int64, v identity.Sighting) error {
	_, err := s.Pool.Exec(ctx, `update device set
		uuid = case when $2 <> '' then $2 else uuid end, mac = case when $3 <> '' then $3 else mac end,
		serial = case when $4 <> '' then $4 else serial end, make = case when make = '' then $5 else make end,
		model = case when model = '' then $6 else model end, address = coalesce($7, address) where id = $1`,
		id, v.UUID, v.MAC, v.Serial, v.Make, v.Model, v.Address)
	return err
}

// Fact is one fact of a device as read: its value in JSON, when, and by which call.
type Fact struct {
	DeviceID int64
	Name     string
	Value    json.RawMessage
	Via      string
	ReadAt   time.Time
}

// Facts is a device's current facts by name.
type Facts map[string]Fact

// Into decodes a fact; false when it isn't there.
func (f Facts) Into(name string, v any) (bool, error) {
	x, ok := f[name]
	if !ok {
		return false, nil
	}
	if err := json.Unmarshal(x.Value, v); err != nil {
		return false, fmt.Errorf("store: fact %s of device %d: %w", name, x.DeviceID, err)
	}
	return true, nil
}

// KeepFact writes a fact: the current row always, a row of history when the value
// changed. The device's version grows with it.
func (s *Store) KeepFact(ctx context.Context, device int64, name, via string, at time.Time, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return s.InTx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `with old as (select value from fact where device_id = $1 and name = $2),
			cur as (insert into fact (device_id, name, value, via, read_at) values ($1, $2, $3, $4, $5)
				on conflict (device_id, name) do update set value = excluded.value, via = excluded.via, read_at = excluded.read_at),
			ver as (update device set version = version + 1 where id = $1)
			insert into fact_history (device_id, name, value, via, read_at)
			select $1, $2, $3, $4, $5 where not exists (select 1 from old where value = $3::jsonb)`, device, name, raw, via, at)
		return err
	})
}

// DropFact forgets a current fact; its history stays.
func (s *Store) DropFact(ctx context.Context, device int64, name string) error {
	_, err := s.Pool.Exec(ctx, `delete from fact where device_id = $1 and name = $2`, device, name)
	return err
}

// FactsOf reads the current facts of devices, in one query.
func (s *Store) FactsOf(ctx context.Context, devices []int64) (map[int64]Facts, error) {
	rows, err := many[Fact](ctx, s.Pool, `select device_id, name, value, via, read_at from fact where device_id = any($1)`, devices)
	if err != nil {
		return nil, err
	}
	out := map[int64]Facts{}
	for _, id := range devices {
		out[id] = Facts{}
	}
	for _, r := range rows {
		out[r.DeviceID][r.Name] = r
	}
	return out, nil
}

// History reads how a fact changed, newest first, at most limit rows.
func (s *Store) History(ctx context.Context, device int64, name string, limit int) ([]Fact, error) {
	return many[Fact](ctx, s.Pool, `select device_id, name, value, via, read_at from fact_history where device_id = $1 and name = $2 order by read_at desc limit $3`, device, name, limit)
}

// BeginTry writes a try down before it is sent; ok is false when the budget that
// allowed counts forbids it now. It holds over all processes: the device's row is
// locked while it counts.
func (s *Store) BeginTry(ctx context.Context, device, set int64, setName string, scheme access.Scheme, allowed func([]access.Try) bool) (id int64, ok bool, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select 1 from device where id = $1 for update`, device); err != nil {
			return err
		}
		tries, err := triesOf(ctx, tx, device)
		if err != nil {
			return err
		}
		if ok = allowed(tries); !ok {
			return nil
		}
		return tx.QueryRow(ctx, `insert into try (device_id, set_id, set_name, scheme) values ($1, $2, $3, $4) returning id`, device, set, setName, scheme).Scan(&id)
	})
	return id, ok, err
}

// EndTry writes a try's outcome.
func (s *Store) EndTry(ctx context.Context, id int64, outcome access.Outcome, detail string) error {
	_, err := s.Pool.Exec(ctx, `update try set outcome = $2, detail = $3 where id = $1`, id, outcome, detail)
	return err
}

// Tries of a device within the budget's period, oldest first.
func (s *Store) Tries(ctx context.Context, device int64) ([]access.Try, error) {
	return triesOf(ctx, s.Pool, device)
}

func triesOf(ctx context.Context, q querier, device int64) ([]access.Try, error) {
	return many[access.Try](ctx, q, `select at, coalesce(set_id, 0) set_id, set_name as "set", scheme, outcome, detail from try
		where device_id = $1 and at > now() - $2::interval order by at, id`, device, access.Period)
}

// TryOf is a try with its device, for tables of many devices.
type TryOf struct {
	DeviceID int64
	access.Try
}

// TriesAt lists the tries of a whole site within the budget's period.
func (s *Store) TriesAt(ctx context.Context, site int64) (map[int64][]access.Try, error) {
	rows, err := many[TryOf](ctx, s.Pool, `select t.device_id, t.at, coalesce(t.set_id, 0) set_id, t.set_name as "set", t.scheme, t.outcome, t.detail
		from try t join device d on d.id = t.device_id where d.site_id = $1 and t.at > now() - $2::interval order by t.at, t.id`, site, access.Period)
	if err != nil {
		return nil, err
	}
	out := map[int64][]access.Try{}
	for _, r := range rows {
		out[r.DeviceID] = append(out[r.DeviceID], r.Try)
	}
	return out, nil
}

// Lease takes or renews a device for holder until ttl is over; ok is false while
// another holds it. The fence grows with every taking.
func (s *Store) Lease(ctx context.Context, device int64, holder string, ttl time.Duration) (fence int64, ok bool, err error) {
	err = s.Pool.QueryRow(ctx, `insert into lease (device_id, holder, fence, until) values ($1, $2, 1, now() + $3::interval)
		on conflict (device_id) do update set holder = excluded.holder, until = excluded.until, fence = lease.fence + 1
		where lease.until < now() or lease.holder = excluded.holder returning fence`, device, holder, ttl).Scan(&fence)
	if err == pgx.ErrNoRows {
		return 0, false, nil
	}
	return fence, err == nil, err
}

// Release gives a lease back.
func (s *Store) Release(ctx context.Context, device int64, holder string) error {
	_, err := s.Pool.Exec(ctx, `delete from lease where device_id = $1 and holder = $2`, device, holder)
	return err
}

// KeepLook writes what a look at a network heard.
func (s *Store) KeepLook(ctx context.Context, network int64, at time.Time, l Look) error {
	_, err := s.Pool.Exec(ctx, `update network set looked_at = $2, look = $3 where id = $1`, network, at, l)
	return err
}

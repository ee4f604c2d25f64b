package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

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

// NewFact is a fact to be kept.
type NewFact struct {
	Device int64
	Name   string
	Via    string // the call that read it
	At     time.Time
	Value  any
}

// KeepFact writes a fact: the current row always, a row of history when the value
// changed (when it was read, "at", aside). The device's version grows with it.
func (s *Store) KeepFact(ctx context.Context, device int64, name, via string, at time.Time, value any) error {
	return s.KeepFacts(ctx, NewFact{device, name, via, at, value})
}

// KeepFacts writes many facts in one statement, as KeepFact does. A fact that was
// read before the one that is kept is dropped: whoever read it was overtaken.
func (s *Store) KeepFacts(ctx context.Context, all ...NewFact) error {
	n := len(all)
	if n == 0 {
		return nil
	}
	devices, names, vias, ats, values := make([]int64, n), make([]string, n), make([]string, n), make([]time.Time, n), make([]string, n)
	for i, f := range all {
		raw, err := json.Marshal(f.Value)
		if err != nil {
			return err
		}
		devices[i], names[i], vias[i], ats[i], values[i] = f.Device, f.Name, f.Via, f.At, string(raw)
	}
	return s.lazily(ctx, `with new as (select * from unnest($1::bigint[], $2::text[], $3::text[], $4::timestamptz[], $5::jsonb[]) n(device_id, name, via, read_at, value)),
		old as (select f.device_id, f.name, f.value from fact f join new using (device_id, name)),
		cur as (insert into fact (device_id, name, value, via, read_at) select device_id, name, value, via, read_at from new order by device_id, name
			on conflict (device_id, name) do update set value = excluded.value, via = excluded.via, read_at = excluded.read_at where fact.read_at <= excluded.read_at returning device_id, name),
		ver as (update device d set version = version + c.n from (select device_id, count(*) n from cur group by 1) c where d.id = c.device_id)
		insert into fact_history (device_id, name, value, via, read_at) select n.device_id, n.name, n.value, n.via, n.read_at from new n join cur using (device_id, name)
		left join old using (device_id, name) where old.value is null or bare_value(old.value) <> bare_value(n.value)`, devices, names, vias, ats, values)
}

// DropFact forgets a current fact of devices; its history stays.
func (s *Store) DropFact(ctx context.Context, name string, devices ...int64) error {
	_, err := s.Pool.Exec(ctx, `delete from fact where device_id = any($1) and name = $2`, devices, name)
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

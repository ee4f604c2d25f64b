package store

import (
	"context"
	"encoding/json"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
)

// lockDevices takes the rows of many devices in one order, so that no two rounds wait
// for each other.
const lockDevices = `select 1 from device where id = any($1) order by id for no key update`

// Writes is what one step learned of a device, kept whole or not at all.
type Writes struct {
	Facts  []NewFact
	Drop   []Dropped
	Said   []Identity
	Opened []OpenedBy

	values []string // of Facts, in JSON
}

// Dropped is a current fact that no longer holds; its history stays.
type Dropped struct {
	Device int64
	Name   string
}

// OpenedBy is the set that opened a device; 0: none does any more.
type OpenedBy struct{ Device, Set int64 }

// Write keeps what one step learned.
func (s *Store) Write(ctx context.Context, w Writes) error {
	if len(w.Facts)+len(w.Drop)+len(w.Said)+len(w.Opened) == 0 {
		return nil
	}
	w.values = make([]string, len(w.Facts))
	for i, f := range w.Facts {
		raw, err := json.Marshal(f.Value)
		if err != nil {
			return err
		}
		w.values[i] = string(raw)
	}
	_, err := s.coalesced.writes.Call(ctx, w)
	return err
}

// devices that it writes of, in order.
func (w Writes) devices() []int64 {
	var out []int64
	for _, f := range w.Facts {
		out = append(out, f.Device)
	}
	for _, d := range w.Drop {
		out = append(out, d.Device)
	}
	for _, i := range w.Said {
		out = append(out, i.Device)
	}
	for _, o := range w.Opened {
		out = append(out, o.Device)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// writeAtOnce writes what several steps learned. Two that write of the same device are
// written one after the other, as they came.
func (s *Store) writeAtOnce(ctx context.Context, all []Writes) ([]struct{}, error) {
	out, b := make([]struct{}, len(all)), &pgx.Batch{}
	b.Queue(`select set_config('synchronous_commit', 'off', true)`) // see lazily
	var every []int64
	for _, w := range all {
		every = append(every, w.devices()...)
	}
	b.Queue(lockDevices, every)
	for len(all) > 0 {
		var part Writes
		var later []Writes
		taken := map[int64]bool{}
		for _, w := range all {
			mine := w.devices()
			if slices.ContainsFunc(mine, func(d int64) bool { return taken[d] }) {
				later = append(later, w)
			} else {
				part.join(w)
			}
			for _, d := range mine {
				taken[d] = true
			}
		}
		part.queue(b)
		all = later
	}
	return out, s.db.SendBatch(ctx, b).Close() // one transaction, as every batch is
}

func (w *Writes) join(o Writes) {
	w.Facts, w.values, w.Drop = append(w.Facts, o.Facts...), append(w.values, o.values...), append(w.Drop, o.Drop...)
	w.Said, w.Opened = append(w.Said, o.Said...), append(w.Opened, o.Opened...)
}

// queue adds the statements that write w, whose devices are named once each. A fact
// that was read before the one that is kept is dropped: whoever read it was overtaken.
func (w Writes) queue(b *pgx.Batch) {
	if n := len(w.Drop); n > 0 {
		devices, names := make([]int64, n), make([]string, n)
		for i, d := range w.Drop {
			devices[i], names[i] = d.Device, d.Name
		}
		b.Queue(`delete from fact f using unnest($1::bigint[], $2::text[]) n(device_id, name) where (f.device_id, f.name) = (n.device_id, n.name)`, devices, names)
	}
	if n := len(w.Facts); n > 0 {
		devices, views, names, vias, ats := make([]int64, n), make([]int64, n), make([]string, n), make([]string, n), make([]time.Time, n)
		for i, f := range w.Facts {
			devices[i], views[i], names[i], vias[i], ats[i] = f.Device, f.View, f.Name, f.Via, f.At
		}
		b.Queue(`with new as (select * from unnest($1::bigint[], $2::text[], $3::text[], $4::timestamptz[], $5::jsonb[], $6::bigint[]) n(device_id, name, via, read_at, value, view)),
			old as (select f.device_id, f.name, f.view, f.value from fact f join new using (device_id, name, view)),
			cur as (insert into fact (device_id, source_id, name, value, via, read_at) select device_id, nullif(view, 0), name, value, via, read_at from new order by device_id, name, view
				on conflict (device_id, name, view) do update set value = excluded.value, via = excluded.via, read_at = excluded.read_at where fact.read_at <= excluded.read_at returning device_id, name, view),
			ver as (update device d set version = version + c.n from (select device_id, count(*) n from cur group by 1) c where d.id = c.device_id)
			insert into fact_history (device_id, source_id, name, value, via, read_at) select n.device_id, nullif(n.view, 0), n.name, n.value, n.via, n.read_at from new n join cur using (device_id, name, view)
			left join old using (device_id, name, view) where old.value is null or bare_value(old.value) <> bare_value(n.value)`, devices, names, vias, ats, w.values, views)
	}
	if n := len(w.Said); n > 0 {
		devices := make([]int64, n)
		uuids, macs, serials, makes, models, addresses := make([]string, n), make([]string, n), make([]string,
			n), make([]string, n), make([]string, n), make([]*netip.Addr, n)
		for i, d := range w.Said {
			devices[i], uuids[i], macs[i], serials[i], makes[i], models[i] = d.Device, d.Seen.UUID, d.Seen.MAC, d.Seen.Serial, d.Seen.Make, d.Seen.Model
			if d.Seen.Address.IsValid() {
				addresses[i] = &d.Seen.Address
			}
		}
		b.Queue(`update device d set uuid = case when n.uuid <> '' then n.uuid else d.uuid end, mac = case when n.mac <> '' then n.mac else d.mac end,
			serial = case when n.serial <> '' then n.serial else d.serial end, make = case when d.make = '' then n.make else d.make end,
			model = case when d.model = '' then n.model else d.model end, address = coalesce(n.address, d.address)
			from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::inet[]) n(id, uuid, mac, serial, make, model, address) where d.id = n.id`,
			devices, uuids, macs, serials, makes, models, addresses)
	}
	if n := len(w.Opened); n > 0 {
		devices, sets := make([]int64, n), make([]int64, n)
		for i, o := range w.Opened {
			devices[i], sets[i] = o.Device, o.Set
		}
		b.Queue(`update device d set opened_set = nullif(n.set_id, 0) from unnest($1::bigint[], $2::bigint[]) n(id, set_id) where d.id = n.id`, devices, sets)
	}
}

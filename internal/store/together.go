package store

import (
	"context"
	"encoding/json"
	"errors"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/store/rounds"
)

// together is what steps that work at the same time ask of the database: one round
// trip serves all that ask for the same kind of thing just then.
type together struct {
	devices rounds.Rounds[int64, *Device]
	sets    rounds.Rounds[int64, *SealedSet]
	setsFor rounds.Rounds[setsFor, []SealedSet]
	alike   rounds.Rounds[alike, [2][]int64]
	scenes  rounds.Rounds[sceneOf, seen]
	past    rounds.Rounds[pastOf, []Fact]
	writes  rounds.Rounds[Writes, struct{}]
	begins  rounds.Rounds[beginning, begun]
	ends    rounds.Rounds[ending, bool]
	tries   rounds.Rounds[firstTry, int64]
	outcome rounds.Rounds[outcomeOf, struct{}]
}

// refused says whether a statement failed of itself: then its round wrote nothing.
func refused(err error) bool {
	var pe *pgconn.PgError
	return errors.As(err, &pe)
}

func (s *Store) gather() {
	t := &s.together
	t.devices = rounds.Rounds[int64, *Device]{Do: s.devicesAtOnce}
	t.sets = rounds.Rounds[int64, *SealedSet]{Do: s.setsAtOnce}
	t.setsFor = rounds.Rounds[setsFor, []SealedSet]{Do: s.setsForAtOnce}
	t.alike = rounds.Rounds[alike, [2][]int64]{Do: s.alikeAtOnce}
	t.scenes = rounds.Rounds[sceneOf, seen]{Do: s.scenesAtOnce}
	t.past = rounds.Rounds[pastOf, []Fact]{Do: s.pastAtOnce}
	t.writes = rounds.Rounds[Writes, struct{}]{Do: s.writeAtOnce, Apart: refused}
	t.begins = rounds.Rounds[beginning, begun]{Do: s.beginAtOnce, Apart: refused}
	t.ends = rounds.Rounds[ending, bool]{Do: s.endAtOnce, Apart: refused}
	t.tries = rounds.Rounds[firstTry, int64]{Do: s.tryAtOnce, Apart: refused}
	t.outcome = rounds.Rounds[outcomeOf, struct{}]{Do: s.outcomesAtOnce, Apart: refused}
}

// byID answers each number with its row; nil where there is none.
func byID[T any](all []int64, rows []T, id func(*T) int64) []*T {
	found := make(map[int64]*T, len(rows))
	for i := range rows {
		found[id(&rows[i])] = &rows[i]
	}
	out := make([]*T, len(all))
	for i, n := range all {
		out[i] = found[n]
	}
	return out
}

// the is what a round found, or ErrNotFound.
func the[T any](p *T, err error) (T, error) {
	if err == nil && p == nil {
		err = ErrNotFound
	}
	if err != nil {
		var none T
		return none, err
	}
	return *p, nil
}

func (s *Store) devicesAtOnce(ctx context.Context, all []int64) ([]*Device, error) {
	rows, err := many[Device](ctx, s.Pool, `select `+deviceColumns+deviceFrom+`where d.id = any($1)`, all)
	return byID(all, rows, func(d *Device) int64 { return d.ID }), err
}

func (s *Store) setsAtOnce(ctx context.Context, all []int64) ([]*SealedSet, error) {
	rows, err := many[SealedSet](ctx, s.Pool, `select `+setColumns+` from credential_set where id = any($1)`, all)
	return byID(all, rows, func(v *SealedSet) int64 { return v.ID }), err
}

type setsFor struct{ site, device int64 }

func (s *Store) setsForAtOnce(ctx context.Context, all []setsFor) ([][]SealedSet, error) {
	sites, devices := make([]int64, len(all)), make([]int64, len(all))
	for i, a := range all {
		sites[i], devices[i] = a.site, a.device
	}
	type row struct {
		SiteID int64
		SealedSet
	}
	rows, err := many[row](ctx, s.Pool, `select site_id, `+setColumns+` from credential_set where site_id = any($1) and (device_id is null or device_id = any($2)) order by id`, sites, devices)
	out := make([][]SealedSet, len(all))
	for i, a := range all {
		for _, r := range rows {
			if r.SiteID == a.site && (r.Device == 0 || r.Device == a.device) {
				out[i] = append(out[i], r.SealedSet)
			}
		}
	}
	return out, err
}

type alike struct {
	site  int64
	maker string
	near  netip.Prefix
}

func (s *Store) alikeAtOnce(ctx context.Context, all []alike) ([][2][]int64, error) {
	b := &pgx.Batch{}
	found := map[alike]*[2][]int64{} // devices of one make in one network ask the same
	for _, a := range all {
		if found[a] != nil {
			continue
		}
		got := new([2][]int64)
		found[a] = got
		into := func(out *[]int64) func(pgx.Rows) error {
			return func(rows pgx.Rows) (err error) { *out, err = pgx.CollectRows(rows, pgx.RowTo[int64]); return err }
		}
		var prefix *netip.Prefix
		if a.near.IsValid() {
			prefix = &a.near
		}
		b.Queue(`select opened_set from (select distinct opened_set from (select opened_set from device where site_id = $1 and make = $2 and opened_set is not null limit 64) a) b limit 8`, a.site, a.maker).Query(into(&got[0]))
		b.Queue(`select opened_set from (select distinct opened_set from (select opened_set from device where site_id = $1 and address <<= $2::cidr and opened_set is not null limit 64) a) b limit 8`, a.site, prefix).Query(into(&got[1]))
	}
	err := s.Pool.SendBatch(ctx, b).Close()
	out := make([][2][]int64, len(all))
	for i, a := range all {
		out[i] = *found[a]
	}
	return out, err
}

type sceneOf struct {
	site int64
	only []int64
}

type seen struct {
	Scene
	err error
}

// scenesAtOnce reads one scene a site for all who ask for some of its devices, and
// gives each the devices it asked for. What hangs on the others is there too.
func (s *Store) scenesAtOnce(ctx context.Context, all []sceneOf) ([]seen, error) {
	bySite := map[int64][]int64{}
	for _, a := range all {
		bySite[a.site] = append(bySite[a.site], a.only...)
	}
	read := map[int64]seen{}
	for site, only := range bySite {
		slices.Sort(only)
		sc, err := s.scene(ctx, site, append([]int64{}, slices.Compact(only)...))
		read[site] = seen{sc, err}
	}
	out := make([]seen, len(all))
	for i, a := range all {
		out[i] = read[a.site]
		if len(all) > 1 {
			out[i].Devices = out[i].some(a.only)
		}
	}
	return out, nil
}

type pastOf struct {
	device int64
	name   string
	limit  int
}

func (s *Store) pastAtOnce(ctx context.Context, all []pastOf) ([][]Fact, error) {
	devices, names, limits := make([]int64, len(all)), make([]string, len(all)), make([]int64, len(all))
	for i, a := range all {
		devices[i], names[i], limits[i] = a.device, a.name, int64(a.limit)
	}
	type row struct {
		Nth int64
		Fact
	}
	rows, err := many[row](ctx, s.Pool, `select n.nth, h.device_id, h.name, h.value, h.via, h.read_at from unnest($1::bigint[], $2::text[], $3::bigint[]) with ordinality n(device_id, name, most, nth)
		cross join lateral (select * from fact_history h where h.device_id = n.device_id and h.name = n.name order by h.read_at desc limit n.most) h order by n.nth, h.read_at desc`, devices, names, limits)
	out := make([][]Fact, len(all))
	for _, r := range rows {
		out[r.Nth-1] = append(out[r.Nth-1], r.Fact)
	}
	return out, err
}

type beginning struct {
	Hold
	ttl      time.Duration
	most     Limits
	recorder bool
}

type begun struct {
	verdict Verdict
	fence   int64
}

// byStep is the order in which a round's steps are begun and ended, so that two rounds
// that wait for the same rows wait in one order.
func byStep[T any](all []T, step func(T) int64) []int {
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return int(step(all[a]) - step(all[b])) })
	return order
}

func (s *Store) beginAtOnce(ctx context.Context, all []beginning) ([]begun, error) {
	n := len(all)
	steps, devices, holders, ttls, nets := make([]int64, n), make([]int64, n), make([]string, n), make([]time.Duration, n), make([]int64, n)
	netMost, recMost, recorders := make([]int32, n), make([]int32, n), make([]bool, n)
	order := byStep(all, func(b beginning) int64 { return b.Step })
	for i, at := range order {
		b := all[at]
		steps[i], devices[i], holders[i], ttls[i], nets[i] = b.Step, b.Device, b.Holder, b.ttl, b.Net
		netMost[i], recMost[i], recorders[i] = int32(b.most.Network), int32(b.most.Recorder), b.recorder
	}
	out := make([]begun, n)
	rows, err := s.Pool.Query(ctx, `select n.nth, b.verdict, b.fence from unnest($1::bigint[], $2::bigint[], $3::text[], $4::interval[], $5::bigint[], $6::int[], $7::int[], $8::boolean[])
		with ordinality n(step, device, holder, ttl, net, net_most, rec_most, recorder, nth) cross join lateral step_begin(n.step, n.device, n.holder, n.ttl, n.net, n.net_most, n.rec_most, n.recorder) b`,
		steps, devices, holders, ttls, nets, netMost, recMost, recorders)
	if err != nil {
		return nil, err
	}
	var nth int64
	var b begun
	_, err = pgx.ForEachRow(rows, []any{&nth, &b.verdict, &b.fence}, func() error { out[order[nth-1]] = b; return nil })
	return out, err
}

type ending struct {
	Hold
	state, says string
}

func (s *Store) endAtOnce(ctx context.Context, all []ending) ([]bool, error) {
	n := len(all)
	steps, devices, holders, fences, states, says := make([]int64, n), make([]int64, n), make([]string, n), make([]int64, n), make([]string, n), make([]string, n)
	order := byStep(all, func(e ending) int64 { return e.Step })
	for i, at := range order {
		e := all[at]
		steps[i], devices[i], holders[i], fences[i], states[i], says[i] = e.Step, e.Device, e.Holder, e.Fence, e.state, e.says
	}
	out := make([]bool, n)
	rows, err := s.Pool.Query(ctx, `select n.nth, step_end(n.step, n.device, n.holder, n.fence, n.state, n.says)
		from unnest($1::bigint[], $2::bigint[], $3::text[], $4::bigint[], $5::text[], $6::text[]) with ordinality n(step, device, holder, fence, state, says, nth)`, steps, devices, holders, fences, states, says)
	if err != nil {
		return nil, err
	}
	var nth int64
	var ours bool
	_, err = pgx.ForEachRow(rows, []any{&nth, &ours}, func() error { out[order[nth-1]] = ours; return nil })
	return out, err
}

// firstTry is a try that is begun by what was counted before.
type firstTry struct {
	device, set int64
	name        string
	scheme      access.Scheme
	counted     int64
}

// tryAtOnce begins tries of devices of which nobody began another since they were
// counted: a device's number of tries is written with each. It answers 0 where
// somebody did.
func (s *Store) tryAtOnce(ctx context.Context, all []firstTry) ([]int64, error) {
	var devices, counted, sets []int64
	var names, schemes []string
	at := map[int64]int{}
	for i, t := range all {
		if _, twice := at[t.device]; twice {
			continue // the second counts again
		}
		at[t.device] = i
		devices, counted, sets = append(devices, t.device), append(counted, t.counted), append(sets, t.set)
		names, schemes = append(names, t.name), append(schemes, string(t.scheme))
	}
	out := make([]int64, len(all))
	b := &pgx.Batch{}
	b.Queue(lockDevices, devices)
	b.Queue(`with n as (select * from unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[], $5::text[]) n(device_id, tries, set_id, set_name, scheme)),
		c as (update device d set tries = d.tries + 1 from n where d.id = n.device_id and d.tries = n.tries returning n.*)
		insert into try (device_id, set_id, set_name, scheme) select device_id, set_id, set_name, scheme from c returning device_id, id`, devices, counted, sets, names, schemes).Query(func(rows pgx.Rows) error {
		var device, id int64
		_, err := pgx.ForEachRow(rows, []any{&device, &id}, func() error { out[at[device]] = id; return nil })
		return err
	})
	return out, s.Pool.SendBatch(ctx, b).Close()
}

// lockDevices takes the rows of many devices in one order, so that no two rounds wait
// for each other.
const lockDevices = `select 1 from device where id = any($1) order by id for no key update`

type outcomeOf struct {
	id      int64
	outcome access.Outcome
	detail  string
}

func (s *Store) outcomesAtOnce(ctx context.Context, all []outcomeOf) ([]struct{}, error) {
	ids, outcomes, details := make([]int64, len(all)), make([]string, len(all)), make([]string, len(all))
	for i, o := range all {
		ids[i], outcomes[i], details[i] = o.id, string(o.outcome), o.detail
	}
	return make([]struct{}, len(all)), s.lazily(ctx, `update try t set outcome = n.outcome, detail = n.detail from unnest($1::bigint[], $2::text[], $3::text[]) n(id, outcome, detail) where t.id = n.id`, ids, outcomes, details)
}

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
	_, err := s.together.writes.Call(ctx, w)
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
	return out, s.Pool.SendBatch(ctx, b).Close() // one transaction, as every batch is
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
		devices, names, vias, ats := make([]int64, n), make([]string, n), make([]string, n), make([]time.Time, n)
		for i, f := range w.Facts {
			devices[i], names[i], vias[i], ats[i] = f.Device, f.Name, f.Via, f.At
		}
		b.Queue(`with new as (select * from unnest($1::bigint[], $2::text[], $3::text[], $4::timestamptz[], $5::jsonb[]) n(device_id, name, via, read_at, value)),
			old as (select f.device_id, f.name, f.value from fact f join new using (device_id, name)),
			cur as (insert into fact (device_id, name, value, via, read_at) select device_id, name, value, via, read_at from new order by device_id, name
				on conflict (device_id, name) do update set value = excluded.value, via = excluded.via, read_at = excluded.read_at where fact.read_at <= excluded.read_at returning device_id, name),
			ver as (update device d set version = version + c.n from (select device_id, count(*) n from cur group by 1) c where d.id = c.device_id)
			insert into fact_history (device_id, name, value, via, read_at) select n.device_id, n.name, n.value, n.via, n.read_at from new n join cur using (device_id, name)
			left join old using (device_id, name) where old.value is null or bare_value(old.value) <> bare_value(n.value)`, devices, names, vias, ats, w.values)
	}
	if n := len(w.Said); n > 0 {
		devices := make([]int64, n)
		uuids, macs, serials, makes, models, addresses := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]*netip.Addr, n)
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

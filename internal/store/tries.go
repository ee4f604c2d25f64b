package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
)

// Counted is what a device's tries were when somebody looked: those within the
// budget's period, and how many were ever begun, counted before they were listed.
type Counted struct {
	Tries []access.Try
	Begun int64
}

// BeginTry writes a try down before it is sent; ok is false when the budget that
// allowed counts forbids it now. It holds over all processes: where somebody began
// another since known was counted, or known is nil, the device's row is locked and its
// tries are counted once more.
func (s *Store) BeginTry(ctx context.Context, device, set int64, setName string, scheme access.Scheme, known *Counted,
	allowed func([]access.Try) bool) (id int64, ok bool, err error) {
	if known != nil {
		if !allowed(known.Tries) {
			return 0, false, nil
		}
		if id, err = s.coalesced.tries.Call(ctx, firstTry{device, set, setName, scheme, known.Begun}); err != nil || id != 0 {
			return id, err == nil, err
		}
	}
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select 1 from device where id = $1 for no key update`, device); err != nil {
			return err
		}
		tries, err := triesOf(ctx, tx, device)
		if err != nil {
			return err
		}
		if ok = allowed(tries); !ok {
			return nil
		}
		return tx.QueryRow(ctx, `with c as (update device set tries = tries + 1 where id = $1) insert into try (device_id, set_id, set_name, scheme) values ($1, $2, $3, $4) returning id`, device, set, setName, scheme).Scan(&id)
	})
	return id, ok, err
}

// Given writes down that a device took a set's password for its own: it is known to be
// right without a try.
func (s *Store) Given(ctx context.Context, device, set int64, setName string, scheme access.Scheme) error {
	_, err := s.db.Exec(ctx, `with c as (update device set tries = tries + 1, refused = array_remove(refused, $2) where id = $1) insert into try (device_id, set_id, set_name, scheme, outcome, detail) values ($1, $2, $3, $4, 'opened', 'the device was given it')`, device, set, setName, scheme)
	return err
}

// EndTry writes a try's outcome. One that is lost leaves the try pending, which counts
// as wrong.
func (s *Store) EndTry(ctx context.Context, id int64, outcome access.Outcome, detail string) error {
	_, err := s.coalesced.outcome.Call(ctx, outcomeOf{id, outcome, detail})
	return err
}

// Tries of a device within the budget's period, oldest first.
func (s *Store) Tries(ctx context.Context, device int64) ([]access.Try, error) {
	return triesOf(ctx, s.db, device)
}

func triesOf(ctx context.Context, q querier, device int64) ([]access.Try, error) {
	return queryAll[access.Try](ctx, q, `select at, coalesce(set_id, 0) set_id, set_name as "set", scheme, outcome, detail from try
		where device_id = $1 and at > now() - $2::interval order by at, id`, device, access.Period)
}

// TryOf is a try with its device, for tables of many devices.
type TryOf struct {
	DeviceID int64
	access.Try
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
		c as (update device d set tries = d.tries + 1 from n where d.id = n.device_id and d.tries = n.tries returning n.*),
		new as (insert into try (device_id, set_id, set_name, scheme) select device_id, set_id, set_name, scheme from c returning device_id, id)
		select device_id, id from new`, devices, counted, sets, names, schemes).Query(func(rows pgx.Rows) error {
		var device, id int64
		_, err := pgx.ForEachRow(rows, []any{&device, &id}, func() error { out[at[device]] = id; return nil })
		return err
	})
	return out, s.db.SendBatch(ctx, b).Close()
}

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
	// Which sets a device refused is kept beside it, by the newest verdict on each: two of one
	// device in one round are told apart by their order. A page's verdict says nothing of ONVIF.
	// What opens every few seconds keeps one row of the period, the newest.
	return make([]struct{}, len(all)), s.lazily(ctx,
		`with t as (update try t set outcome = n.outcome, detail = n.detail from unnest($1::bigint[], $2::text[], $3::text[]) n(id, outcome, detail)
			where t.id = n.id returning t.id, t.device_id, t.set_id, t.scheme, t.outcome),
		before as (delete from try x using t where t.outcome = '`+string(access.Opened)+`' and x.device_id = t.device_id and x.set_id = t.set_id and x.scheme = t.scheme
			and x.outcome = t.outcome and x.id < t.id and x.at > now() - interval '30 minutes'),
		last as (select distinct on (device_id, set_id) device_id, set_id, outcome from t where set_id is not null and scheme <> '`+string(access.Web)+`'
			and outcome in ('`+string(access.Opened)+`', '`+string(access.Wrong)+`') order by device_id, set_id, id desc),
		v as (select device_id, array_agg(set_id) filter (where outcome = '`+string(access.Wrong)+`') wrong, array_agg(set_id) judged from last group by 1)
		update device d set refused = array(select x from unnest(d.refused) x where x <> all(v.judged) union select x from unnest(v.wrong) x order by 1) from v
			where d.id = v.device_id and (v.wrong is not null or d.refused && v.judged)`, ids, outcomes, details)
}

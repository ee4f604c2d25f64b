package store

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/people"
)

// Site is one place of work.
type Site struct {
	ID         int64
	Name       string
	Zone       string
	ZonePosix  string
	Demo       bool
	LookEvery  int    // minutes; 0: only when someone asks
	TimeSource string // see clock.Wishes
	// How many devices of a network, and of a recorder, are worked on at once.
	AtOnceNetwork, AtOnceRecorder int
	Encrypt                       bool // it asks that streams are encrypted
	LeastDays, MostDays           int  // days, see Keeping
	ActivePercent                 int
	Outlived                      int64 // versions of recorders that went, see site.Snapshot.Version
}

const siteColumns = `s.id, s.name, s.zone, s.zone_posix, s.demo, s.look_every, s.time_source, s.at_once_network, s.at_once_recorder, s.encrypt, s.least_days, s.most_days, s.active_percent, s.outlived`

// Location is the site's zone; UTC where the zone database doesn't know it.
func (s Site) Location() *time.Location {
	if l, err := time.LoadLocation(s.Zone); err == nil {
		return l
	}
	return time.UTC
}

// Member is a site and the role a person has on it.
type Member struct {
	Site
	Role people.Role
}

// Sites lists where a person may work.
func (s *Store) Sites(ctx context.Context, person int64) ([]Member, error) {
	return queryAll[Member](ctx, s.db, `select `+siteColumns+`, m.role from site s
		join membership m on m.site_id = s.id where m.person_id = $1 and s.put_away_at is null order by s.name, s.id`, person)
}

// MemberOf finds one site with the person's role on it; ErrNotFound when there is none.
func (s *Store) MemberOf(ctx context.Context, site, person int64) (Member, error) {
	return queryOne[Member](ctx, s.db, `select `+siteColumns+`, m.role from site s
		join membership m on m.site_id = s.id where s.id = $1 and m.person_id = $2 and s.put_away_at is null`, site, person)
}

// Site finds a site.
func (s *Store) Site(ctx context.Context, id int64) (Site, error) {
	return queryOne[Site](ctx, s.db, `select `+siteColumns+` from site s where id = $1`, id)
}

// SiteNamed finds a site by name.
func (s *Store) SiteNamed(ctx context.Context, name string) (Site, error) {
	return queryOne[Site](ctx, s.db, `select `+siteColumns+` from site s where name = $1`, name)
}

// AddSite makes a site.
func (s *Store) AddSite(ctx context.Context, v Site) (int64, error) {
	var id int64
	err := s.InTx(ctx, func(tx pgx.Tx) (err error) {
		id, err = addSite(ctx, tx, v, 0)
		return err
	})
	return id, err
}

// AddMember gives a person a role on a site.
func (s *Store) AddMember(ctx context.Context, site, person int64, role people.Role) error {
	_, err := s.db.Exec(ctx, `insert into membership values ($1, $2, $3) on conflict (site_id, person_id) do update set role = excluded.role`, site, person, role)
	return err
}

// Network of a site with what the last look there heard.
type Network struct {
	ID         int64
	Name       string
	Prefix     netip.Prefix
	Gateway    *netip.Addr  // nil: its first address, by custom
	TimeServer *netip.Addr  // nil: as the site asks
	DNS        []netip.Addr // its name servers; none: nobody named one
	Ports      []int        // looked at besides netplan.Ports
	AtOnce     int          // devices worked on at once; 0: as the site asks
	Single     bool         // looked at, and no network of the site
	LookedAt   *time.Time
	Look       *Summary
}

// Core is the network as the rules know it.
func (n Network) Core() netplan.Network {
	c := netplan.Network{ID: n.ID, Name: n.Name, Prefix: n.Prefix, DNS: n.DNS}
	if n.Gateway != nil {
		c.Gateway = *n.Gateway
	}
	if n.TimeServer != nil {
		c.TimeServer = *n.TimeServer
	}
	return c
}

const networkColumns = `id, name, prefix, gateway, time_server, dns, ports, at_once, bench single, looked_at, look`

// Summary is what one look at a network heard, in numbers.
type Summary struct {
	Addresses int     `json:"addresses"`
	Multicast int     `json:"multicast"`
	Directed  int     `json:"directed"`
	Time      int     `json:"time"`
	RTSP      int     `json:"rtsp"`
	Recorders int     `json:"recorders"`
	Seconds   float64 `json:"seconds"`
	Trouble   string  `json:"trouble"`          // what couldn't be tried, worded
	Routed    bool    `json:"routed,omitempty"` // this machine has no address in it: no multicast gets there
	Others    []Other `json:"others,omitempty"`
}

// Other is what answers at an address and is neither camera nor recorder.
type Other struct {
	Address netip.Addr `json:"address"`
	Ports   []int      `json:"ports"`
	Title   string     `json:"title"` // of its page
}

// Networks of a site in the order they were added.
func (s *Store) Networks(ctx context.Context, site int64) ([]Network, error) {
	return queryAll[Network](ctx, s.db, `select `+networkColumns+` from network where site_id = $1 order by id`, site)
}

// AddNetwork adds a prefix to a site.
func (s *Store) AddNetwork(ctx context.Context, site int64, name string, p netip.Prefix) error {
	_, err := s.AddNetworks(ctx, site, []Network{{Name: name, Prefix: p}}, nil)
	return err
}

// AddNetworks adds networks to a site; check is given those that are there, while nobody
// else adds one, and says why they can't be added: then none is. Each gets its number.
func (s *Store) AddNetworks(ctx context.Context, site int64, all []Network, check func(there []Network) string) (why string, err error) {
	return why, s.InTx(ctx, func(tx pgx.Tx) error {
		if why, err = checked(ctx, tx, site, check); err != nil || why != "" {
			return err
		}
		b := &pgx.Batch{}
		for i := range all {
			n := &all[i]
			b.Queue(`insert into network (site_id, name, prefix, gateway, time_server, ports, at_once, dns) values ($1, $2, $3, $4, $5, $6, $7, $8) returning id`,
				site, n.Name, n.Prefix, n.Gateway, n.TimeServer, none(n.Ports), n.AtOnce, none(n.DNS)).QueryRow(func(r pgx.Row) error { return r.Scan(&n.ID) })
		}
		return tx.SendBatch(ctx, b).Close()
	})
}

// SetNetwork changes a network of a site; see AddNetworks for check. Where its prefix is
// another, what the last look heard there is forgotten. ErrNotFound where there is none.
func (s *Store) SetNetwork(ctx context.Context, site int64, n Network, check func(there []Network) string) (why string, err error) {
	return why, s.InTx(ctx, func(tx pgx.Tx) error {
		if why, err = checked(ctx, tx, site, check); err != nil || why != "" {
			return err
		}
		tag, err := tx.Exec(ctx, `update network set name = $3, gateway = $5, time_server = $6, ports = $7, at_once = $8, dns = $9,
			looked_at = case when prefix = $4 then looked_at end, look = case when prefix = $4 then look end, prefix = $4
			where site_id = $1 and id = $2 and not bench`, site, n.ID, n.Name, n.Prefix, n.Gateway, n.TimeServer, none(n.Ports), n.AtOnce, none(n.DNS))
		return orNone(tag.RowsAffected(), err)
	})
}

// checked reads a site's networks while nobody else changes them, and has them checked.
func checked(ctx context.Context, tx pgx.Tx, site int64, check func(there []Network) string) (string, error) {
	if check == nil {
		return "", nil
	}
	if _, err := tx.Exec(ctx, `select 1 from site where id = $1 for update`, site); err != nil {
		return "", err
	}
	there, err := queryAll[Network](ctx, tx, `select `+networkColumns+` from network where site_id = $1 and not bench order by id`, site)
	if err != nil {
		return "", err
	}
	return check(there), nil
}

// orNone is ErrNotFound where a statement touched no row.
func orNone(rows int64, err error) error {
	if err == nil && rows == 0 {
		return ErrNotFound
	}
	return err
}

func none[T any](all []T) []T {
	if all == nil {
		return []T{}
	}
	return all
}

// RemoveNetwork takes a network off a site: no look asks there any more. Sets that were
// tried first in it are tried on any. Its devices stay.
func (s *Store) RemoveNetwork(ctx context.Context, site, id int64) error {
	tag, err := s.db.Exec(ctx, `delete from network where site_id = $1 and id = $2 and not bench`, site, id)
	return orNone(tag.RowsAffected(), err)
}

// NetworkRests counts what rests on a network: devices that were found or are expected in
// it and in no other, sets that are tried first in it.
func (s *Store) NetworkRests(ctx context.Context, site, id int64) (devices, sets int, err error) {
	err = s.db.QueryRow(ctx, `select (select count(*) from device d, network n where n.id = $2 and n.site_id = $1 and d.site_id = $1 and coalesce(d.address, d.expected_at) <<= n.prefix),
		(select count(*) from credential_set where site_id = $1 and network_id = $2)`, site, id).Scan(&devices, &sets)
	return devices, sets, err
}

// AddSingle adds an address that is looked at and belongs to no network of the site; one
// that is there already stays as it is.
func (s *Store) AddSingle(ctx context.Context, site int64, name string, p netip.Prefix) error {
	_, err := s.db.Exec(ctx, `insert into network (site_id, name, prefix, bench) values ($1, $2, $3, true) on conflict (site_id, prefix) do nothing`, site, name, p)
	return err
}

// DropSingle takes such an address off again; ErrNotFound where the site has no such.
func (s *Store) DropSingle(ctx context.Context, site, id int64) (name string, err error) {
	err = s.db.QueryRow(ctx, `delete from network where site_id = $1 and id = $2 and bench returning name`, site, id).Scan(&name)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", ErrNotFound
	}
	return name, err
}

// Wishes are how a site wants its work done.
type Wishes struct {
	LookEvery  int    // minutes; 0: only when someone asks
	TimeSource string // see clock.Wishes
	Encrypt    bool   // streams
	AtOnce     Limits // 1 to MostNetwork, 1 to MostRecorder
}

// The widest limits that a site may ask for.
const (
	MostNetwork  = 256
	MostRecorder = 32
)

// SetWishes keeps them; limits hold from the next run on.
func (s *Store) SetWishes(ctx context.Context, site int64, w Wishes) error {
	_, err := s.db.Exec(ctx, `update site set look_every = $2, time_source = $3, at_once_network = $4, at_once_recorder = $5, encrypt = $6 where id = $1`, site, w.LookEvery, w.TimeSource, w.AtOnce.Network, w.AtOnce.Recorder, w.Encrypt)
	return err
}

// AtOnce reads a site's limits.
func (s *Store) AtOnce(ctx context.Context, tx pgx.Tx, site int64) (l Limits, err error) {
	err = tx.QueryRow(ctx, `select at_once_network, at_once_recorder from site where id = $1`, site).Scan(&l.Network, &l.Recorder)
	return l, err
}

// NetworkLimits are the limits of a site's networks that have one of their own.
func (s *Store) NetworkLimits(ctx context.Context, tx pgx.Tx, site int64) (map[int64]int, error) {
	rows, err := tx.Query(ctx, `select id, at_once from network where site_id = $1 and at_once > 0`, site)
	if err != nil {
		return nil, err
	}
	out := map[int64]int{}
	var id int64
	var n int
	_, err = pgx.ForEachRow(rows, []any{&id, &n}, func() error { out[id] = n; return nil })
	return out, err
}

// LooksDue lists the sites whose networks are to be looked at by themselves now, and
// takes their turn: of several servers one gets each. by is the stage that looks at networks.
func (s *Store) LooksDue(ctx context.Context, by stage.Stage) ([]int64, error) {
	return ids(ctx, s.db, `update site s set look_asked_at = now() where look_every > 0 and put_away_at is null and coalesce(look_asked_at, '-infinity') <= now() - make_interval(mins => look_every)
		and not exists (select 1 from run r where r.site_id = s.id and r.stage = $1 and r.act = 'read' and (r.ended_at is null or r.started_at > now() - make_interval(mins => s.look_every)))
		and exists (select 1 from network n where n.site_id = s.id and n.looked_at is not null) returning id`, int(by))
}

// Leasts lists the least firmware that a site asks of makes and models.
func (s *Store) Leasts(ctx context.Context, site int64) ([]identity.Least, error) {
	return queryAll[identity.Least](ctx, s.db, `select make, model, least from firmware_least where site_id = $1 order by make, model`, site)
}

// SetLeast asks for a least firmware; an empty one asks no more.
func (s *Store) SetLeast(ctx context.Context, site int64, l identity.Least) error {
	if l.Least == "" {
		_, err := s.db.Exec(ctx, `delete from firmware_least where (site_id, make, model) = ($1, $2, $3)`, site, l.Make, l.Model)
		return err
	}
	_, err := s.db.Exec(ctx, `insert into firmware_least values ($1, $2, $3, $4) on conflict (site_id, make, model) do update set least = excluded.least`, site, l.Make, l.Model, l.Least)
	return err
}

// SealedSet is a credential set with its sealed password.
type SealedSet struct {
	access.Set
	Sealed []byte
}

const setColumns = `id, name, username, make, factory, former, coalesce(network_id, 0) network, coalesce(device_id, 0) device, sealed`

// SetsFor lists the sets that a device may be tried with: those of the site and those
// made for it alone.
func (s *Store) SetsFor(ctx context.Context, site, device int64) ([]SealedSet, error) {
	return s.coalesced.setsFor.Call(ctx, setsFor{site, device})
}

// UnsentSets lists the sets made for these devices that were never sent to one, and that no
// run is about to send: each holds a password that nobody has yet.
func (s *Store) UnsentSets(ctx context.Context, site int64, devices []int64) ([]access.Set, error) {
	return queryAll[access.Set](ctx, s.db, `select id, name, username, make, factory, former, coalesce(network_id, 0) network, coalesce(device_id, 0) device from credential_set c
		where site_id = $1 and device_id = any($2) and not exists (select 1 from try t where t.set_id = c.id) and not exists (select 1 from device d where d.opened_set = c.id)
		and not exists (select 1 from change x where x.device_id = c.device_id and x.args ->> 'set' = c.id::text) order by id`, site, devices)
}

// SharedSets lists a site's sets but those made for one device.
func (s *Store) SharedSets(ctx context.Context, site int64) ([]SealedSet, error) {
	return queryAll[SealedSet](ctx, s.db, `select `+setColumns+` from credential_set where site_id = $1 and device_id is null order by id`, site)
}

// Sets lists a site's credential sets in the order they were added.
func (s *Store) Sets(ctx context.Context, site int64) ([]SealedSet, error) {
	return queryAll[SealedSet](ctx, s.db, `select `+setColumns+` from credential_set where site_id = $1 order by id`, site)
}

// Set finds one credential set.
func (s *Store) Set(ctx context.Context, id int64) (SealedSet, error) {
	return found(s.coalesced.sets.Call(ctx, id))
}

// AddSet adds a credential set; seal is given the new row's place and returns the
// sealed password.
func (s *Store) AddSet(ctx context.Context, site int64, v access.Set, seal func(place string) ([]byte, error)) (int64, error) {
	var id int64
	err := s.InTx(ctx, func(tx pgx.Tx) (err error) {
		id, err = addSet(ctx, tx, site, v, seal)
		return err
	})
	return id, err
}

func addSet(ctx context.Context, tx pgx.Tx, site int64, v access.Set, seal func(place string) ([]byte, error)) (id int64, err error) {
	if err := sealing(ctx, tx); err != nil {
		return 0, err
	}
	err = tx.QueryRow(ctx, `insert into credential_set (site_id, name, username, make, factory, former, network_id, device_id)
		values ($1, $2, $3, $4, $5, $6, nullif($7::bigint, 0), nullif($8::bigint, 0)) returning id`,
		site, v.Name, v.Username, v.Make, v.Factory, v.Former, v.Network, v.Device).Scan(&id)
	if err != nil {
		return 0, err
	}
	return id, resealed(ctx, tx, id, seal)
}

// resealed gives a set the password that seal seals for its place.
func resealed(ctx context.Context, tx pgx.Tx, id int64, seal func(place string) ([]byte, error)) error {
	sealed, err := seal(SetPlace(id))
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `update credential_set set sealed = $2 where id = $1`, id, sealed)
	return err
}

// SetSet changes a set of a site that is shared: its name, user name and where it is tried
// first; and its password, where seal isn't nil. ErrNotFound where there is none. With
// another user name or password it is another account: nothing is known to open with it, nor
// to refuse it, any more. The devices that opened with it come back.
func (s *Store) SetSet(ctx context.Context, site int64, v access.Set, seal func(place string) ([]byte, error)) (opened []int64, err error) {
	return opened, s.InTx(ctx, func(tx pgx.Tx) error {
		if err := sealing(ctx, tx); err != nil {
			return err
		}
		var was string
		if err := tx.QueryRow(ctx, `select username from credential_set where site_id = $1 and id = $2 and device_id is null for update`, site, v.ID).Scan(&was); err != nil {
			if errors.Is(err, pgx.ErrNoRows) {
				return ErrNotFound
			}
			return err
		}
		if seal != nil || was != v.Username {
			if opened, err = forgetSet(ctx, tx, site, v.ID); err != nil {
				return err
			}
		}
		tag, err := tx.Exec(ctx, `update credential_set set name = $3, username = $4, make = $5, factory = $6, former = $7, network_id = nullif($8::bigint, 0)
			where site_id = $1 and id = $2 and device_id is null`, site, v.ID, v.Name, v.Username, v.Make, v.Factory, v.Former, v.Network)
		if err := orNone(tag.RowsAffected(), err); err != nil || seal == nil {
			return err
		}
		return resealed(ctx, tx, v.ID, seal)
	})
}

// SetsRest counts the devices that each set of a site opens, or is the account of.
func (s *Store) SetsRest(ctx context.Context, site int64) (map[int64]int, error) {
	rows, err := s.db.Query(ctx, `select x, count(*) from (select coalesce(set_id, opened_set) x from device where site_id = $1) d where x is not null group by x`, site)
	if err != nil {
		return nil, err
	}
	out := map[int64]int{}
	var set int64
	var n int
	_, err = pgx.ForEachRow(rows, []any{&set, &n}, func() error { out[set] = n; return nil })
	return out, err
}

// RemoveSet takes a set that is shared off a site: nothing is signed in to with it any more.
// What was known to open with it is known no longer; those devices come back.
func (s *Store) RemoveSet(ctx context.Context, site, set int64) (rested []int64, err error) {
	return rested, s.InTx(ctx, func(tx pgx.Tx) error {
		if rested, err = forgetSet(ctx, tx, site, set); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `delete from credential_set where site_id = $1 and id = $2 and device_id is null`, site, set)
		return orNone(tag.RowsAffected(), err)
	})
}

// forgetSet forgets what a set of a site opens, and that it was wrong somewhere: the tries
// stand, of a set that is no more. The devices that rested on it come back.
func forgetSet(ctx context.Context, tx pgx.Tx, site, set int64) ([]int64, error) {
	rested, err := ids(ctx, tx, `update device set version = version + 1, opened_set = nullif(opened_set, $2) where site_id = $1 and (opened_set = $2 or set_id = $2
		or exists (select 1 from fact f where f.device_id = device.id and f.name in ('`+fact.Account+`', '`+fact.WebAccount+`') and (f.value ->> 'set_id')::bigint = $2)) returning id`, site, set)
	if err != nil {
		return nil, err
	}
	b := &pgx.Batch{}
	b.Queue(`delete from fact where device_id = any($1) and name in ('`+fact.Account+`', '`+fact.WebAccount+`') and (value ->> 'set_id')::bigint = $2`, rested, set)
	b.Queue(`update try set set_id = null where set_id = $1`, set)
	b.Queue(`update device set refused = array_remove(refused, $2), version = version + 1 where site_id = $1 and $2 = any(refused)`, site, set)
	return rested, tx.SendBatch(ctx, b).Close()
}

// AddSets adds many sets in a fixed number of queries and returns their numbers; seal is
// given which one it is and the new row's place. A name gets the number at its end.
func (s *Store) AddSets(ctx context.Context, site int64, all []access.Set,
	seal func(i int, place string) ([]byte, error)) ([]int64, error) {
	var out []int64
	return out, s.InTx(ctx, func(tx pgx.Tx) (err error) {
		if err := sealing(ctx, tx); err != nil {
			return err
		}
		if out, err = ids(ctx, tx, `select nextval(pg_get_serial_sequence('credential_set', 'id')) from generate_series(1, $1::int)`, len(all)); err != nil {
			return err
		}
		b := &pgx.Batch{}
		for i, v := range all {
			sealed, err := seal(i, SetPlace(out[i]))
			if err != nil {
				return err
			}
			b.Queue(`insert into credential_set (id, site_id, name, username, make, device_id, sealed) overriding system value values ($1, $2, $3, $4, $5, nullif($6::bigint, 0), $7)`,
				out[i], site, v.Name+" "+itoa(out[i]), v.Username, v.Make, v.Device, sealed)
		}
		return tx.SendBatch(ctx, b).Close()
	})
}

// sealLock is the advisory lock between those who seal a secret and who changes the key.
const sealLock = 0x7365616c

// sealing holds off a change of the key until what is sealed within tx is written.
func sealing(ctx context.Context, tx pgx.Tx) error {
	_, err := tx.Exec(ctx, `select pg_advisory_xact_lock_shared($1)`, sealLock)
	return err
}

// WhileNoneSeals runs f while no secret is being sealed and written anywhere.
func (s *Store) WhileNoneSeals(ctx context.Context, f func() error) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, sealLock); err != nil {
			return err
		}
		return f()
	})
}

// AuditEntry is one line for the audit log: who did what. It never holds a secret.
type AuditEntry struct {
	Site, Person, Token int64
	Act, Detail         string
}

// Audit writes an entry.
func (s *Store) Audit(ctx context.Context, e AuditEntry) error { return audit(ctx, s.db, e) }

func audit(ctx context.Context, q execer, e AuditEntry) error {
	_, err := q.Exec(ctx, `insert into audit (site_id, person_id, token_id, act, detail) values (nullif($1::bigint, 0), nullif($2::bigint, 0), nullif($3::bigint, 0), $4, $5)`, e.Site, e.Person, e.Token, e.Act, e.Detail)
	return err
}

// AuditLine is one line of the log.
type AuditLine struct {
	At     time.Time
	Who    string
	Act    string
	Detail string
}

// AuditLines lists the lines of a site's log, newest first, limit of them after skip.
// Sign-ins belong to no site: those of its people are among them.
func (s *Store) AuditLines(ctx context.Context, site int64, skip, limit int) ([]AuditLine, error) {
	return auditLines(ctx, s.db, site, skip, limit)
}

func auditLines(ctx context.Context, q querier, site int64, skip, limit int) ([]AuditLine, error) {
	// Each part is read from its index, the newest first, and no further than the page.
	return queryAll[AuditLine](ctx, q, `select a.at, coalesce(p.name, 'token ' || k.name, 'the product') who, a.act, a.detail from (
			(select id, at, act, detail, person_id, token_id from audit where site_id = $1 order by at desc, id desc limit $2::bigint + $3::bigint)
			union all
			select x.* from membership m cross join lateral (select id, at, act, detail, person_id, token_id from audit where site_id is null and person_id = m.person_id
				order by at desc, id desc limit $2::bigint + $3::bigint) x where m.site_id = $1) a
		left join person p on p.id = a.person_id left join api_token k on k.id = a.token_id order by a.at desc, a.id desc offset $2::bigint limit $3::bigint`, site, skip, limit)
}

// SetPlace is where a set's password is kept, for the vault.
func SetPlace(id int64) string { return "credential_set.sealed/" + itoa(id) }

// Reseal gives every sealed value of the database to f with its place and writes
// what f returns, all in one transaction; it returns how many there were.
func (s *Store) Reseal(ctx context.Context, f func(sealed []byte, place string) ([]byte, error)) (int, error) {
	n := 0
	err := s.InTx(ctx, func(tx pgx.Tx) error {
		for _, t := range []struct {
			table string
			place func(id int64) string
		}{{"credential_set", SetPlace}, {"known_picture", KnownPlace}} {
			some, err := reseal(ctx, tx, t.table, t.place, f)
			if err != nil {
				return err
			}
			n += some
		}
		return nil
	})
	return n, err
}

func reseal(ctx context.Context, tx pgx.Tx, table string, place func(id int64) string, f func(sealed []byte, place string) ([]byte, error)) (int, error) {
	type row struct {
		ID     int64
		Sealed []byte
	}
	rows, err := queryAll[row](ctx, tx, `select id, sealed from `+table+` order by id for update`)
	if err != nil {
		return 0, err
	}
	b := &pgx.Batch{}
	for _, r := range rows {
		fresh, err := f(r.Sealed, place(r.ID))
		if err != nil {
			return 0, err
		}
		b.Queue(`update `+table+` set sealed = $2 where id = $1`, r.ID, fresh)
	}
	return len(rows), tx.SendBatch(ctx, b).Close()
}

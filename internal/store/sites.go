package store

import (
	"context"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/people"
)

// Site is one place of work.
type Site struct {
	ID        int64
	Name      string
	Zone      string
	ZonePosix string
	Demo      bool
}

// PersonByLogin finds an account and its password hash.
func (s *Store) PersonByLogin(ctx context.Context, login string) (people.Person, string, error) {
	type row struct {
		people.Person
		PasswordHash string
	}
	r, err := one[row](ctx, s.Pool, `select id, login, name, password_hash from person where login = lower($1)`, login)
	return r.Person, r.PasswordHash, err
}

// Person finds an account.
func (s *Store) Person(ctx context.Context, id int64) (people.Person, error) {
	return one[people.Person](ctx, s.Pool, `select id, login, name from person where id = $1`, id)
}

// AddPerson makes an account, or gives an existing one this password.
func (s *Store) AddPerson(ctx context.Context, login, name, hash string) (int64, error) {
	var id int64
	err := s.Pool.QueryRow(ctx, `insert into person (login, name, password_hash) values (lower($1), $2, $3)
		on conflict (login) do update set name = excluded.name, password_hash = excluded.password_hash returning id`, login, name, hash).Scan(&id)
	return id, err
}

// Member is a site and the role a person has on it.
type Member struct {
	Site
	Role people.Role
}

// Sites lists where a person may work.
func (s *Store) Sites(ctx context.Context, person int64) ([]Member, error) {
	return many[Member](ctx, s.Pool, `select s.id, s.name, s.zone, s.zone_posix, s.demo, m.role from site s
		join membership m on m.site_id = s.id where m.person_id = $1 order by s.name`, person)
}

// MemberOf finds one site with the person's role on it; ErrNotFound when there is none.
func (s *Store) MemberOf(ctx context.Context, site, person int64) (Member, error) {
	return one[Member](ctx, s.Pool, `select s.id, s.name, s.zone, s.zone_posix, s.demo, m.role from site s
		join membership m on m.site_id = s.id where s.id = $1 and m.person_id = $2`, site, person)
}

// Site finds a site.
func (s *Store) Site(ctx context.Context, id int64) (Site, error) {
	return one[Site](ctx, s.Pool, `select id, name, zone, zone_posix, demo from site where id = $1`, id)
}

// SiteNamed finds a site by name.
func (s *Store) SiteNamed(ctx context.Context, name string) (Site, error) {
	return one[Site](ctx, s.Pool, `select id, name, zone, zone_posix, demo from site where name = $1`, name)
}

// AddSite makes a site.
func (s *Store) AddSite(ctx context.Context, v Site) (int64, error) {
	var id int64
	err := s.Pool.QueryRow(ctx, `insert into site (name, zone, zone_posix, demo) values ($1, $2, $3, $4) returning id`, v.Name, v.Zone, v.ZonePosix, v.Demo).Scan(&id)
	return id, err
}

// AddMember gives a person a role on a site.
func (s *Store) AddMember(ctx context.Context, site, person int64, role people.Role) error {
	_, err := s.Pool.Exec(ctx, `insert into membership values ($1, $2, $3) on conflict (site_id, person_id) do update set role = excluded.role`, site, person, role)
	return err
}

// Network of a site with what the last look there heard.
type Network struct {
	ID       int64
	Name     string
	Prefix   netip.Prefix
	LookedAt *time.Time
	Look     *Look
}

// Look is what one look at a network heard, in numbers.
type Look struct {
	Addresses int     `json:"addresses"`
	Multicast int     `json:"multicast"`
	Directed  int     `json:"directed"`
	Time      int     `json:"time"`
	RTSP      int     `json:"rtsp"`
	Recorders int     `json:"recorders"`
	Seconds   float64 `json:"seconds"`
	Trouble   string  `json:"trouble"` // what couldn't be tried, worded
}

// Networks of a site in the order they were added.
func (s *Store) Networks(ctx context.Context, site int64) ([]Network, error) {
	return many[Network](ctx, s.Pool, `select id, name, prefix, looked_at, look from network where site_id = $1 order by id`, site)
}

// AddNetwork adds a prefix to a site.
func (s *Store) AddNetwork(ctx context.Context, site int64, name string, p netip.Prefix) error {
	_, err := s.Pool.Exec(ctx, `insert into network (site_id, name, prefix) values ($1, $2, $3)`, site, name, p)
	return err
}

// SealedSet is a credential set with its sealed password.
type SealedSet struct {
	access.Set
	Sealed []byte
}

// Sets lists a site's credential sets in the order they were added.
func (s *Store) Sets(ctx context.Context, site int64) ([]SealedSet, error) {
	return many[SealedSet](ctx, s.Pool, `select id, name, username, make, factory, sealed from credential_set where site_id = $1 order by id`, site)
}

// Set finds one credential set.
func (s *Store) Set(ctx context.Context, id int64) (SealedSet, error) {
	return one[SealedSet](ctx, s.Pool, `select id, name, username, make, factory, sealed from credential_set where id = $1`, id)
}

// AddSet adds a credential set; seal is given the new row's place and returns the
// sealed password.
func (s *Store) AddSet(ctx context.Context, site int64, v access.Set, seal func(place string) ([]byte, error)) (int64, error) {
	var id int64
	err := s.InTx(ctx, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `insert into credential_set (site_id, name, username, make, factory) values ($1, $2, $3, $4, $5) returning id`,
			site, v.Name, v.Username, v.Make, v.Factory).Scan(&id)
		if err != nil {
			return err
		}
		sealed, err := seal(SetPlace(id))
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update credential_set set sealed = $2 where id = $1`, id, sealed)
		return err
	})
	return id, err
}

// Audit writes down who did what. It never holds a secret.
func (s *Store) Audit(ctx context.Context, site, person int64, act, detail string) error {
	_, err := s.Pool.Exec(ctx, `insert into audit (site_id, person_id, act, detail) values (nullif($1::bigint, 0), nullif($2::bigint, 0), $3, $4)`, site, person, act, detail)
	return err
}

// AuditLine is one line of the log.
type AuditLine struct {
	At     time.Time
	Who    string
	Act    string
	Detail string
}

// AuditLines lists the newest lines of a site's log, at most 200.
func (s *Store) AuditLines(ctx context.Context, site int64) ([]AuditLine, error) {
	return many[AuditLine](ctx, s.Pool, `select a.at, coalesce(p.name, 'the product') who, a.act, a.detail from audit a
		left join person p on p.id = a.person_id where a.site_id = $1 order by a.at desc, a.id desc limit 200`, site)
}

// SetPlace is where a set's password is kept, for the vault.
func SetPlace(id int64) string { return "credential_set.sealed/" + itoa(id) }

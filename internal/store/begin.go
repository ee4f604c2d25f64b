package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/people"
)

// Untouched says whether nobody can sign in yet: then the first code is waited for.
func (s *Store) Untouched(ctx context.Context) (yes bool, err error) {
	err = s.db.QueryRow(ctx, `select not exists (select 1 from person)`).Scan(&yes)
	return yes, err
}

// KeepFirstCode keeps the hash of the code that the first person types, as long as nobody
// can sign in. Servers that begin side by side print one each, and each opens.
func (s *Store) KeepFirstCode(ctx context.Context, hash []byte) error {
	_, err := s.db.Exec(ctx, `insert into first_code (hash) select $1 where not exists (select 1 from person) on conflict do nothing`, hash)
	return err
}

// Beginning is what the first person makes: themselves as the lead of a site, its networks
// and its first credential set (nil: none yet).
type Beginning struct {
	Login, Name, PasswordHash string
	Site                      Site
	Networks                  []Network
	Set                       *access.Set
	Seal                      func(place string) ([]byte, error) // of the set's password
}

// Begin makes what the first person asks for, all of it or nothing, and ends all first
// codes. ErrNotFound where no code has that hash, or somebody can sign in already.
func (s *Store) Begin(ctx context.Context, code []byte, v Beginning) (person, site int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `delete from first_code where hash = $1 and not exists (select 1 from person)`, code)
		if err := orNone(tag.RowsAffected(), err); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from first_code`); err != nil {
			return err
		}
		err = tx.QueryRow(ctx, `insert into person (login, name, password_hash) values (lower($1), $2, $3) returning id`,
			v.Login, v.Name, v.PasswordHash).Scan(&person)
		if err != nil {
			return err
		}
		if site, err = addSite(ctx, tx, v.Site, person); err != nil {
			return err
		}
		for _, n := range v.Networks {
			if _, err := tx.Exec(ctx, `insert into network (site_id, name, prefix) values ($1, $2, $3)`, site, n.Name, n.Prefix); err != nil {
				return err
			}
		}
		if v.Set == nil {
			return nil
		}
		_, err = addSet(ctx, tx, site, *v.Set, v.Seal)
		return err
	})
	return person, site, err
}

// addSite makes a site with its first lead.
func addSite(ctx context.Context, tx pgx.Tx, v Site, lead int64) (id int64, err error) {
	err = tx.QueryRow(ctx, `insert into site (name, zone, zone_posix, demo) values ($1, $2, $3, $4) returning id`,
		v.Name, v.Zone, v.ZonePosix, v.Demo).Scan(&id)
	if err == nil && lead != 0 {
		_, err = tx.Exec(ctx, `insert into membership (site_id, person_id, role) values ($1, $2, $3)`, id, lead, people.Lead)
	}
	return id, err
}

// ErrNameTaken is returned for the name of a site that another site has.
var ErrNameTaken = errors.New("another site has that name")

// MakeSite makes a further site, whose lead is who makes it. ErrNameTaken where one of
// theirs has that name.
func (s *Store) MakeSite(ctx context.Context, v Site, lead int64) (id int64, err error) {
	return id, s.InTx(ctx, func(tx pgx.Tx) error {
		if err := nameFree(ctx, tx, lead, 0, v.Name); err != nil {
			return err
		}
		id, err = addSite(ctx, tx, v, lead)
		return err
	})
}

// nameFree says whether none of a person's sites but one has a name; it holds off who
// makes or renames a site of theirs meanwhile.
func nameFree(ctx context.Context, tx pgx.Tx, person, but int64, name string) error {
	if _, err := tx.Exec(ctx, `select 1 from person where id = $1 for no key update`, person); err != nil {
		return err
	}
	var taken bool
	err := tx.QueryRow(ctx, `select exists (select 1 from site s join membership m on m.site_id = s.id where m.person_id = $1 and s.id <> $2 and lower(s.name) = lower($3))`, person, but, name).Scan(&taken)
	if err == nil && taken {
		err = ErrNameTaken
	}
	return err
}

// SetSite gives a site another name and zone, on behalf of one of its people. ErrNameTaken
// where another of theirs has that name.
func (s *Store) SetSite(ctx context.Context, person int64, v Site) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if err := nameFree(ctx, tx, person, v.ID, v.Name); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `update site set name = $2, zone = $3, zone_posix = $4 where id = $1`, v.ID, v.Name, v.Zone, v.ZonePosix)
		return orNone(tag.RowsAffected(), err)
	})
}

// ErrBusy is returned for what can't be done to a site while a run of it is under way, or to
// a device while a change of it is being made.
var ErrBusy = errors.New("it is being worked on")

// PutAway puts a site away, or takes it out again: what is put away is kept whole, shown
// nowhere but in the list of sites, and does nothing by itself. ErrBusy while a run of
// it is under way.
func (s *Store) PutAway(ctx context.Context, site int64, away bool) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `select 1 from site where id = $1 for update`, site); err != nil {
			return err
		}
		var busy bool
		if err := tx.QueryRow(ctx, `select exists (select 1 from run where site_id = $1 and ended_at is null)`, site).Scan(&busy); err != nil {
			return err
		}
		if busy && away {
			return ErrBusy
		}
		tag, err := tx.Exec(ctx, `update site set put_away_at = case when $2 then coalesce(put_away_at, now()) end where id = $1`, site, away)
		return orNone(tag.RowsAffected(), err)
	})
}

// SitePast is a site in the list of all of a person's.
type SitePast struct {
	Member
	Cameras, Recorders int
	Away               bool
}

// AllSites lists a person's sites with how many devices each has, those that are put away
// last.
func (s *Store) AllSites(ctx context.Context, person int64) ([]SitePast, error) {
	return queryAll[SitePast](ctx, s.db, `select `+siteColumns+`, m.role, s.put_away_at is not null away,
		(select count(*) from device d where d.site_id = s.id and d.kind = 'camera') cameras,
		(select count(*) from device d where d.site_id = s.id and d.kind = 'recorder') recorders
		from site s join membership m on m.site_id = s.id where m.person_id = $1 order by away, s.name, s.id`, person)
}

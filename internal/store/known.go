package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/known"
)

// maxKnownSets is how many sets of references a site keeps.
const maxKnownSets = 40

// KnownPlace is the place in which a reference picture is sealed.
func KnownPlace(picture int64) string { return fmt.Sprintf("known_picture.sealed/%d", picture) }

// KnownSets are a site's sets of references by name, with their entries by name and their pictures in the order in which they came. The
// pictures themselves aren't read.
func (s *Store) KnownSets(ctx context.Context, site int64) (out []known.Set, err error) {
	type row struct {
		ID, Entry, Picture                 *int64
		Key                                string
		Name, Kind, Who, Ground, Digest    *string
		Least, Nearly                      float64
		TellsNearly, TellsUnknown, GoneYet bool
		Since, Ends                        *time.Time
	}
	rows, err := queryAll[row](ctx, s.db, `select k.id, k.key::text key, k.name, k.kind, round(k.least::numeric, 4)::float8 least, round(k.nearly::numeric, 4)::float8 nearly, k.tells_nearly, k.tells_unknown,
		e.id entry, e.name who, e.ground, e.since, e.ends, e.gone_at is not null gone_yet, p.id picture, p.digest
		from known_set k left join known_entry e on e.set_id = k.id left join known_picture p on p.entry_id = e.id
		where k.site_id = $1 order by k.name, k.id, e.name, e.id, p.id`, site)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if n := len(out); n == 0 || out[n-1].ID != *r.ID {
			out = append(out, known.Set{ID: *r.ID, Key: r.Key, Name: *r.Name, Kind: known.Kind(*r.Kind), Least: r.Least, Nearly: r.Nearly, Close: r.TellsNearly, Unknown: r.TellsUnknown})
		}
		set := &out[len(out)-1]
		if r.Entry == nil {
			continue
		}
		if n := len(set.Entries); n == 0 || set.Entries[n-1].ID != *r.Entry {
			set.Entries = append(set.Entries, known.Entry{ID: *r.Entry, Name: *r.Who, Ground: *r.Ground, Since: r.Since.UTC(), Ends: r.Ends.UTC(), Gone: r.GoneYet})
		}
		if r.Picture != nil {
			e := &set.Entries[len(set.Entries)-1]
			e.Pictures = append(e.Pictures, known.Picture{ID: *r.Picture, Digest: *r.Digest})
		}
	}
	return out, nil
}

// keptBy words what a constraint says of a row that was to be kept.
func keptBy(err error) error {
	var pg *pgconn.PgError
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return ErrFull
	case errors.As(err, &pg) && pg.Code == "23505":
		return ErrTaken
	}
	return err
}

// KeepKnownSet keeps a set; 0 is a new one. ErrTaken where the site has one of the name, ErrFull where it keeps as many as can be,
// ErrNotFound where it has no such set.
func (s *Store) KeepKnownSet(ctx context.Context, site int64, k known.Set) (id int64, err error) {
	if k.ID == 0 {
		err = s.db.QueryRow(ctx, `insert into known_set (site_id, name, kind, least, nearly, tells_nearly, tells_unknown) select $1, $2, $3, $4, $5, $6, $7
			where (select count(*) from known_set where site_id = $1) < $8 returning id`, site, k.Name, k.Kind, k.Least, k.Nearly, k.Close, k.Unknown, maxKnownSets).Scan(&id)
		return id, keptBy(err)
	}
	err = s.db.QueryRow(ctx, `update known_set set name = $3, least = $4, nearly = $5, tells_nearly = $6, tells_unknown = $7 where site_id = $1 and id = $2 returning id`,
		site, k.ID, k.Name, k.Least, k.Nearly, k.Close, k.Unknown).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, ErrNotFound
	}
	return id, keptBy(err)
}

// DropKnownSet forgets a set that has no entries any more.
func (s *Store) DropKnownSet(ctx context.Context, site, id int64) error {
	tag, err := s.db.Exec(ctx, `delete from known_set k where site_id = $1 and id = $2 and not exists (select from known_entry e where e.set_id = k.id)`, site, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// KeepKnown keeps an entry of a set; 0 is a new one. Errors are those of KeepKnownSet.
func (s *Store) KeepKnown(ctx context.Context, site, set int64, e known.Entry) (id int64, err error) {
	if e.ID == 0 {
		err = s.db.QueryRow(ctx, `insert into known_entry (set_id, name, ground, since, ends) select k.id, $3, $4, $5, $6 from known_set k where k.site_id = $1 and k.id = $2
			and (select count(*) from known_entry where set_id = k.id) < $7 returning id`, site, set, e.Name, e.Ground, e.Since, e.Ends, known.MostEntries).Scan(&id)
		return id, keptBy(err)
	}
	err = s.db.QueryRow(ctx, `update known_entry e set name = $4, ground = $5, since = $6, ends = $7 from known_set k where k.id = e.set_id and k.site_id = $1 and k.id = $2 and e.id = $3
		and e.gone_at is null returning e.id`, site, set, e.ID, e.Name, e.Ground, e.Since, e.Ends).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, ErrNotFound
	}
	return id, keptBy(err)
}

// AddKnownPicture keeps a picture of an entry, as seal seals it for its place. ErrFull where the entry, or its set, has as many as can
// be; ErrTaken where it has the very same one.
func (s *Store) AddKnownPicture(ctx context.Context, site, entry int64, digest, by string, seal func(place string) ([]byte, error)) (id int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		var had, all int
		var same bool
		err := tx.QueryRow(ctx, `select (select count(*) from known_picture p where p.entry_id = e.id), (select count(*) from known_picture p join known_entry x on x.id = p.entry_id where x.set_id = e.set_id),
			exists (select from known_picture p where p.entry_id = e.id and p.digest = $3)
			from known_entry e join known_set k on k.id = e.set_id where k.site_id = $1 and e.id = $2 and e.gone_at is null for update of k`, site, entry, digest).Scan(&had, &all, &same)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return ErrNotFound
		case err != nil:
			return err
		case same:
			return ErrTaken
		case had >= known.MostPictures || all >= known.MostOfSet:
			return ErrFull
		}
		if err := tx.QueryRow(ctx, `insert into known_picture (entry_id, digest, sealed, added_by) values ($1, $2, '', $3) returning id`, entry, digest, by).Scan(&id); err != nil {
			return err
		}
		sealed, err := seal(KnownPlace(id))
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update known_picture set sealed = $2 where id = $1`, id, sealed)
		return err
	})
	return id, err
}

// DropKnownPicture deletes a picture, and tells whose it was.
func (s *Store) DropKnownPicture(ctx context.Context, site, picture int64) (name string, err error) {
	err = s.db.QueryRow(ctx, `delete from known_picture p using known_entry e, known_set k where e.id = p.entry_id and k.id = e.set_id and k.site_id = $1 and p.id = $2 returning e.name`, site, picture).Scan(&name)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", ErrNotFound
	}
	return name, err
}

// KnownPicture is a sealed picture of a site, with whose it is.
func (s *Store) KnownPicture(ctx context.Context, site, picture int64) (sealed []byte, name string, err error) {
	err = s.db.QueryRow(ctx, `select p.sealed, e.name from known_picture p join known_entry e on e.id = p.entry_id join known_set k on k.id = e.set_id where k.site_id = $1 and p.id = $2`, site, picture).Scan(&sealed, &name)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, "", ErrNotFound
	}
	return sealed, name, err
}

// SealedPicture is one of an entry's pictures.
type SealedPicture struct {
	ID     int64
	Sealed []byte
}

// KnownPictures are an entry's pictures, in the order in which they came.
func (s *Store) KnownPictures(ctx context.Context, site, entry int64) ([]SealedPicture, error) {
	return queryAll[SealedPicture](ctx, s.db, `select p.id, p.sealed from known_picture p join known_entry e on e.id = p.entry_id join known_set k on k.id = e.set_id
		where k.site_id = $1 and e.id = $2 order by p.id`, site, entry)
}

// Unknow deletes entries' pictures, and the entries themselves but for those that held names: they stay as what is to be deleted at an
// analyser yet.
func (s *Store) Unknow(ctx context.Context, site int64, entries, held []int64) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		b := &pgx.Batch{}
		const of = ` from known_entry e join known_set k on k.id = e.set_id where k.site_id = $1 and e.id = any($2)`
		b.Queue(`delete from known_picture where entry_id in (select e.id`+of+`)`, site, entries)
		b.Queue(`update known_entry set gone_at = coalesce(gone_at, now()) where id in (select e.id`+of+`)`, site, entries)
		b.Queue(`delete from known_entry where id in (select e.id`+of+` and e.id <> all(coalesce($3::bigint[], '{}')))`, site, entries, held)
		return tx.SendBatch(ctx, b).Close()
	})
}

// EndKnown deletes the pictures of all whose end has come, by the day in their site's zone, and says whose they were by site.
func (s *Store) EndKnown(ctx context.Context, now time.Time) (ended map[int64][]string, err error) {
	type row struct {
		SiteID int64
		Name   string
	}
	rows, err := queryAll[row](ctx, s.db, `with over as (update known_entry e set gone_at = now() from known_set k join site t on t.id = k.site_id where k.id = e.set_id and e.gone_at is null and e.ends <= ($1::timestamptz at time zone t.zone)::date returning e.id, k.site_id, e.name),
		dropped as (delete from known_picture p using over o where p.entry_id = o.id),
		told as (insert into audit (site_id, act, detail) select site_id, 'deleted reference pictures', name || ': their end has come' from over)
		select site_id, name from over order by site_id, name`, now)
	if err != nil {
		return nil, err
	}
	ended = map[int64][]string{}
	for _, r := range rows {
		ended[r.SiteID] = append(ended[r.SiteID], r.Name)
	}
	return ended, nil
}

// AuditOnce writes down what somebody did, unless the same stands there within the last time.
func (s *Store) AuditOnce(ctx context.Context, e AuditEntry, within time.Duration) error {
	var had bool
	err := s.db.QueryRow(ctx, `select exists (select from audit where site_id = $1 and person_id is not distinct from nullif($2, 0)::bigint and token_id is not distinct from nullif($3, 0)::bigint and act = $4 and detail = $5 and at > now() - $6::interval)`,
		e.Site, e.Person, e.Token, e.Act, e.Detail, within).Scan(&had)
	if err != nil || had {
		return err
	}
	return s.Audit(ctx, e)
}

package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/scene"
)

// Gathering is a view whose analytics are listened to.
type Gathering struct {
	SourceID  int64
	AskedAt   time.Time
	Held      bool // a server listens now
	Trouble   string
	Documents int // received
	Objects   int
	Lost      int // documents that came incomplete
	Without   int // objects without a box
}

// SetGathering has views of a site be listened to, or not any more.
func (s *Store) SetGathering(ctx context.Context, site int64, sources []int64, on bool) error {
	if !on {
		_, err := s.db.Exec(ctx, `delete from gathering g using source s where s.id = g.source_id and s.site_id = $1 and s.id = any($2)`, site, sources)
		return err
	}
	_, err := s.db.Exec(ctx, `insert into gathering (source_id) select id from source where site_id = $1 and id = any($2)
		on conflict (source_id) do update set again_at = '-infinity'`, site, sources)
	return err
}

// GatheringOf is how a view is listened to; ErrNotFound where it isn't.
func (s *Store) GatheringOf(ctx context.Context, source int64) (Gathering, error) {
	return queryOne[Gathering](ctx, s.db, `select source_id, asked_at, held_until > now() held, trouble, documents, objects, lost, without
		from gathering where source_id = $1`, source)
}

// ClaimGatherings takes views that no server listens to, at most so many, for a while; see KeepGathering.
func (s *Store) ClaimGatherings(ctx context.Context, server string, most int, hold time.Duration) (sources []int64, err error) {
	return ids(ctx, s.db, `update gathering set server = $1, held_until = now() + $3::interval where source_id in
		(select source_id from gathering where held_until < now() and again_at < now() order by again_at limit $2 for update skip locked)
		returning source_id`, server, most, hold)
}

// Gathered is what a server received since it said so last.
type Gathered struct {
	Documents, Objects, Lost, Without int
	Began, Until                      time.Time // listened to since, and up to
	Pieces                            []Piece
	Fired                             []Fired // what its rules told of
}

// Piece is an object's points of a few seconds.
type Piece struct {
	Object, Class string
	Traits        scene.Traits
	Crop          []byte             // its picture, JPEG; nil: none came, or none that shows it better
	Points        []scene.TrackPoint // At counts from 1970-01-01 UTC
}

// KeepGathering keeps what was received of a view, and goes on holding it. ErrNotFound where it is another server's, or
// isn't to be listened to any more.
func (s *Store) KeepGathering(ctx context.Context, server string, source int64, got Gathered, hold time.Duration) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		rows, days := pieceRows(source, got.Pieces)
		var lacking []time.Time
		held := false
		var b pgx.Batch // one way there and back
		b.Queue(`update gathering set held_until = now() + $3::interval, trouble = '', documents = documents + $4, objects = objects + $5,
			lost = lost + $6, without = without + $7 where source_id = $1 and server = $2 and held_until > now()`,
			source, server, hold, got.Documents, got.Objects, got.Lost, got.Without).Exec(func(tag pgconn.CommandTag) error {
			held = tag.RowsAffected() > 0
			return nil
		})
		b.Queue(`insert into seen_span (source_id, began_at, ended_at) values ($1, $2, $3)
			on conflict (source_id, began_at) do update set ended_at = excluded.ended_at`, source, got.Began, got.Until)
		for _, day := range days {
			b.Queue(`select to_regclass($1) is not null`, seenName(day)).QueryRow(func(row pgx.Row) error {
				var there bool
				if err := row.Scan(&there); err != nil || there {
					return err
				}
				lacking = append(lacking, day)
				return nil
			})
		}
		if err := tx.SendBatch(ctx, &b).Close(); err != nil {
			return err
		}
		if !held {
			return ErrNotFound
		}
		if len(got.Fired) > 0 {
			if err := keepFired(ctx, tx, source, got.Fired); err != nil {
				return err
			}
		}
		if len(rows) == 0 {
			return nil
		}
		for _, day := range lacking {
			if err := makeSeenDay(ctx, tx, day); err != nil {
				return err
			}
		}
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"seen"}, []string{"source_id", "began_at", "ended_at", "object", "class", "traits", "points", "crop"}, pgx.CopyFromRows(rows))
		return err
	})
}

// pieceRows are the rows of pieces, and the days that they end on.
func pieceRows(source int64, all []Piece) (rows [][]any, days []time.Time) {
	at := func(d time.Duration) time.Time { return time.Unix(0, int64(d)).UTC() }
	for _, p := range all {
		if len(p.Points) == 0 {
			continue
		}
		began, ended := at(p.Points[0].At), at(p.Points[len(p.Points)-1].At)
		if day := ended.Truncate(24 * time.Hour); !slices.Contains(days, day) {
			days = append(days, day)
		}
		rows = append(rows, []any{source, began, ended, p.Object, p.Class, p.Traits, scene.Pack(p.Points), p.Crop})
	}
	return rows, days
}

const dayOf = "20060102"

// seenName is the part of the table that holds a day.
func seenName(day time.Time) string { return "seen_" + day.Format(dayOf) }

// makeSeenDay makes it.
func makeSeenDay(ctx context.Context, tx pgx.Tx, day time.Time) error {
	if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock(hashtext('seen'))`); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, fmt.Sprintf(`create table if not exists %s partition of seen for values from ('%s') to ('%s')`,
		pgx.Identifier{seenName(day)}.Sanitize(), day.Format(time.RFC3339), day.Add(24*time.Hour).Format(time.RFC3339)))
	return err
}

// LoseGathering lets a view go, with what hindered it: no server tries it again for a while.
func (s *Store) LoseGathering(ctx context.Context, server string, source int64, trouble string, again time.Duration) error {
	_, err := s.db.Exec(ctx, `update gathering set held_until = '-infinity', trouble = $3, again_at = now() + $4::interval where source_id = $1 and server = $2`,
		source, server, trouble, again)
	return err
}

// DropSeen drops what was seen before the day of a moment, of all sites, a day's part of the table at once; and of a site
// that may keep no recording for so long, what is older than it may keep.
func (s *Store) DropSeen(ctx context.Context, before time.Time) error {
	rows, err := s.db.Query(ctx, `select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid where i.inhparent = 'seen'::regclass and c.relname < $1`,
		"seen_"+before.UTC().Format(dayOf))
	if err != nil {
		return err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, name := range names {
		if _, err := s.db.Exec(ctx, `drop table if exists `+pgx.Identifier{name}.Sanitize()); err != nil {
			return err
		}
	}
	if _, err := s.db.Exec(ctx, `delete from seen x using source s, site t where s.id = x.source_id and t.id = s.site_id
		and t.most_days > 0 and x.ended_at < now() - make_interval(days => t.most_days)`); err != nil {
		return err
	}
	for _, old := range []string{`delete from seen_span where ended_at < $1`, `delete from fired where at < $1`, `delete from checked where at < $1`} {
		if _, err := s.db.Exec(ctx, old, before); err != nil {
			return err
		}
	}
	_, err = s.db.Exec(ctx, `delete from fired x using source s, site t where s.id = x.source_id and t.id = s.site_id
		and t.most_days > 0 and x.at < now() - make_interval(days => t.most_days)`)
	return err
}

// Seen is what a view's analytics saw from one moment to another, of at most so many bytes of points, and the times in which
// they were listened to. more says that there is more than that.
func (s *Store) Seen(ctx context.Context, source int64, from, to time.Time, most int) (tracks []scene.Track, listened [][2]time.Time, more bool, err error) {
	rows, err := s.db.Query(ctx, `select object, class, traits, points, crop is not null from seen where source_id = $1 and ended_at >= $2 and ended_at <= $3 order by began_at, object`, source, from, to)
	if err != nil {
		return nil, nil, false, err
	}
	at := map[string]int{}
	bytes := 0
	var object, class string
	var packed []byte
	var traits scene.Traits
	var pictured bool
	_, err = pgx.ForEachRow(rows, []any{&object, &class, &traits, &packed, &pictured}, func() error {
		if bytes += len(packed); bytes > most {
			more = true
			return nil
		}
		i, there := at[object]
		if !there {
			i = len(tracks)
			at[object] = i
			tracks = append(tracks, scene.Track{ID: object, Class: class})
		}
		tracks[i].Traits = tracks[i].Traits.Also(traits)
		traits, tracks[i].Pictured = scene.Traits{}, tracks[i].Pictured || pictured
		var err error
		tracks[i].Points, err = scene.Unpack(tracks[i].Points, packed)
		return err
	})
	if err != nil {
		return nil, nil, false, err
	}
	rows, err = s.db.Query(ctx, `select greatest(began_at, $2), least(ended_at, $3) from seen_span where source_id = $1 and ended_at > $2 and began_at < $3 order by began_at`, source, from, to)
	if err != nil {
		return nil, nil, false, err
	}
	var span [2]time.Time
	_, err = pgx.ForEachRow(rows, []any{&span[0], &span[1]}, func() error {
		listened = append(listened, span)
		return nil
	})
	return tracks, listened, more, err
}

// Crop is the latest picture that was kept of an object of a site's view, within an hour of a moment; ErrNotFound where none was.
func (s *Store) Crop(ctx context.Context, site, source int64, object string, at time.Time) (picture []byte, err error) {
	err = s.db.QueryRow(ctx, `select x.crop from seen x join source s on s.id = x.source_id where s.site_id = $1 and x.source_id = $2 and x.object = $3
		and x.ended_at between $4 and $5 and x.crop is not null order by x.ended_at desc limit 1`, site, source, object, at.Add(-time.Hour), at.Add(time.Hour)).Scan(&picture)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return picture, err
}

// Cropped is an object of which a picture was kept.
type Cropped struct {
	SourceID      int64
	Place         string
	Object, Class string
	At            time.Time // when it was seen last
}

// Crops are the objects that were seen last of those of which a picture was kept, the latest first, each once; of some classes, or of all.
func (s *Store) Crops(ctx context.Context, site int64, classes []string, most int) ([]Cropped, error) {
	return queryAll[Cropped](ctx, s.db, `select source_id, place, object, class, at from (
			select distinct on (x.source_id, x.object) x.source_id, s.name place, x.object, x.class, x.ended_at at from seen x join source s on s.id = x.source_id
				where s.site_id = $1 and x.crop is not null and x.ended_at > now() - interval '1 day' and (x.class = any($2) or cardinality($2::text[]) = 0) order by x.source_id, x.object, x.ended_at desc) c
		order by at desc, source_id, object limit $3`, site, append([]string{}, classes...), most)
}

package store

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stream"
)

// Source is one view of a device, as it is enrolled: a row of the Board. A recorder has
// none: as a Source it is its Device alone.
type Source struct {
	ID         int64 // 0: a recorder
	Nth        int   // among its device's views, from 1
	Video      string
	Place      string
	RecorderID *int64 // planned
	Channel    int    // planned; 0: any
	Input      int    // which of the device's video sources, from 1 in its own order; 0: not known, or it has one
	Consent    stream.Consent
	Marks      *stream.Scale   // nil: nobody set any
	Accepted   stream.Pictures // by people
	PlanID     *int64          // recording plan that was chosen; nil: none
	Locked     bool            // to the recorder that is planned
	Together   string          // name of those that go to one recorder; empty: it goes alone
	Uses       stream.Uses     // which streams a person wants for what
	Turned     scene.Turned    // how its analytics lie on its picture, as a person said
	Key        string          // by which an analyser knows it: no other view has it
	Paired     *Paired         // who looks at it for it; nil: nobody does
	Device     Device
}

// Paired says which analyser looks at a view, how it is to, and since when.
type Paired struct {
	Analyser int64
	pairing.Wish
	At time.Time
}

// First says whether it is the first view of its device: the one that is there before
// anyone picked, and that stands for the device where one row does.
func (s Source) First() bool { return s.Nth <= 1 }

// Target is what a step is of: a view of a camera; with Source 0 a device as a whole.
type Target struct{ Device, Source int64 }

// Whole is the device as a source without a view: a recorder, for rules that judge
// sources.
func (d Device) Whole() Source { return Source{Place: d.Place, Device: d} }

// sourceColumns are of source s and device d; where d has no source, of d alone.
const sourceColumns = deviceColumns + `, coalesce(s.id, 0) src, coalesce(s.nth, 0) nth, coalesce(s.video, '') video, coalesce(s.name, d.place) src_place, s.recorder_id, coalesce(s.channel, 0) channel, coalesce(s.input, 0) input, coalesce(s.consent, '') consent, coalesce(s.consent_by, '') consent_by, s.consent_at, s.marks, s.pictures, s.plan_id, coalesce(s.locked, false) locked, coalesce(s.together, '') together, coalesce(s.uses, '{}') uses, coalesce(s.turned, 0) turned, coalesce(s.key::text, '') key, s.analyser_id, coalesce(s.stills, 0)::float8 stills, coalesce(s.least_score, 0)::float8 least_score, coalesce(s.looks_within, '') looks_within, s.paired_at`

// sourceFrom lists views.
const sourceFrom = ` from source s join device d on d.id = s.device_id `

type sourceRow struct {
	Device
	Src         int64
	Nth         int
	Video       string
	SrcPlace    string
	RecorderID  *int64
	Channel     int
	Input       int
	Consent     string
	ConsentBy   string
	ConsentAt   *time.Time
	Marks       *stream.Scale
	Pictures    stream.Pictures
	PlanID      *int64
	Locked      bool
	Together    string
	Uses        stream.Uses
	Turned      scene.Turned
	Key         string
	AnalyserID  *int64
	Stills      float64
	LeastScore  float64
	LooksWithin string
	PairedAt    *time.Time
}

func (r sourceRow) source() Source {
	consent := stream.Consent{Text: r.Consent, By: r.ConsentBy}
	if r.ConsentAt != nil {
		consent.At = *r.ConsentAt
	}
	var paired *Paired
	if r.AnalyserID != nil && r.PairedAt != nil {
		paired = &Paired{*r.AnalyserID, pairing.Wish{PerSecond: r.Stills, LeastScore: r.LeastScore, Within: r.LooksWithin}, *r.PairedAt}
	}
	return Source{Key: r.Key, Paired: paired, Consent: consent, Marks: r.Marks, Accepted: r.Pictures, PlanID: r.PlanID, Locked: r.Locked, Together: r.Together, Uses: r.Uses, Turned: r.Turned, ID: r.Src, Nth: r.Nth, Video: r.Video, Place: r.SrcPlace, RecorderID: r.RecorderID, Channel: r.Channel, Input: r.Input, Device: r.Device}
}

// sourcesIn reads rows of sourceColumns.
func sourcesIn(rows pgx.Rows) ([]Source, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (Source, error) {
		r, err := pgx.RowToStructByName[sourceRow](row)
		return r.source(), err
	})
}

// Source finds what a step is of: the view, or with Source 0 the device's first view; a
// recorder as a whole.
func (s *Store) Source(ctx context.Context, t Target) (Source, error) {
	return found(s.coalesced.sources.Call(ctx, t))
}

// SourceByID finds a view by its number.
func (s *Store) SourceByID(ctx context.Context, id int64) (Source, error) {
	return sourceByID(ctx, s.db, id)
}

func sourceByID(ctx context.Context, q querier, id int64) (Source, error) {
	all, err := querySources(ctx, q, `where s.id = $1`, id)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Source{}, err
	}
	return all[0], nil
}

// querySources lists the views that a where clause, with its order, takes.
func querySources(ctx context.Context, q querier, where string, args ...any) ([]Source, error) {
	rows, err := q.Query(ctx, `select `+sourceColumns+sourceFrom+where, args...)
	if err != nil {
		return nil, err
	}
	return sourcesIn(rows)
}

func (s *Store) sourcesAtOnce(ctx context.Context, all []Target) ([]*Source, error) {
	devices, sources := make([]int64, len(all)), make([]int64, len(all))
	for i, t := range all {
		devices[i], sources[i] = t.Device, t.Source
	}
	rows, err := s.db.Query(ctx, `select `+sourceColumns+` from device d left join source s on s.device_id = d.id and (s.nth = 1 or s.id = any($2)) where d.id = any($1)`, devices, sources)
	if err != nil {
		return nil, err
	}
	got, err := sourcesIn(rows)
	out := make([]*Source, len(all))
	for i, t := range all {
		if at := slices.IndexFunc(got, func(x Source) bool {
			return x.Device.ID == t.Device && (x.ID == t.Source || t.Source == 0 && x.First())
		}); at >= 0 {
			out[i] = &got[at]
		}
	}
	return out, err
}

// PickViews keeps which video sources of a device the site uses, in the person's order:
// each has a row of its own. What was enrolled before keeps its row, see identity.Enroll.
func (s *Store) PickViews(ctx context.Context, device int64, tokens, names []string) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		var place string
		var site int64
		if err := tx.QueryRow(ctx, `select place, site_id from device where id = $1 for no key update`,
			device).Scan(&place, &site); err != nil {
			return err
		}
		rows, err := queryAll[identity.EnrolledSource](ctx, tx, `select id, video, input from source where device_id = $1 order by nth`, device)
		if err != nil {
			return err
		}
		rowOf, gone := identity.Enroll(rows, tokens)
		b := &pgx.Batch{}
		b.Queue(`update source set nth = -nth where device_id = $1`, device) // so that no two are the same nth in between
		for i, t := range tokens {
			if rowOf[i] != 0 {
				b.Queue(`update source set nth = $2, video = $3 where id = $1`, rowOf[i], i+1, t)
				continue
			}
			b.Queue(`insert into source (device_id, site_id, nth, video, name, recorder_id) select d.id, d.site_id, $2, $3, $4,
				(select recorder_id from source where device_id = d.id order by abs(nth) limit 1) from device d where d.id = $1`, device, i+1, t, nameOf(place, names, i))
		}
		b.Queue(`delete from source where id = any($1)`, gone)
		b.Queue(`update source s set input = case when jsonb_array_length(f.value) > 1 then e.n else 0 end from fact f, jsonb_array_elements(f.value) with ordinality e(v, n)
			where s.device_id = $1 and f.device_id = $1 and f.name = $2 and e.v->>'token' = s.video`, device, fact.VideoSources)
		b.Queue(endIdle, site)
		b.Queue(`update device set views = $2, version = version + 1 where id = $1`, device, len(tokens))
		return tx.SendBatch(ctx, b).Close()
	})
}

// ShowListed has the rows of devices whose inputs the expected list names show those, once it is
// known which the devices have; see identity.Listed. What was read of a view that a row
// doesn't show any more is forgotten.
func (s *Store) ShowListed(ctx context.Context, devices []int64) error {
	type row struct {
		identity.EnrolledSource
		DeviceID int64
		Tokens   []string
	}
	return s.InTx(ctx, func(tx pgx.Tx) error {
		all, err := queryAll[row](ctx, tx, `select s.id, s.video, s.input, s.device_id, (select jsonb_path_query_array(f.value, '$[*].token') from fact f where f.device_id = s.device_id and f.name = $2) tokens
			from source s where s.device_id = any($1) and exists (select 1 from source o where o.device_id = s.device_id and o.input > 0) order by s.device_id, s.nth for no key update of s`, devices, fact.VideoSources)
		if err != nil {
			return err
		}
		rows, tokens := map[int64][]identity.EnrolledSource{}, map[int64][]string{}
		for _, r := range all {
			rows[r.DeviceID], tokens[r.DeviceID] = append(rows[r.DeviceID], r.EnrolledSource), r.Tokens
		}
		b := &pgx.Batch{}
		for device, its := range rows {
			if len(tokens[device]) == 0 {
				continue
			}
			shows := identity.Listed(its, tokens[device])
			for id, video := range shows {
				b.Queue(`delete from fact where source_id = $1`, id)
				b.Queue(`update source set video = $2 where id = $1`, id, video)
			}
			if len(shows) > 0 {
				b.Queue(`update device set views = (select count(*) from source where device_id = $1 and video <> ''), version = version + 1 where id = $1`, device)
			}
		}
		return tx.SendBatch(ctx, b).Close()
	})
}

// DropSource takes a further view of a device off the site, with what was read of it; the
// device and its first view stay. ErrNotFound where there is none, ErrBusy while a change of
// the device is being made.
func (s *Store) DropSource(ctx context.Context, site, source int64) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		var device int64
		var busy bool
		err := tx.QueryRow(ctx, `select device_id, exists (select 1 from change c where c.device_id = s.device_id and c.state in ('asked', 'sent', 'read back'))
			from source s where s.site_id = $1 and s.id = $2 and s.nth > 1`, site, source).Scan(&device, &busy)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
			return ErrNotFound
		case err != nil:
			return err
		case busy:
			return ErrBusy
		}
		b := &pgx.Batch{}
		b.Queue(`delete from source where id = $1`, source)
		b.Queue(endIdle, site)
		b.Queue(`update device set views = (select count(*) from source where device_id = $1 and video <> ''), version = version + 1 where id = $1`, device)
		return tx.SendBatch(ctx, b).Close()
	})
}

// nameOf is what the row of the ith picked view is called at first.
func nameOf(place string, names []string, i int) string {
	if i == 0 {
		return place
	}
	return identity.ViewPlace(place, names[i])
}

// Name gives a view its place; with its first view the device gets it and comes on the
// list, and further views that are called after it follow.
func (s *Store) Name(ctx context.Context, source int64, place string) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		v, err := sourceByID(ctx, tx, source)
		if err != nil {
			return err
		}
		b := &pgx.Batch{}
		queueName(b, v, place)
		return tx.SendBatch(ctx, b).Close()
	})
}

func queueName(b *pgx.Batch, v Source, place string) {
	b.Queue(`update source set name = $2 where id = $1`, v.ID, place)
	if v.First() {
		was, is := identity.ViewPlace(v.Device.Place, ""), identity.ViewPlace(place, "")
		b.Queue(`update source set name = $3 || substr(name, length($2) + 1) where device_id = $1 and nth > 1 and starts_with(name, $2)`, v.Device.ID, was, is)
		b.Queue(`update device set place = $2, expected = true, expected_at = coalesce(expected_at, address) where id = $1`, v.Device.ID, place)
	}
	b.Queue(`update device set version = version + 1 where id = $1`, v.Device.ID)
}

// NameAll gives views their places as Name does, in one round trip: the nth view the nth name.
func (s *Store) NameAll(ctx context.Context, of []Source, places []string) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		b := &pgx.Batch{}
		for i, v := range of {
			queueName(b, v, places[i])
		}
		return tx.SendBatch(ctx, b).Close()
	})
}

// CalledSo lists which of these names views of a site have, besides some.
func (s *Store) CalledSo(ctx context.Context, site int64, names []string, besides []int64) ([]string, error) {
	rows, err := s.db.Query(ctx, `select name from source where site_id = $1 and lower(name) = any(select lower(n) from unnest($2::text[]) n) and not id = any($3) order by name limit 5`, site, names, besides)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// ViewsOf lists the video sources of a device that were picked.
func (s *Store) ViewsOf(ctx context.Context, device int64) ([]string, error) {
	rows, err := s.db.Query(ctx, `select video from source where device_id = $1 and video <> '' order by nth`, device)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// OfDevices are devices as what steps are of.
func OfDevices(ids ...int64) []Target {
	out := make([]Target, len(ids))
	for i, id := range ids {
		out[i] = Target{Device: id}
	}
	return out
}

// SetPaths keeps where a device's streams are had by RTSP, see stream.ParsePaths; what was read
// of them at other addresses is forgotten. ErrNotFound where the site has no such device.
func (s *Store) SetPaths(ctx context.Context, site, device int64, paths []string) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `update device set paths = $3, version = version + 1 where site_id = $1 and id = $2`, site, device, none(paths))
		if err := orNone(tag.RowsAffected(), err); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `delete from fact where device_id = $1 and name = any($2)`, device, []string{fact.Profiles, fact.Measured, fact.StreamsRead})
		return err
	})
}

// mostNamed is how many streams of a site are kept for devices that weren't found yet.
const mostNamed = 1000

// NamePath keeps a stream that a person named at an address, for the device that is found there;
// see AdoptPaths.
func (s *Store) NamePath(ctx context.Context, site int64, at netip.Addr, path string) error {
	_, err := s.db.Exec(ctx, `insert into named_path (site_id, address, path)
		select $1, $2, $3 where (select count(*) from named_path where site_id = $1) < $4 on conflict do nothing`, site, at, path, mostNamed)
	return err
}

// AdoptPaths gives devices of a site the streams that were named at their addresses, after those
// that they have, most of them each.
func (s *Store) AdoptPaths(ctx context.Context, site int64, most int) error {
	_, err := s.db.Exec(ctx, `with named as (
			delete from named_path n using device d where n.site_id = $1 and d.site_id = $1 and d.address = n.address
			returning d.id, n.path, n.at),
		added as (select d.id, array_agg(n.path order by n.at, n.path) as paths from device d join named n on n.id = d.id where not n.path = any(d.paths) group by d.id)
		update device d set paths = (d.paths || a.paths)[1:$2], version = version + 1 from added a where a.id = d.id`, site, most)
	return err
}

// SetConsent writes down that sound may be recorded at a view, or, without text, that it may
// not. ErrNotFound where the site has no such view.
func (s *Store) SetConsent(ctx context.Context, site, source int64, text, by string) error {
	return s.ofSource(ctx, site, source, `consent = $3, consent_by = $4, consent_at = case when $3 = '' then null else now() end`, text, by)
}

// SetMarks keeps the marks of known size on a view's picture; nil forgets them.
func (s *Store) SetMarks(ctx context.Context, site, source int64, marks *stream.Scale) error {
	return s.ofSource(ctx, site, source, `marks = $3`, marks)
}

// SetTurned keeps how a view's analytics lie on its picture. ErrNotFound where the site has no such view.
func (s *Store) SetTurned(ctx context.Context, site, source int64, t scene.Turned) error {
	return s.ofSource(ctx, site, source, `turned = $3`, int16(t))
}

// Pair keeps that an analyser looks at a view from now on, and has what it sees be gathered. ErrNotFound where the site has no such view.
func (s *Store) Pair(ctx context.Context, site, source, analyser int64, w pairing.Wish) error {
	err := s.ofSource(ctx, site, source, `analyser_id = (select id from device where id = $3 and site_id = $1 and kind = 'analyser'), stills = $4, least_score = $5, looks_within = $6, paired_at = now()`, analyser, w.PerSecond, w.LeastScore, w.Within)
	if err != nil {
		return err
	}
	if err := s.SetGathering(ctx, site, []int64{source}, true); err != nil {
		return err
	}
	_, err = s.db.Exec(ctx, `update gathering set server = '', held_until = '-infinity' where source_id = $1`, source) // who listens where it was lets go
	return err
}

// Looked is a view that an analyser looks at.
type Looked struct {
	ID   int64
	Key  string
	Name string
}

// LookedAt lists a site's views that analysers look at.
func (s *Store) LookedAt(ctx context.Context, site int64) ([]Looked, error) {
	return queryAll[Looked](ctx, s.db, `select id, key::text, name from source where site_id = $1 and analyser_id is not null order by id`, site)
}

// LetGo takes an analyser off all views that it looks at: nothing is gathered of them any more, and what was read of rules there is
// forgotten. It returns their devices. What was seen stays.
func (s *Store) LetGo(ctx context.Context, site, analyser int64) (devices []int64, err error) {
	return devices, s.InTx(ctx, func(tx pgx.Tx) error {
		devices, err = ids(ctx, tx, `with let as (update source set analyser_id = null, paired_at = null where site_id = $1 and analyser_id = $2 returning id, device_id),
			gone as (delete from gathering g using let where g.source_id = let.id),
			forgot as (delete from fact f using let where f.source_id = let.id and f.name = any($3))
			update device d set version = version + 1 from (select distinct device_id from let) l where d.id = l.device_id returning d.id`, site, analyser, []string{fact.RuleSet, fact.RulesRead, fact.Rules, fact.Held, fact.Sending})
		return err
	})
}

// LookedAtBy lists the devices whose views an analyser looks at.
func (s *Store) LookedAtBy(ctx context.Context, analyser int64) ([]int64, error) {
	return ids(ctx, s.db, `select distinct device_id from source where analyser_id = $1 order by device_id`, analyser)
}

// Unpair keeps that no analyser looks at a view any more; what one saw stays. ErrNotFound where the site has no such view.
func (s *Store) Unpair(ctx context.Context, site, source int64) error {
	if err := s.ofSource(ctx, site, source, `analyser_id = null, paired_at = null`); err != nil {
		return err
	}
	return s.SetGathering(ctx, site, []int64{source}, false)
}

// SetUses keeps which streams of views are for what; their devices' marks rest on it.
func (s *Store) SetUses(ctx context.Context, site int64, uses map[int64]stream.Uses) error {
	ids, all := make([]int64, 0, len(uses)), make([]stream.Uses, 0, len(uses))
	for id, u := range uses {
		ids, all = append(ids, id), append(all, u)
	}
	_, err := s.db.Exec(ctx, `with kept as (update source set uses = x.uses from unnest($2::bigint[], $3::jsonb[]) x (id, uses)
			where source.id = x.id and source.site_id = $1 returning device_id)
		update device set version = version + 1 where id in (select device_id from kept)`, site, ids, all)
	return err
}

// CastGroups are the multicast groups that each device of a site is set to send to now.
func (s *Store) CastGroups(ctx context.Context, site int64) (map[int64][]string, error) {
	rows, err := s.db.Query(ctx, `select f.device_id, p->'cast'->>'group' from fact f join device d on d.id = f.device_id
			cross join jsonb_array_elements(f.value) p
		where d.site_id = $1 and f.name = $2 and jsonb_typeof(f.value) = 'array' and p->'cast'->>'on' = 'true'
			and p->'cast'->>'group' <> ''`, site, fact.Profiles)
	if err != nil {
		return nil, err
	}
	out := map[int64][]string{}
	var device int64
	var group string
	_, err = pgx.ForEachRow(rows, []any{&device, &group}, func() error {
		out[device] = append(out[device], group)
		return nil
	})
	return out, err
}

// SetPlanned plans a recorder for a view, any channel; 0: none.
func (s *Store) SetPlanned(ctx context.Context, site, source, recorder int64) error {
	return s.ofSource(ctx, site, source, `recorder_id = (select id from device where id = $3 and site_id = $1), channel = 0`, recorder)
}

// SetPlacing keeps that a view goes to no other recorder than the one planned, and with whom it
// goes together.
func (s *Store) SetPlacing(ctx context.Context, site, source int64, locked bool, together string) error {
	return s.ofSource(ctx, site, source, `locked = $3, together = $4`, locked, together)
}

// ofSource writes columns of a view; its device's marks rest on them.
func (s *Store) ofSource(ctx context.Context, site, source int64, set string, args ...any) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		var device int64
		err := tx.QueryRow(ctx, `update source set `+set+` where id = $2 and site_id = $1 returning device_id`, append([]any{site, source}, args...)...).Scan(&device)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		if err == nil {
			_, err = tx.Exec(ctx, `update device set version = version + 1 where id = $1`, device)
		}
		return err
	})
}

// AcceptPicture keeps the picture, JPEG, that a person accepted of a view in a light.
// ErrNotFound where the site has no such view.
func (s *Store) AcceptPicture(ctx context.Context, site, source int64, light stream.Light, person int64, a stream.Accepted, picture []byte) error {
	err := s.ofSource(ctx, site, source, `pictures = coalesce(pictures, '{}') || jsonb_build_object($3::text, $4::jsonb)`, light, a)
	if err != nil {
		return err
	}
	_, err = s.db.Exec(ctx, `insert into accepted_still (source_id, light, picture, width, height, person_id, by_name, at) values ($1, $2, $3, $4, $5, $6, $7, $8)
		on conflict (source_id, light) do update set picture = excluded.picture, width = excluded.width, height = excluded.height,
		person_id = excluded.person_id, by_name = excluded.by_name, at = excluded.at`,
		source, light, picture, a.Print.Size.Width, a.Print.Size.Height, person, a.By, a.At)
	return err
}

// AcceptedPicture is the picture that was accepted of a view in a light.
func (s *Store) AcceptedPicture(ctx context.Context, site, source int64, light stream.Light) (picture []byte, err error) {
	err = s.db.QueryRow(ctx, `select a.picture from accepted_still a join source s on s.id = a.source_id
		where s.site_id = $1 and s.id = $2 and a.light = $3`, site, source, light).Scan(&picture)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return picture, err
}

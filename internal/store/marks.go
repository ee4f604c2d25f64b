package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
)

// Judged is what the rules said of one source in one stage.
type Judged struct {
	Site       int64
	SourceID   int64
	Stage      stage.Stage
	Version    int64 // of the inputs
	Mark       stage.Mark
	Act        stage.Act
	Changes    int       // proposed
	ValidUntil time.Time // zero: until its inputs change
	Findings   []finding.Finding
}

// KeepMarks replaces marks and findings in a fixed number of statements, however many
// there are. Who judged older inputs of a source than another did was overtaken: neither
// its marks nor its findings are kept. A mark that says the same is left alone.
func (s *Store) KeepMarks(ctx context.Context, all []Judged) error {
	if len(all) == 0 {
		return nil
	}
	var m markColumns
	for _, j := range all {
		if err := m.add(j); err != nil {
			return err
		}
	}
	b := &pgx.Batch{}
	b.Queue(`select set_config('synchronous_commit', 'off', true)`)                            // see lazily
	b.Queue(`select 1 from source where id = any($1) order by id for no key update`, m.source) // in one order, as lockDevices
	b.Queue(`update source s set judged = n.version from (select src, max(version) version from unnest($1::bigint[], $2::bigint[]) n(src, version) group by 1) n where s.id = n.src and s.judged < n.version`, m.source, m.version)
	b.Queue(`insert into mark (site_id, source_id, stage, state, words, sentence, inputs_version, rules_version, act, changes, valid_until)
			select s, src, st, state, words, sentence, version, $11, act, changes, until
			from unnest($1::bigint[], $2::bigint[], $3::smallint[], $4::text[], $5::text[], $6::text[], $7::bigint[], $8::text[], $9::int[], $10::timestamptz[])
				n(s, src, st, state, words, sentence, version, act, changes, until)
			where exists (select 1 from source s where s.id = src and s.judged <= version)
			and not exists (select 1 from mark m where m.source_id = src and m.stage = st and (m.state, m.words, m.sentence, m.act, m.changes, m.rules_version)
				= (n.state, n.words, n.sentence, n.act, n.changes, $11) and m.valid_until is not distinct from until) order by src, st
			on conflict (source_id, stage) do update set state = excluded.state, words = excluded.words, sentence = excluded.sentence, inputs_version = excluded.inputs_version,
			rules_version = excluded.rules_version, act = excluded.act, changes = excluded.changes, valid_until = excluded.valid_until, derived_at = now()
			where mark.inputs_version <= excluded.inputs_version and (mark.state, mark.words, mark.sentence, mark.act, mark.changes, mark.rules_version, mark.valid_until)
			is distinct from (excluded.state, excluded.words, excluded.sentence, excluded.act, excluded.changes, excluded.rules_version, excluded.valid_until)`,
		m.site, m.source, m.stage, m.state, m.words, m.sentence, m.version, m.act, m.changes, m.until, stage.RulesVersion)
	b.Queue(`delete from finding f using unnest($1::bigint[], $2::smallint[], $3::bigint[]) n(src, st, version) join source s on s.id = n.src and s.judged <= n.version
			where f.source_id = n.src and f.stage = n.st`, m.source, m.stage, m.version)
	if len(m.fSource) > 0 {
		b.Queue(`insert into finding (source_id, stage, code, severity, words, sentence, way_out, evidence, accepted)
				select src, st, code, severity, n.words, n.sentence, way, evidence, accepted from unnest($1::bigint[], $2::smallint[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::jsonb[], $9::boolean[], $10::bigint[])
				with ordinality n(src, st, code, severity, words, sentence, way, evidence, accepted, version, ord) join source s on s.id = n.src and s.judged <= n.version
				order by ord`,
			m.fSource, m.fStage, m.fCode, m.fSeverity, m.fWords, m.fSentence, m.fWay, m.fEvidence, m.fAccepted, m.fVersion)
	}
	return s.db.SendBatch(ctx, b).Close() // one transaction, as every batch is
}

// markColumns are the columns of many marks and findings.
type markColumns struct {
	site, source, version                                []int64
	stage, fStage                                        []int16
	state, words, sentence, act                          []string
	changes                                              []int32
	until                                                []*time.Time
	fSource, fVersion                                    []int64
	fAccepted                                            []bool
	fCode, fSeverity, fWords, fSentence, fWay, fEvidence []string
}

func (m *markColumns) add(j Judged) error {
	m.site, m.source, m.version = append(m.site, j.Site), append(m.source, j.SourceID), append(m.version, j.Version)
	m.stage, m.state = append(m.stage, int16(j.Stage)), append(m.state, string(j.Mark.State))
	m.words, m.sentence = append(m.words, j.Mark.Words), append(m.sentence, j.Mark.Sentence)
	m.act, m.changes = append(m.act, string(j.Act)), append(m.changes, int32(j.Changes))
	var until *time.Time
	if !j.ValidUntil.IsZero() {
		until = &j.ValidUntil
	}
	m.until = append(m.until, until)
	for _, f := range j.Findings {
		ev, err := json.Marshal(f.Evidence)
		if err != nil {
			return err
		}
		m.fSource, m.fStage = append(m.fSource, j.SourceID), append(m.fStage, int16(j.Stage))
		m.fCode, m.fSeverity, m.fWords = append(m.fCode, f.Code), append(m.fSeverity, f.Severity.String()), append(m.fWords, f.Words)
		m.fSentence, m.fWay, m.fEvidence = append(m.fSentence, f.Sentence), append(m.fWay, f.WayOut), append(m.fEvidence, string(ev))
		m.fAccepted, m.fVersion = append(m.fAccepted, f.Accepted), append(m.fVersion, j.Version)
	}
	return nil
}

// Marks of sources by source and stage. Most say one of a few sentences: each is read
// once, with the places where it stands.
func (s *Store) Marks(ctx context.Context, sources []int64) (map[int64]map[stage.Stage]stage.Mark, error) {
	rows, err := s.db.Query(ctx, `select state, words, sentence, array_agg(source_id), array_agg(stage::int) from mark where source_id = any($1) group by state, words, sentence`, sources)
	if err != nil {
		return nil, err
	}
	out := make(map[int64]map[stage.Stage]stage.Mark, len(sources))
	for _, id := range sources {
		out[id] = make(map[stage.Stage]stage.Mark, 10)
	}
	var m stage.Mark
	var at []int64
	var in []int32
	_, err = pgx.ForEachRow(rows, []any{&m.State, &m.Words, &m.Sentence, &at, &in}, func() error {
		for i, id := range at {
			out[id][stage.Stage(in[i])] = m
		}
		return nil
	})
	return out, err
}

// Groups counts a site's marks by stage, state and act.
func (s *Store) Groups(ctx context.Context, site int64) ([]stage.Group, error) {
	return queryAll[stage.Group](ctx, s.db, `select stage, state, act, n count, changes from mark_count where site_id = $1 and n > 0`, site)
}

// FirstOf finds the first source that stands so, for a suggestion that names it.
func (s *Store) FirstOf(ctx context.Context, site int64, g stage.Group) (place, sentence string, err error) {
	err = s.db.QueryRow(ctx, `select s.name, m.sentence from mark m join source s on s.id = m.source_id join device d on d.id = s.device_id
		where m.site_id = $1 and m.stage = $2 and m.state = $3 and m.act = $4 order by d.position, d.id, s.nth limit 1`, site, g.Stage, g.State, g.Act).Scan(&place, &sentence)
	if err == pgx.ErrNoRows {
		err = nil // it was judged again meanwhile
	}
	return place, sentence, err
}

// Tally is how many sources of a site are done, how many have something
// blocked, and how many others need a person.
type Tally struct{ Done, Blocked, Needs int }

// Tally counts them.
func (s *Store) Tally(ctx context.Context, site int64) (Tally, error) {
	return queryOne[Tally](ctx, s.db, `select count(*) filter (where substr(standing, $2, 1) = '`+stage.Ready.Letter()+`')::int done, count(*) filter (where standing like '%`+stage.Blocked.Letter()+`%')::int blocked,
		count(*) filter (where standing not like '%`+stage.Blocked.Letter()+`%' and (standing like '%`+stage.Needs.Letter()+`%' or standing like '%`+stage.Stale.Letter()+`%'))::int needs from source where site_id = $1`, site, int(stage.Goal))
}

// Due lists sources whose marks were made by other rules or are no longer valid,
// grouped by site, at most limit.
func (s *Store) Due(ctx context.Context, limit int) (map[int64][]int64, error) {
	type row struct{ SiteID, DeviceID int64 }
	rows, err := queryAll[row](ctx, s.db, `select distinct d.site_id, d.id device_id from (select source_id from mark where valid_until <= now() union all select source_id from mark where rules_version < $1 limit $2) m
		join source s on s.id = m.source_id join device d on d.id = s.device_id`, stage.RulesVersion, 10*limit)
	out := map[int64][]int64{}
	for _, r := range rows {
		out[r.SiteID] = append(out[r.SiteID], r.DeviceID)
	}
	return out, err
}

// FindingOf is a finding with the source it is about.
type FindingOf struct {
	SourceID int64
	DeviceID int64
	Place    string
	Stage    stage.Stage
	finding.Finding
}

type findingRow struct {
	SourceID, DeviceID int64
	Place              string
	Stage              stage.Stage
	Code               string
	Severity           string
	Words              string
	Sentence           string
	WayOut             string
	Evidence           json.RawMessage
	Accepted           bool
}

// Findings of a site after skip, limit of them, the list's order; of one stage where
// st isn't 0. What is the device's is listed once, with its first view.
func (s *Store) Findings(ctx context.Context, site int64, st stage.Stage, skip, limit int) ([]FindingOf, error) {
	return s.findings(ctx, `where d.site_id = $1 and ($2 = 0 or f.stage = $2) order by d.position, d.id, s.nth, f.stage, f.id offset $3 limit $4`, site, st, skip, limit)
}

// FindingsOf a source in a stage, at most limit: where the stage is the device's, those of
// its first view.
func (s *Store) FindingsOf(ctx context.Context, of Source, st stage.Stage, limit int) ([]FindingOf, error) {
	return s.findings(ctx, `where d.id = $1 and case when $3 then s.nth = 1 else s.id = $2 end and f.stage = $4 order by f.id limit $5`, of.Device.ID, of.ID, st.OfDevice(), st, limit)
}

func (s *Store) findings(ctx context.Context, where string, args ...any) ([]FindingOf, error) {
	rows, err := queryAll[findingRow](ctx, s.db, `select f.source_id, d.id device_id, s.name place, f.stage, f.code, f.severity, f.words, f.sentence, f.way_out, f.evidence, f.accepted from finding f
		join source s on s.id = f.source_id join device d on d.id = s.device_id `+where, args...)
	if err != nil {
		return nil, err
	}
	out := make([]FindingOf, 0, len(rows))
	for _, r := range rows {
		f := FindingOf{r.SourceID, r.DeviceID, r.Place, r.Stage,
			finding.Finding{Code: r.Code, Severity: finding.ParseSeverity(r.Severity), Words: r.Words,
				Sentence: r.Sentence, WayOut: r.WayOut, Accepted: r.Accepted}}
		if err := json.Unmarshal(r.Evidence, &f.Evidence); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

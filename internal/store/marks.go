package store

import (
	"context"
	"encoding/json"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
)

// Judged is what the rules said of one source in one stage.
type Judged struct {
	SourceID int64
	Stage    stage.Stage
	Version  int64
	Mark     stage.Mark
	Findings []finding.Finding
}

// KeepMarks replaces marks and findings, all in one batch. A mark from an older
// version of the inputs doesn't overwrite a newer one.
func (s *Store) KeepMarks(ctx context.Context, all []Judged) error {
	b := &pgx.Batch{}
	for _, j := range all {
		b.Queue(`insert into mark (source_id, stage, state, words, sentence, inputs_version, rules_version) values ($1, $2, $3, $4, $5, $6, $7)
			on conflict (source_id, stage) do update set state = excluded.state, words = excluded.words, sentence = excluded.sentence,
			inputs_version = excluded.inputs_version, rules_version = excluded.rules_version, derived_at = now()
			where mark.inputs_version <= excluded.inputs_version`,
			j.SourceID, j.Stage, j.Mark.State, j.Mark.Words, j.Mark.Sentence, j.Version, stage.RulesVersion)
		b.Queue(`delete from finding where source_id = $1 and stage = $2`, j.SourceID, j.Stage)
		for _, f := range j.Findings {
			ev, err := json.Marshal(f.Evidence)
			if err != nil {
				return err
			}
			b.Queue(`insert into finding (source_id, stage, code, severity, words, sentence, way_out, evidence) values ($1, $2, $3, $4, $5, $6, $7, $8)`,
				j.SourceID, j.Stage, f.Code, f.Severity.String(), f.Words, f.Sentence, f.WayOut, ev)
		}
	}
	return s.InTx(ctx, func(tx pgx.Tx) error { return tx.SendBatch(ctx, b).Close() })
}

// Marks of a site by source and stage.
func (s *Store) Marks(ctx context.Context, site int64) (map[int64]map[stage.Stage]stage.Mark, error) {
	type row struct {
		SourceID int64
		Stage    stage.Stage
		stage.Mark
	}
	rows, err := many[row](ctx, s.Pool, `select m.source_id, m.stage, m.state, m.words, m.sentence from mark m
		join source s on s.id = m.source_id join device d on d.id = s.device_id where d.site_id = $1`, site)
	if err != nil {
		return nil, err
	}
	out := map[int64]map[stage.Stage]stage.Mark{}
	for _, r := range rows {
		if out[r.SourceID] == nil {
			out[r.SourceID] = map[stage.Stage]stage.Mark{}
		}
		out[r.SourceID][r.Stage] = r.Mark
	}
	return out, nil
}

// FindingOf is a finding with the source it is about.
type FindingOf struct {
	SourceID int64
	Stage    stage.Stage
	finding.Finding
}

// Findings of a site in one stage, or in all where stage is 0.
func (s *Store) Findings(ctx context.Context, site int64, st stage.Stage) ([]FindingOf, error) {
	type row struct {
		SourceID int64
		Stage    stage.Stage
		Code     string
		Severity string
		Words    string
		Sentence string
		WayOut   string
		Evidence json.RawMessage
	}
	rows, err := many[row](ctx, s.Pool, `select f.source_id, f.stage, f.code, f.severity, f.words, f.sentence, f.way_out, f.evidence from finding f
		join source s on s.id = f.source_id join device d on d.id = s.device_id
		where d.site_id = $1 and ($2 = 0 or f.stage = $2) order by f.id limit 2000`, site, st)
	if err != nil {
		return nil, err
	}
	out := make([]FindingOf, 0, len(rows))
	for _, r := range rows {
		f := FindingOf{r.SourceID, r.Stage, finding.Finding{Code: r.Code, Severity: finding.ParseSeverity(r.Severity), Words: r.Words, Sentence: r.Sentence, WayOut: r.WayOut}}
		if err := json.Unmarshal(r.Evidence, &f.Evidence); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

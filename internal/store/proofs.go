package store

import (
	"context"
	"time"

	"duskyharbor/internal/core/proof"
)

// Proof is a walk test as kept.
type Proof struct {
	ID        int64
	SourceID  int64
	Test      proof.Test
	StartedAt time.Time
	EndedAt   *time.Time
}

// KeepProof adds a test (id 0) or writes it again as it goes on.
func (s *Store) KeepProof(ctx context.Context, id, source, step int64, t proof.Test) (int64, error) {
	var ended *time.Time
	if !t.Ended.IsZero() {
		ended = &t.Ended
	}
	if id == 0 {
		err := s.db.QueryRow(ctx, `insert into proof (source_id, step_id, test, started_at, ended_at) values ($1, $2, $3, $4, $5) returning id`, source, step, t, t.Started, ended).Scan(&id)
		return id, err
	}
	_, err := s.db.Exec(ctx, `update proof set test = $2, ended_at = $3 where id = $1`, id, t, ended)
	return id, err
}

// ProofOfStep finds the test a step began, for a step that is run again.
func (s *Store) ProofOfStep(ctx context.Context, step int64) (Proof, error) {
	return queryOne[Proof](ctx, s.db, `select id, source_id, test, started_at, ended_at from proof where step_id = $1 order by id desc limit 1`, step)
}

// ProofsOf lists a source's newest tests.
func (s *Store) ProofsOf(ctx context.Context, source int64, limit int) ([]Proof, error) {
	return queryAll[Proof](ctx, s.db, `select id, source_id, test, started_at, ended_at from proof where source_id = $1 order by started_at desc, id desc limit $2`, source, limit)
}

package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/stage"
)

// Act of a run.
type Act string

const (
	Read  Act = "read"
	Apply Act = "apply"
	Prove Act = "prove"
)

// Run is one act over many devices, with its progress.
type Run struct {
	ID        int64
	SiteID    int64
	Stage     stage.Stage
	Act       Act
	Title     string
	Who       string
	Stop      bool
	StartedAt time.Time
	EndedAt   *time.Time
	Total     int
	Done      int
	Failed    int
	Stopped   int
}

// Left is how many steps are still to come.
func (r Run) Left() int { return r.Total - r.Done - r.Failed - r.Stopped }

const runColumns = `r.id, r.site_id, r.stage, r.act, r.title, coalesce(p.name, 'the product') who, r.stop, r.started_at, r.ended_at,
	count(t.id)::int total, count(t.id) filter (where t.state = 'done')::int done, count(t.id) filter (where t.state = 'failed')::int failed,
	count(t.id) filter (where t.state = 'stopped')::int stopped
	from run r left join person p on p.id = r.person_id left join run_step t on t.run_id = r.id`

// Runs lists a site's newest runs.
func (s *Store) Runs(ctx context.Context, site int64, limit int) ([]Run, error) {
	return many[Run](ctx, s.Pool, `select `+runColumns+` where r.site_id = $1 group by r.id, p.name order by r.started_at desc limit $2`, site, limit)
}

// Run finds one run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, s.Pool, `select `+runColumns+` where r.id = $1 group by r.id, p.name`, id)
}

// StopRun asks a run to stop: steps that haven't begun never do.
func (s *Store) StopRun(ctx context.Context, site, id int64) error {
	_, err := s.Pool.Exec(ctx, `update run set stop = true where id = $1 and site_id = $2 and ended_at is null`, id, site)
	return err
}

// Step is one device's or network's part of a run.
type Step struct {
	ID        int64
	RunID     int64
	DeviceID  *int64
	NetworkID *int64
	State     string
	Says      string
}

// NewRun is what AddRun makes a run of.
type NewRun struct {
	Site     int64
	Stage    stage.Stage
	Act      Act
	Title    string
	Person   int64
	Devices  []int64
	Networks []int64
}

// AddRun writes a run and its steps in the caller's transaction, where the jobs are
// written too: either all are there or none.
func (s *Store) AddRun(ctx context.Context, tx pgx.Tx, n NewRun) (int64, []Step, error) {
	var id int64
	err := tx.QueryRow(ctx, `insert into run (site_id, stage, act, title, person_id) values ($1, $2, $3, $4, nullif($5::bigint, 0)) returning id`,
		n.Site, n.Stage, n.Act, n.Title, n.Person).Scan(&id)
	if err != nil {
		return 0, nil, err
	}
	steps, err := many[Step](ctx, tx, `insert into run_step (run_id, device_id, network_id)
		select $1::bigint, d, null::bigint from unnest($2::bigint[]) d union all select $1::bigint, null::bigint, n from unnest($3::bigint[]) n
		returning id, run_id, device_id, network_id, state, says`, id, n.Devices, n.Networks)
	return id, steps, err
}

// BeginStep marks a step as working; go is false when its run was stopped or the
// step is settled already.
func (s *Store) BeginStep(ctx context.Context, id int64) (goOn bool, err error) {
	var state string
	err = s.Pool.QueryRow(ctx, `update run_step t set state = case when r.stop then 'stopped' else 'working' end, began_at = coalesce(t.began_at, now()),
		ended_at = case when r.stop then now() end
		from run r where r.id = t.run_id and t.id = $1 and t.state in ('waiting', 'working') returning t.state`, id).Scan(&state)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	return state == "working", err
}

// EndStep settles a step, and its run with the last one.
func (s *Store) EndStep(ctx context.Context, id int64, failed bool, says string) error {
	state := "done"
	if failed {
		state = "failed"
	}
	_, err := s.Pool.Exec(ctx, `update run_step set state = case when state = 'stopped' then state else $2 end, says = $3, ended_at = now() where id = $1 and state in ('waiting', 'working', 'stopped')`, id, state, says)
	if err != nil {
		return err
	}
	_, err = s.Pool.Exec(ctx, `update run set ended_at = now() where id = (select run_id from run_step where id = $1) and ended_at is null
		and not exists (select 1 from run_step t where t.run_id = run.id and t.state in ('waiting', 'working'))`, id)
	return err
}

// Stopped says whether a step's run was asked to stop.
func (s *Store) Stopped(ctx context.Context, step int64) bool {
	var stop bool
	err := s.Pool.QueryRow(ctx, `select r.stop from run r join run_step t on t.run_id = r.id where t.id = $1`, step).Scan(&stop)
	return err == nil && stop
}

// Change is a change as kept: the row that is there before the call.
type Change struct {
	ID        int64
	SiteID    int64
	DeviceID  int64
	SourceID  *int64
	StepID    *int64
	Stage     stage.Stage
	Kind      string
	Key       string
	Title     string
	FromText  string
	ToText    string
	Why       string
	Risk      finding.Risk
	Undo      finding.Undo
	Args      map[string]string
	Later     []int64
	State     string
	Says      string
	Reads     string
	Writes    int
	Who       string
	Place     string
	AskedAt   time.Time
	SentAt    *time.Time
	SettledAt *time.Time
}

// Core is the change as the rules speak of it.
func (c Change) Core() finding.Change {
	return finding.Change{Kind: c.Kind, Key: c.Key, Title: c.Title, From: c.FromText, To: c.ToText, Why: c.Why, Risk: c.Risk, Undo: c.Undo, Args: c.Args}
}

// Open says whether the change isn't settled yet.
func (c Change) Open() bool { return c.State == "asked" || c.State == "sent" || c.State == "read back" }

const changeSelect = `select c.id, c.site_id, c.device_id, c.source_id, c.step_id, c.stage, c.kind, c.key, c.title, c.from_text, c.to_text, c.why, c.risk, c.undo, c.args,
	c.later, c.state, c.says, c.reads, c.writes, coalesce(p.name, 'the product') who, d.place, c.asked_at, c.sent_at, c.settled_at
	from change c join device d on d.id = c.device_id left join person p on p.id = c.person_id `

// ErrUnderWay is returned when the same change is being made already.
var ErrUnderWay = errors.New("that change is under way already")

// AddChange writes a change as asked for, in the transaction that makes its run.
func (s *Store) AddChange(ctx context.Context, tx pgx.Tx, site, device, source, step, person int64, st stage.Stage, c finding.Change) (int64, error) {
	undo, err := json.Marshal(c.Undo)
	if err != nil {
		return 0, err
	}
	later := make([]int64, len(c.Later))
	for i, d := range c.Later {
		later[i] = int64(d)
	}
	args := c.Args
	if args == nil {
		args = map[string]string{}
	}
	var id int64
	err = tx.QueryRow(ctx, `insert into change (site_id, device_id, source_id, step_id, stage, kind, key, title, from_text, to_text, why, risk, undo, args, later, state, person_id)
		values ($1, $2, nullif($3::bigint, 0), $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, 'asked', nullif($16::bigint, 0)) returning id`,
		site, device, source, step, st, c.Kind, c.Key, c.Title, c.From, c.To, c.Why, c.Risk, undo, args, later, person).Scan(&id)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return 0, ErrUnderWay
	}
	return id, err
}

// ChangesOfStep lists a step's changes in the order they were asked for.
func (s *Store) ChangesOfStep(ctx context.Context, step int64) ([]Change, error) {
	return many[Change](ctx, s.Pool, changeSelect+`where c.step_id = $1 order by c.id`, step)
}

// Change finds one change.
func (s *Store) Change(ctx context.Context, id int64) (Change, error) {
	return one[Change](ctx, s.Pool, changeSelect+`where c.id = $1`, id)
}

// ChangesOfDevice lists a device's newest changes.
func (s *Store) ChangesOfDevice(ctx context.Context, device int64, limit int) ([]Change, error) {
	return many[Change](ctx, s.Pool, changeSelect+`where c.device_id = $1 order by c.asked_at desc, c.id desc limit $2`, device, limit)
}

// Changes lists a site's newest changes, at most 200.
func (s *Store) Changes(ctx context.Context, site int64) ([]Change, error) {
	return many[Change](ctx, s.Pool, changeSelect+`where c.site_id = $1 order by c.asked_at desc, c.id desc limit 200`, site)
}

// OpenChanges lists a site's changes that aren't settled.
func (s *Store) OpenChanges(ctx context.Context, site int64) ([]Change, error) {
	return many[Change](ctx, s.Pool, changeSelect+`where c.site_id = $1 and c.state in ('asked', 'sent', 'read back') order by c.id`, site)
}

// SendChange writes down that a change is about to be sent; it counts every sending.
func (s *Store) SendChange(ctx context.Context, id int64, reads string) error {
	_, err := s.Pool.Exec(ctx, `update change set state = 'sent', reads = $2, sent_at = now(), writes = writes + 1 where id = $1`, id, reads)
	return err
}

// SettleChange writes a change's state and what the device read.
func (s *Store) SettleChange(ctx context.Context, id int64, state, reads, says string) error {
	_, err := s.Pool.Exec(ctx, `update change set state = $2, reads = case when $3 <> '' then $3 else reads end, says = $4,
		settled_at = case when $2 in ('verified', 'failed', 'asks') then now() end where id = $1`, id, state, reads, says)
	return err
}

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
		err := s.Pool.QueryRow(ctx, `insert into proof (source_id, step_id, test, started_at, ended_at) values ($1, $2, $3, $4, $5) returning id`, source, step, t, t.Started, ended).Scan(&id)
		return id, err
	}
	_, err := s.Pool.Exec(ctx, `update proof set test = $2, ended_at = $3 where id = $1`, id, t, ended)
	return id, err
}

// ProofOfStep finds the test a step began, for a step that is run again.
func (s *Store) ProofOfStep(ctx context.Context, step int64) (Proof, error) {
	return one[Proof](ctx, s.Pool, `select id, source_id, test, started_at, ended_at from proof where step_id = $1 order by id desc limit 1`, step)
}

// Proofs lists the newest test of each source of a site.
func (s *Store) Proofs(ctx context.Context, site int64) (map[int64]Proof, error) {
	rows, err := many[Proof](ctx, s.Pool, `select distinct on (p.source_id) p.id, p.source_id, p.test, p.started_at, p.ended_at from proof p
		join source s on s.id = p.source_id join device d on d.id = s.device_id where d.site_id = $1 order by p.source_id, p.started_at desc, p.id desc`, site)
	if err != nil {
		return nil, err
	}
	out := map[int64]Proof{}
	for _, r := range rows {
		out[r.SourceID] = r
	}
	return out, nil
}

// ProofsOf lists a source's newest tests.
func (s *Store) ProofsOf(ctx context.Context, source int64, limit int) ([]Proof, error) {
	return many[Proof](ctx, s.Pool, `select id, source_id, test, started_at, ended_at from proof where source_id = $1 order by started_at desc, id desc limit $2`, source, limit)
}

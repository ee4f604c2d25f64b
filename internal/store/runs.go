package store

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

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
	AskedOf   string // the selection, where it was a query
	Total     int
	Done      int
	Failed    int
	Stopped   int
	Then      []stage.Stage // that are read once it ended
	Chain     int64         // the run that it goes on from at the very first; 0: it goes on from none
}

// Left is how many steps are still to come.
func (r Run) Left() int { return r.Total - r.Done - r.Failed - r.Stopped }

// A run that is under way is counted; one that ended kept its sums.
const runSelect = `select r.id, r.site_id, r.stage, r.act, r.title, coalesce(p.name, 'token ' || k.name, 'the product') who, r.stop, r.started_at, r.ended_at, r.asked_of, r.total, r.then_read "then", coalesce(r.chain, 0) chain,
	case when r.ended_at is null then t.done else r.done end done, case when r.ended_at is null then t.failed else r.failed end failed,
	case when r.ended_at is null then t.stopped else r.stopped end stopped
	from run r left join person p on p.id = r.person_id left join api_token k on k.id = r.token_id
	left join lateral (select count(*) filter (where state = 'done')::int done, count(*) filter (where state = 'failed')::int failed, count(*) filter (where state = 'stopped')::int stopped
		from run_step where run_id = r.id and r.ended_at is null) t on true `

// Runs lists a site's runs, the newest first, without the skip first ones.
func (s *Store) Runs(ctx context.Context, site int64, skip, limit int) ([]Run, error) {
	return queryAll[Run](ctx, s.db, runSelect+`where r.site_id = $1 order by r.started_at desc, r.id desc offset $2 limit $3`, site, skip, limit)
}

// Run finds one run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	return queryOne[Run](ctx, s.db, runSelect+`where r.id = $1`, id)
}

// RunOfStep finds the run of a step.
func (s *Store) RunOfStep(ctx context.Context, step int64) (Run, error) {
	return queryOne[Run](ctx, s.db, runSelect+`where r.id = (select run_id from run_step where id = $1)`, step)
}

// StopRun asks a run to stop: steps that haven't begun never do.
func (s *Store) StopRun(ctx context.Context, site, id int64) error {
	_, err := s.db.Exec(ctx, `update run set stop = true where id = $1 and site_id = $2 and ended_at is null`, id, site)
	return err
}

// Step is one device's or network's part of a run.
type Step struct {
	ID        int64
	RunID     int64
	DeviceID  *int64
	SourceID  *int64 // the view; nil: the device itself, or a network
	NetworkID *int64
	State     string
	Says      string
	Net       int64 // the device's network; 0 where it is in none
	Known     bool  // an account opened the device before
}

// Target is what the step is of; the zero Target: a network.
func (s Step) Target() (t Target) {
	if s.DeviceID != nil {
		t.Device = *s.DeviceID
	}
	if s.SourceID != nil {
		t.Source = *s.SourceID
	}
	return t
}

// NewRun is what AddRun makes a run of.
type NewRun struct {
	Site     int64
	Stage    stage.Stage
	Act      Act
	Title    string
	Person   int64
	Token    int64
	AskedOf  string
	Of       []Target
	Networks []int64
	Factory  bool  // makers' default accounts may be tried
	Set      int64 // the one that is tried; 0: all in their order
	Then     []stage.Stage
	After    int64 // the run that it goes on from; 0: none
	Chain    int64 // the first of those
}

// Plain says whether a run reads as readings do: with all accounts in their order.
func (n NewRun) Plain() bool { return n.Act == Read && !n.Factory && n.Set == 0 }

// SameRun finds a run that goes and reads the very same for the same stage; 0: there is none. Two who
// ask at once wait for each other, in the caller's transaction.
func (s *Store) SameRun(ctx context.Context, tx pgx.Tx, n NewRun) (int64, error) {
	if !n.Plain() {
		return 0, nil
	}
	if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1::int, $2::int)`, int32(n.Site), int32(n.Stage)); err != nil {
		return 0, err
	}
	devices, sources := targets(n.Of)
	var id int64
	err := tx.QueryRow(ctx, `select r.id from run r where r.site_id = $1 and r.stage = $2 and r.act = $3 and r.plain and r.ended_at is null and not r.stop and r.total = $4
		and not exists (select from run_step t where t.run_id = r.id and not exists (select from unnest($5::bigint[], $6::bigint[]) u(d, s) where u.d = t.device_id and u.s = coalesce(t.source_id, 0))
			and not coalesce(t.network_id = any($7::bigint[]), false))
		order by r.id desc limit 1`, n.Site, n.Stage, n.Act, len(n.Of)+len(n.Networks), devices, sources, n.Networks).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, nil
	}
	return id, err
}

// targets are the devices and the views of targets, side by side.
func targets(of []Target) (devices, sources []int64) {
	devices, sources = make([]int64, len(of)), make([]int64, len(of))
	for i, t := range of {
		devices[i], sources[i] = t.Device, t.Source
	}
	return devices, sources
}

// AddRun writes a run and its steps in the caller's transaction, where the jobs are
// written too: either all are there or none.
func (s *Store) AddRun(ctx context.Context, tx pgx.Tx, n NewRun) (int64, []Step, error) {
	if n.After != 0 {
		if err := goOn(ctx, tx, n.After); err != nil {
			return 0, nil, err
		}
	}
	var id int64
	err := tx.QueryRow(ctx, `insert into run (site_id, stage, act, title, person_id, token_id, asked_of, total, plain, then_read, chain)
		values ($1, $2, $3, $4, nullif($5::bigint, 0), nullif($6::bigint, 0), $7, $8, $9, $10, nullif($11::bigint, 0)) returning id`,
		n.Site, n.Stage, n.Act, n.Title, n.Person, n.Token, n.AskedOf, len(n.Of)+len(n.Networks), n.Plain(), numbers(n.Then), n.Chain).Scan(&id)
	if err != nil {
		return 0, nil, err
	}
	if n.Act != Apply && n.After == 0 && (n.Person != 0 || n.Token != 0) { // changes are written down with what was asked for
		if err := audit(ctx, tx, AuditEntry{Site: n.Site, Person: n.Person, Token: n.Token, Act: "began a run", Detail: n.Title}); err != nil {
			return 0, nil, err
		}
	}
	devices, sources := targets(n.Of)
	steps, err := queryAll[Step](ctx, tx, `insert into run_step (run_id, device_id, source_id, network_id)
		select $1::bigint, d, nullif(s, 0), null::bigint from unnest($2::bigint[], $4::bigint[]) t(d, s) union all select $1::bigint, null, null, n from unnest($3::bigint[]) n
		returning id, run_id, device_id, source_id, network_id, state, says, coalesce((select n.id from device d join network n on n.site_id = d.site_id and d.address <<= n.prefix
			where d.id = device_id order by masklen(n.prefix) desc limit 1), 0) net,
			coalesce((select d.opened_set is not null or d.kind = 'recorder' from device d where d.id = device_id), true) known`, id, devices, n.Networks, sources)
	return id, steps, err
}

// Claim is what a step holds while it works: the device's lease with its fence, and
// a slot of its network and of a recorder. Device 0 is a network's step.
type Claim struct {
	Step, Device int64
	Net          int64 // the network that it counts for; 0: none
	Holder       string
	Fence        int64
}

// Limits on how many devices are worked on at once, over all servers.
type Limits struct{ Network, Recorder int }

// Verdict of BeginStep.
type Verdict string

const (
	Go      Verdict = "go"
	Held    Verdict = "held"    // another works on the device
	Full    Verdict = "full"    // so many of its network or recorder are worked on
	Settled Verdict = "settled" // it was done before
	Halted  Verdict = "stopped" // its run was stopped
)

// BeginStep takes all that a step needs until ttl is over, or nothing of it.
func (s *Store) BeginStep(ctx context.Context, h Claim, ttl time.Duration, most Limits, recorder bool) (Verdict, int64, error) {
	b, err := s.coalesced.begins.Call(ctx, beginning{h, ttl, most, recorder})
	return b.verdict, b.fence, err
}

// EndStep settles a step as done or failed, and its run with the last one, and gives
// back what BeginStep took. With waiting the step is tried again later. ErrFenced
// where another took the device over: then nothing is written.
func (s *Store) EndStep(ctx context.Context, h Claim, state, says string) error {
	ours, err := s.coalesced.ends.Call(ctx, ending{h, state, says})
	if err == nil && !ours {
		err = ErrFenced
	}
	return err
}

type beginning struct {
	Claim
	ttl      time.Duration
	most     Limits
	recorder bool
}

type begun struct {
	verdict Verdict
	fence   int64
}

// byStep is the order in which a round's steps are begun and ended, so that two rounds
// that wait for the same rows wait in one order.
func byStep[T any](all []T, step func(T) int64) []int {
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return int(step(all[a]) - step(all[b])) })
	return order
}

func (s *Store) beginAtOnce(ctx context.Context, all []beginning) ([]begun, error) {
	n := len(all)
	steps, devices, holders, ttls, nets := make([]int64, n), make([]int64, n), make([]string, n), make([]time.Duration, n), make([]int64, n)
	netMost, recMost, recorders := make([]int32, n), make([]int32, n), make([]bool, n)
	order := byStep(all, func(b beginning) int64 { return b.Step })
	for i, at := range order {
		b := all[at]
		steps[i], devices[i], holders[i], ttls[i], nets[i] = b.Step, b.Device, b.Holder, b.ttl, b.Net
		netMost[i], recMost[i], recorders[i] = int32(b.most.Network), int32(b.most.Recorder), b.recorder
	}
	out := make([]begun, n)
	rows, err := s.db.Query(ctx, `select n.nth, b.verdict, b.fence from unnest($1::bigint[], $2::bigint[], $3::text[], $4::interval[], $5::bigint[], $6::int[], $7::int[], $8::boolean[])
		with ordinality n(step, device, holder, ttl, net, net_most, rec_most, recorder, nth) cross join lateral step_begin(n.step, n.device, n.holder, n.ttl, n.net, n.net_most, n.rec_most, n.recorder) b`,
		steps, devices, holders, ttls, nets, netMost, recMost, recorders)
	if err != nil {
		return nil, err
	}
	var nth int64
	var b begun
	_, err = pgx.ForEachRow(rows, []any{&nth, &b.verdict, &b.fence}, func() error { out[order[nth-1]] = b; return nil })
	return out, err
}

type ending struct {
	Claim
	state, says string
}

func (s *Store) endAtOnce(ctx context.Context, all []ending) ([]bool, error) {
	n := len(all)
	steps, devices, holders, fences, states, says := make([]int64, n), make([]int64, n), make([]string,
		n), make([]int64, n), make([]string, n), make([]string, n)
	order := byStep(all, func(e ending) int64 { return e.Step })
	for i, at := range order {
		e := all[at]
		steps[i], devices[i], holders[i], fences[i], states[i], says[i] = e.Step, e.Device, e.Holder, e.Fence, e.state, e.says
	}
	out := make([]bool, n)
	rows, err := s.db.Query(ctx, `select n.nth, step_end(n.step, n.device, n.holder, n.fence, n.state, n.says)
		from unnest($1::bigint[], $2::bigint[], $3::text[], $4::bigint[], $5::text[], $6::text[]) with ordinality n(step, device, holder, fence, state, says, nth)`, steps, devices, holders, fences, states, says)
	if err != nil {
		return nil, err
	}
	var nth int64
	var ours bool
	_, err = pgx.ForEachRow(rows, []any{&nth, &ours}, func() error { out[order[nth-1]] = ours; return nil })
	return out, err
}

// ErrFenced is returned to a writer whose lease another holds with a later fence.
var ErrFenced = errors.New("another took over the device")

// Stopped says whether a step's run was asked to stop.
func (s *Store) Stopped(ctx context.Context, step int64) (stop bool, err error) {
	err = s.db.QueryRow(ctx, `select r.stop from run r join run_step t on t.run_id = r.id where t.id = $1`, step).Scan(&stop)
	return stop, err
}

// StepsOf lists what a run's steps say, newest first, at most limit.
func (s *Store) StepsOf(ctx context.Context, run int64, limit int) ([]Step, error) {
	return s.StepsAfter(ctx, run, 0, limit)
}

// StepsAfter lists a run's steps as StepsOf does, from the one after so many.
func (s *Store) StepsAfter(ctx context.Context, run int64, skip, limit int) ([]Step, error) {
	return queryAll[Step](ctx, s.db, `select id, run_id, device_id, source_id, network_id, state, says, 0::bigint net, false known from run_step where run_id = $1 order by ended_at desc nulls last, id offset $2 limit $3`, run, skip, limit)
}

// Result is how one step of a run went.
type Result struct {
	SourceID int64 // the view, or the first of the device; 0: a network or a recorder
	What     string
	State    string
	Says     string
	Began    *time.Time
	Ended    *time.Time
}

// Results lists the steps of a site's run, what failed first, limit of them after skip.
func (s *Store) Results(ctx context.Context, site, run int64, skip, limit int) ([]Result, error) {
	return queryAll[Result](ctx, s.db, `select coalesce(s.id, f.id, 0) source_id, coalesce(s.name, d.place, n.name, 'taken off the site') what, t.state, t.says, t.began_at began, t.ended_at ended
		from run_step t join run r on r.id = t.run_id left join source s on s.id = t.source_id left join device d on d.id = t.device_id left join source f on f.device_id = t.device_id and f.nth = 1 left join network n on n.id = t.network_id
		where r.site_id = $1 and r.id = $2 order by position(left(t.state, 1) in 'fws'), t.state, t.id offset $3 limit $4`, site, run, skip, limit)
}

// endIdle ends the runs of site $1 whose last steps went with what they were of: nobody
// is left who would.
const endIdle = `update run r set ended_at = now(), done = t.done, failed = t.failed, stopped = t.stopped from (select r.id, count(*) filter (where s.state = 'done') done,
	count(*) filter (where s.state = 'failed') failed, count(*) filter (where s.state = 'stopped') stopped from run r left join run_step s on s.run_id = r.id
	where r.site_id = $1 and r.ended_at is null group by r.id having count(*) filter (where s.state in ('waiting', 'working')) = 0) t where t.id = r.id`

// AfterRestore settles what a back-up holds as under way: nothing is sent to a device
// because a back-up was put back. What was only asked for is dropped; what may have
// been sent asks a person.
func (s *Store) AfterRestore(ctx context.Context) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		for _, sql := range []string{
			`update change set state = 'failed', says = 'not sent: it was open when this back-up was made', settled_at = now() where state = 'asked'`,
			`update change set state = 'asks', says = 'it was under way when this back-up was made: read it again and decide', settled_at = now() where state in ('sent', 'read back', 'undoing')`,
			`update run set then_read = '{}' where then_read <> '{}'`,
			`update run_step set state = 'stopped', says = 'it was open when this back-up was made', ended_at = now() where state in ('waiting', 'working')`,
			`update run r set stop = true, ended_at = now(), done = t.done, failed = t.failed, stopped = t.stopped from (select run_id, count(*) filter (where state = 'done') done,
				count(*) filter (where state = 'failed') failed, count(*) filter (where state = 'stopped') stopped from run_step group by run_id) t where t.run_id = r.id and r.ended_at is null`,
			`update signin set ended_at = now() where ended_at is null`,
		} {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return err
			}
		}
		return nil
	})
}

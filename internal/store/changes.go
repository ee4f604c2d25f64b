package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
)

// State of a change as kept.
type State string

const (
	Asked    State = "asked"     // written down, nothing sent
	Sent     State = "sent"      // about to be sent, or sent
	ReadBack State = "read back" // reads as wanted; it is read again later
	Verified State = "verified"
	Failed   State = "failed"
	Asks     State = "asks"    // it reads neither from nor to: a person decides
	Undoing  State = "undoing" // was made, and is being taken back
	Undone   State = "undone"
)

// Change is a change as kept: the row that is there before the call.
type Change struct {
	ID        int64
	SiteID    int64
	DeviceID  int64
	SourceID  *int64 // the view that it is about; nil: the device itself
	RowID     int64  // the source whose row shows it: that view, else the device's first; 0: a recorder's
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
	State     State
	Says      string
	Reads     string
	Writes    int
	UndoOf    *int64
	Who       string
	Place     string
	Gone      bool // its device, or the recorder that it was written to, is off the site
	AskedAt   time.Time
	SentAt    *time.Time
	SettledAt *time.Time
}

// Core is the change as the rules speak of it.
func (c Change) Core() finding.Change {
	return finding.Change{Kind: c.Kind, Key: c.Key, Title: c.Title, From: c.FromText, To: c.ToText, Why: c.Why,
		Risk: c.Risk, Undo: c.Undo, Args: c.Args}
}

// About says whether the change is about a view or its device.
func (c Change) About(of Source) bool {
	return c.DeviceID == of.Device.ID && (c.SourceID == nil || *c.SourceID == of.ID)
}

// Enrolled says whether what the change is about still has a row: the view that it was made
// for may have been given up since.
func (c Change) Enrolled() bool { return c.SourceID != nil || c.Stage.OfDevice() || c.RowID == 0 }

// Open says whether the change isn't settled yet.
func (c Change) Open() bool { return c.State == Asked || c.State == Sent || c.State == ReadBack }

// Made says whether the device was left as the change wanted.
func (c Change) Made() bool { return c.State == Verified || c.State == ReadBack }

const changeSelect = `select c.id, c.site_id, coalesce(c.device_id, 0) device_id, c.source_id, coalesce(c.source_id, f.id, 0) row_id, c.step_id, c.stage, c.kind, c.key, c.title, c.from_text, c.to_text, c.why, c.risk, c.undo, c.args,
	c.later, c.state, c.says, c.reads, c.writes, c.undo_of, coalesce(p.name, 'token ' || k.name, 'the product') who, coalesce(v.name, d.place, c.of_place) place,
	coalesce(c.device_id is null or coalesce(c.args ->> 'analyser', c.args ->> 'recorder') ~ '^[0-9]{1,18}$' and not exists (select 1 from device r where r.id = coalesce(c.args ->> 'analyser', c.args ->> 'recorder')::bigint), false) gone, c.asked_at, c.sent_at, c.settled_at
	from change c left join device d on d.id = c.device_id left join source v on v.id = c.source_id left join source f on f.device_id = c.device_id and f.nth = 1 left join person p on p.id = c.person_id left join api_token k on k.id = c.token_id `

// ErrUnderWay is returned when the same change is being made already.
var ErrUnderWay = errors.New("that change is under way already")

// NewChange is a change that is asked for, with whose it is.
type NewChange struct {
	Site, Device, Source, Step int64 // Source 0: of the device itself
	Person, Token              int64
	UndoOf                     int64
	Stage                      stage.Stage
	finding.Change
}

// AddChanges writes changes as asked for, in the transaction that makes their run.
func (s *Store) AddChanges(ctx context.Context, tx pgx.Tx, all []NewChange) error {
	b := &pgx.Batch{}
	for _, c := range all {
		undo, err := json.Marshal(c.Undo)
		if err != nil {
			return err
		}
		later := make([]int64, len(c.Later))
		for i, d := range c.Later {
			later[i] = int64(d)
		}
		args := c.Args
		if args == nil {
			args = map[string]string{}
		}
		b.Queue(`insert into change (site_id, device_id, source_id, step_id, stage, kind, key, title, from_text, to_text, why, risk, undo, args, later, state, person_id, token_id, undo_of)
		values ($1, $2, nullif($3::bigint, 0), $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, 'asked', nullif($16::bigint, 0), nullif($17::bigint, 0), nullif($18::bigint, 0))`,
			c.Site, c.Device, c.Source, c.Step, c.Stage, c.Kind, c.Key, c.Title, c.From, c.To, c.Why, c.Risk, undo, args, later, c.Person, c.Token, c.UndoOf)
	}
	err := tx.SendBatch(ctx, b).Close()
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return ErrUnderWay
	}
	return err
}

// ChangesOfStep lists a step's changes in the order they were asked for.
func (s *Store) ChangesOfStep(ctx context.Context, step int64) ([]Change, error) {
	return queryAll[Change](ctx, s.db, changeSelect+`where c.step_id = $1 order by c.id`, step)
}

// Change finds one change.
func (s *Store) Change(ctx context.Context, id int64) (Change, error) {
	return queryOne[Change](ctx, s.db, changeSelect+`where c.id = $1`, id)
}

// ChangesOf lists the newest changes of a view and of its device.
func (s *Store) ChangesOf(ctx context.Context, of Source, limit int) ([]Change, error) {
	return queryAll[Change](ctx, s.db, changeSelect+`where c.device_id = $1 and (c.source_id is null or c.source_id = $2) order by c.asked_at desc, c.id desc limit $3`, of.Device.ID, of.ID, limit)
}

// Changes lists a site's changes, newest first, limit of them after skip; where source
// isn't 0, those of that view and of its device.
func (s *Store) Changes(ctx context.Context, site, source int64, skip, limit int) ([]Change, error) {
	if source == 0 {
		return queryAll[Change](ctx, s.db, changeSelect+`where c.site_id = $1 order by c.asked_at desc, c.id desc offset $2 limit $3`, site, skip, limit)
	}
	return queryAll[Change](ctx, s.db, changeSelect+`where c.site_id = $1 and c.device_id = (select device_id from source where id = $2) and (c.source_id is null or c.source_id = $2)
		order by c.asked_at desc, c.id desc offset $3 limit $4`, site, source, skip, limit)
}

// OpenChanges lists the changes of devices that aren't settled.
func (s *Store) OpenChanges(ctx context.Context, devices []int64) ([]Change, error) {
	return queryAll[Change](ctx, s.db, changeSelect+`where c.device_id = any($1) and c.state in ('asked', 'sent', 'read back') order by c.id`, devices)
}

// Latest says whether no later change of the same thing was asked for.
func (s *Store) Latest(ctx context.Context, c Change) (bool, error) {
	var later bool
	err := s.db.QueryRow(ctx, `select exists (select 1 from change where device_id = $1 and key = $2 and id > $3 and source_id is not distinct from $4)`, c.DeviceID, c.Key, c.ID, c.SourceID).Scan(&later)
	return !later, err
}

// fenced makes an update of a change hold only while the lease with that fence is
// the device's newest: a writer that was overtaken writes nothing.
func (s *Store) fenced(ctx context.Context, q execer, id, fence int64, set string, args ...any) error {
	tag, err := q.Exec(ctx, `update change c set fence = $2, `+set+` where c.id = $1 and c.fence <= $2
		and not exists (select 1 from lease l where l.device_id = c.device_id and l.fence > $2)`, append([]any{id, fence}, args...)...)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrFenced
	}
	return err
}

// SendChange writes down that a change is about to be sent; it counts every sending.
func (s *Store) SendChange(ctx context.Context, id, fence int64, reads string) error {
	return s.fenced(ctx, s.db, id, fence, `state = 'sent', reads = $3, sent_at = now(), writes = writes + 1`, reads)
}

const settleSet = `state = $3, reads = case when $4 <> '' then $4 else reads end, says = $5, settled_at = case when $3 in ('verified', 'failed', 'asks', 'undone') then now() end`

// SettleChange writes a change's state and what the device read.
func (s *Store) SettleChange(ctx context.Context, id, fence int64, state State, reads, says string) error {
	return s.fenced(ctx, s.db, id, fence, settleSet, string(state), reads, says)
}

// SettleChangeTx is SettleChange within a transaction.
func (s *Store) SettleChangeTx(ctx context.Context, tx pgx.Tx, id, fence int64, state State, reads, says string) error {
	return s.fenced(ctx, tx, id, fence, settleSet, string(state), reads, says)
}

// sweepAfter is how long after its step ended an open change is left to who may still
// settle it.
const sweepAfter = 30 * time.Second

// SweepChanges settles the changes that are open though their step ended: what was only
// asked for isn't sent any more, and what may have been sent asks a person. It returns
// how many there were.
func (s *Store) SweepChanges(ctx context.Context) (int64, error) {
	tag, err := s.db.Exec(ctx, `update change c set state = case when c.state = 'asked' then 'failed' else 'asks' end, settled_at = now(),
			says = case when c.state = 'asked' then 'not sent: the step that was to make it ended before' else 'The step that made it ended before it was read back: read it again and decide.' end
		from run_step t where t.id = c.step_id and c.state in ('asked', 'sent', 'undoing') and t.ended_at < now() - $1::interval`, sweepAfter)
	return tag.RowsAffected(), err
}

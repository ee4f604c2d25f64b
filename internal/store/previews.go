package store

import (
	"context"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
)

// Whose says who was shown something: a person, else a program by its token.
type Whose struct{ Person, Token int64 }

// Preview is what a person, or a program, was shown before it is written.
type Preview struct {
	ID       int64
	SiteID   int64
	PersonID *int64
	TokenID  *int64
	Stage    stage.Stage
	Title    string
	AskedOf  string
	Lines    []PreviewLine
	Idle     int      // selected, and nothing is proposed for them
	UnderWay int      // selected, and being changed just now
	Cant     []string // whose of the selection it is and why it can't be changed
	Makes    []string // what it makes of the recorders that it touches
	MadeAt   time.Time
	TakenAt  *time.Time
	RunID    *int64 // that makes it
}

// PreviewLine is what is to be changed of one source; where the stage is the device's, of
// its device.
type PreviewLine struct {
	Source  int64            `json:"source"` // 0: a device without rows, a recorder
	Device  int64            `json:"device"`
	Place   string           `json:"place"`
	Address string           `json:"address"`
	Changes []finding.Change `json:"changes"`
	UndoOf  []int64          `json:"undo_of,omitempty"` // which change each takes back
}

// previewKept is how long a preview is kept that nobody took.
const previewKept = 24 * time.Hour

// KeepPreview keeps what a person is shown, and forgets what nobody took in a day.
func (s *Store) KeepPreview(ctx context.Context, of Whose, p Preview) (id int64, err error) {
	if _, err := s.db.Exec(ctx, `delete from preview where made_at < now() - $1::interval`, previewKept); err != nil {
		return 0, err
	}
	err = s.db.QueryRow(ctx, `insert into preview (site_id, person_id, token_id, stage, title, asked_of, lines, idle, under_way, cant, makes)
		values ($1, nullif($2::bigint, 0), nullif($9::bigint, 0), $3, $4, $5, $6, $7, $8, $10, $11) returning id`,
		p.SiteID, of.Person, p.Stage, p.Title, p.AskedOf, p.Lines, p.Idle, p.UnderWay, of.Token, none(p.Cant), none(p.Makes)).Scan(&id)
	return id, err
}

// theirs is a preview's number, site and whose it is, as $1 to $4.
const theirs = `id = $1 and site_id = $2 and person_id is not distinct from nullif($3::bigint, 0) and token_id is not distinct from nullif($4::bigint, 0)`

const previewColumns = `id, site_id, person_id, token_id, stage, title, asked_of, lines, idle, under_way, cant, makes, made_at, taken_at, run_id`

// PreviewOf finds what somebody was shown on a site; ErrNotFound where it wasn't them.
func (s *Store) PreviewOf(ctx context.Context, site int64, of Whose, id int64) (Preview, error) {
	return queryOne[Preview](ctx, s.db, `select `+previewColumns+` from preview where `+theirs, id, site, of.Person, of.Token)
}

// PreviewFor is how long what a person was shown may be taken.
const PreviewFor = 30 * time.Minute

// TakePreview gives a preview to who makes it: of several who ask at once, one. ErrNotFound
// where it was taken, or was shown too long ago.
func (s *Store) TakePreview(ctx context.Context, site int64, of Whose, id int64) (Preview, error) {
	return queryOne[Preview](ctx, s.db, `update preview set taken_at = now() where `+theirs+`
		and taken_at is null and made_at > now() - $5::interval returning `+previewColumns, id, site, of.Person, of.Token, PreviewFor)
}

// PreviewMade keeps which run makes a preview; 0: none could be begun, and it may be taken
// again.
func (s *Store) PreviewMade(ctx context.Context, id, run int64) error {
	_, err := s.db.Exec(ctx, `update preview set run_id = nullif($2::bigint, 0), taken_at = case when $2::bigint = 0 then null else taken_at end where id = $1`, id, run)
	return err
}

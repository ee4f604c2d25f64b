package store

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/netplan"
)

// System is what takes part in a site's work and is neither camera nor recorder.
type System struct {
	ID      int64
	SiteID  int64
	Kind    netplan.SystemKind
	Name    string
	Address netip.Addr
	SetID   *int64 // its account; nil: none
	Set     string
	Note    string
	AskedAt *time.Time // nil: never
	Answers bool
	Says    string // what it answered, or how it didn't
}

const systemSelect = `select y.id, y.site_id, y.kind, y.name, y.address, y.set_id, coalesce(c.name, '') set, y.note, y.asked_at, y.answers, y.says
	from system y left join credential_set c on c.id = y.set_id `

// Systems lists a site's systems, by kind and name.
func (s *Store) Systems(ctx context.Context, site int64) ([]System, error) {
	return queryAll[System](ctx, s.db, systemSelect+`where y.site_id = $1 order by y.kind, y.name`, site)
}

// SystemsIn lists a site's systems whose address is in a prefix.
func (s *Store) SystemsIn(ctx context.Context, site int64, p netip.Prefix) ([]System, error) {
	return queryAll[System](ctx, s.db, systemSelect+`where y.site_id = $1 and y.address <<= $2 order by y.id`, site, p)
}

// uniqueViolation is PostgreSQL's code for it (its manual, appendix A).
const uniqueViolation = "23505"

func named(err error) error {
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == uniqueViolation {
		return ErrNameTaken
	}
	return err
}

// AddSystem adds a system; ErrNameTaken where the site has one of that name.
func (s *Store) AddSystem(ctx context.Context, y System) (id int64, err error) {
	err = s.db.QueryRow(ctx, `insert into system (site_id, kind, name, address, set_id, note) values ($1, $2, $3, $4, $5, $6) returning id`,
		y.SiteID, y.Kind, y.Name, y.Address, y.SetID, y.Note).Scan(&id)
	return id, named(err)
}

// SetSystem changes a system; what it answered goes where it is asked elsewhere or otherwise
// now. ErrNameTaken where the site has another of that name, ErrNotFound where it has none of
// that number.
func (s *Store) SetSystem(ctx context.Context, y System) error {
	tag, err := s.db.Exec(ctx, `update system set kind = $3, name = $4, set_id = $6, note = $7,
		asked_at = case when address = $5 and kind = $3 then asked_at end, answers = answers and address = $5 and kind = $3,
		says = case when address = $5 and kind = $3 then says else '' end, address = $5
		where site_id = $1 and id = $2`, y.SiteID, y.ID, y.Kind, y.Name, y.Address, y.SetID, y.Note)
	return orNone(tag.RowsAffected(), named(err))
}

// RemoveSystem takes a system off a site and returns what it was called.
func (s *Store) RemoveSystem(ctx context.Context, site, id int64) (name string, err error) {
	err = s.db.QueryRow(ctx, `delete from system where site_id = $1 and id = $2 returning name`, site, id).Scan(&name)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", ErrNotFound
	}
	return name, err
}

// KeepAnswers writes what systems answered just now.
func (s *Store) KeepAnswers(ctx context.Context, all []System) error {
	b := &pgx.Batch{}
	for _, y := range all {
		b.Queue(`update system set asked_at = now(), answers = $3, says = $4 where id = $1 and address = $2`, y.ID, y.Address, y.Answers, y.Says)
	}
	return s.db.SendBatch(ctx, b).Close()
}

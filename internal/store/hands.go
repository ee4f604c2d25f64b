package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/picture"
)

// Hand is who holds a camera by hand, from which view.
type Hand struct {
	DeviceID int64
	Number   int64 // rises with every taking
	SourceID int64
	PersonID *int64
	TokenID  *int64
	Who      string      // by name
	Home     picture.Aim // where it looked when it was first taken
	TakenAt  time.Time
	Lapsed   bool // nobody said for as long as asked that it is held still, or it was held for picture.HandMost
}

const handSelect = `select h.device_id, h.number, h.source_id, h.person_id, h.token_id, coalesce(p.name, 'token ' || t.name, 'a program') as who, h.home, h.taken_at,
	h.kept_at < now() - $2::interval or h.taken_at < now() - $3::interval as lapsed
	from hand h left join person p on p.id = h.person_id left join api_token t on t.id = h.token_id where h.device_id = $1`

// HandOn is who holds a device by hand, lapsed where that wasn't said for so long; ErrNotFound where nobody does.
func (s *Store) HandOn(ctx context.Context, device int64, quiet time.Duration) (Hand, error) {
	all, err := queryAll[Hand](ctx, s.db, handSelect, device, quiet, picture.HandMost)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Hand{}, err
	}
	return all[0], nil
}

// TakeHand takes a device by hand, where nobody holds it, who did fell silent for quiet, or over is true. Where it
// looked when the first of them took it stays known. ErrHeld where another holds it.
func (s *Store) TakeHand(ctx context.Context, h Hand, quiet time.Duration, over bool) (Hand, error) {
	var number int64
	err := s.db.QueryRow(ctx, `insert into hand (device_id, source_id, person_id, token_id, home) values ($1, $2, $3, $4, $5)
		on conflict (device_id) do update set number = default, source_id = excluded.source_id, person_id = excluded.person_id,
			token_id = excluded.token_id, taken_at = now(), kept_at = now()
		where $7 or hand.kept_at < now() - $6::interval or hand.taken_at < now() - $8::interval
			or (hand.person_id, hand.token_id) is not distinct from (excluded.person_id, excluded.token_id)
		returning number`, h.DeviceID, h.SourceID, h.PersonID, h.TokenID, h.Home, quiet, over, picture.HandMost).Scan(&number)
	if errors.Is(err, pgx.ErrNoRows) {
		return Hand{}, ErrHeld
	}
	if err != nil {
		return Hand{}, err
	}
	return s.HandOn(ctx, h.DeviceID, quiet)
}

// ErrHeld is returned where another holds a camera by hand.
var ErrHeld = errors.New("store: another holds it")

// KeepHand notes that a hand still holds its device, by its number and whose it is; ErrHeld where it doesn't any more.
func (s *Store) KeepHand(ctx context.Context, h Hand) error {
	tag, err := s.db.Exec(ctx, `update hand set kept_at = now() where device_id = $1 and number = $2
		and (person_id, token_id) is not distinct from ($3::bigint, $4::bigint) and taken_at > now() - $5::interval`,
		h.DeviceID, h.Number, h.PersonID, h.TokenID, picture.HandMost)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrHeld
	}
	return err
}

// DropHand lets a device go, of that number; ErrHeld where that hand doesn't hold it any more.
func (s *Store) DropHand(ctx context.Context, device, number int64) error {
	tag, err := s.db.Exec(ctx, `delete from hand where device_id = $1 and number = $2`, device, number)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrHeld
	}
	return err
}

package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/channel"
)

// SetBench keeps that a recorder of a site is set up by hand, and what is known of it; nil: it isn't.
// ErrNotFound where the site has no such recorder.
func (s *Store) SetBench(ctx context.Context, site, recorder int64, b *channel.Bench) error {
	tag, err := s.db.Exec(ctx, `update device set bench = $3, version = version + 1 where site_id = $1 and id = $2 and kind = 'recorder'`, site, recorder, b)
	return orNone(tag.RowsAffected(), err)
}

// TickBench keeps that views were typed in at channels of a recorder that is set up by hand.
func (s *Store) TickBench(ctx context.Context, recorder int64, all []channel.BenchEntry) error {
	b := &pgx.Batch{}
	for _, e := range all {
		b.Queue(`insert into bench_entry (recorder_id, channel, source_id, profile, by_name, name) values ($1, $2, $3, $4, $5, $6)
			on conflict (recorder_id, channel) do update set source_id = excluded.source_id, profile = excluded.profile, by_name = excluded.by_name, name = excluded.name, typed_at = now()`,
			recorder, e.Channel, e.Source, e.Profile, e.By, e.Name)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// UntickBench forgets what was typed in at a channel.
func (s *Store) UntickBench(ctx context.Context, recorder int64, number int) error {
	tag, err := s.db.Exec(ctx, `delete from bench_entry where recorder_id = $1 and channel = $2`, recorder, number)
	return orNone(tag.RowsAffected(), err)
}

// BenchEntries lists what was typed in at a recorder that is set up by hand, by channel.
func (s *Store) BenchEntries(ctx context.Context, recorder int64) ([]channel.BenchEntry, error) {
	type row struct {
		Channel int
		Source  int64
		Device  int64
		Name    string
		Address string
		Profile string
		TypedAt time.Time
		By      string
	}
	rows, err := queryAll[row](ctx, s.db, `select b.channel, b.source_id source, s.device_id device, coalesce(nullif(b.name, ''), s.name) "name", coalesce(host(d.address), '') address, b.profile, b.typed_at, b.by_name "by"
		from bench_entry b join source s on s.id = b.source_id join device d on d.id = s.device_id where b.recorder_id = $1 order by b.channel`, recorder)
	out := make([]channel.BenchEntry, len(rows))
	for i, r := range rows {
		out[i] = channel.BenchEntry(r)
	}
	return out, err
}

// SetCascade keeps that a recorder of a site takes other recorders' channels, and which; nil: it takes
// cameras. ErrNotFound where the site has no such recorder.
func (s *Store) SetCascade(ctx context.Context, site, recorder int64, f *channel.Cascade) error {
	tag, err := s.db.Exec(ctx, `update device set cascade = $3, version = version + 1 where site_id = $1 and id = $2 and kind = 'recorder'`, site, recorder, f)
	return orNone(tag.RowsAffected(), err)
}

// PickCascade keeps that a recorder takes a channel of another, or doesn't any more. Nothing is kept of
// one that takes cameras.
func (s *Store) PickCascade(ctx context.Context, recorder int64, p channel.Pick, on bool) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		var f *channel.Cascade
		if err := tx.QueryRow(ctx, `select cascade from device where id = $1 for update`, recorder).Scan(&f); err != nil || f == nil {
			return err
		}
		_, err := tx.Exec(ctx, `update device set cascade = $2, version = version + 1 where id = $1`, recorder, f.With(p, on))
		return err
	})
}

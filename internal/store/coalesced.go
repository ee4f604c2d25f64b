package store

import (
	"context"
	"errors"
	"net/netip"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/store/coalesce"
)

// coalesced is what steps that work at the same time ask of the database: one round
// trip serves all that ask for the same kind of thing just then.
type coalesced struct {
	sources coalesce.Group[Target, *Source]
	sets    coalesce.Group[int64, *SealedSet]
	setsFor coalesce.Group[setsFor, []SealedSet]
	alike   coalesce.Group[alike, [2][]int64]
	sites   coalesce.Group[siteOf, seen]
	past    coalesce.Group[pastOf, []Fact]
	writes  coalesce.Group[Writes, struct{}]
	begins  coalesce.Group[beginning, begun]
	ends    coalesce.Group[ending, bool]
	tries   coalesce.Group[firstTry, int64]
	outcome coalesce.Group[outcomeOf, struct{}]
}

// refused says whether a statement failed of itself: then its round wrote nothing.
func refused(err error) bool {
	var pe *pgconn.PgError
	return errors.As(err, &pe)
}

func (s *Store) gather() {
	t := &s.coalesced
	t.sources = coalesce.Group[Target, *Source]{Do: s.sourcesAtOnce}
	t.sets = coalesce.Group[int64, *SealedSet]{Do: s.setsAtOnce}
	t.setsFor = coalesce.Group[setsFor, []SealedSet]{Do: s.setsForAtOnce}
	t.alike = coalesce.Group[alike, [2][]int64]{Do: s.alikeAtOnce}
	t.sites = coalesce.Group[siteOf, seen]{Do: s.sitesAtOnce}
	t.past = coalesce.Group[pastOf, []Fact]{Do: s.pastAtOnce}
	t.writes = coalesce.Group[Writes, struct{}]{Do: s.writeAtOnce, Apart: refused}
	t.begins = coalesce.Group[beginning, begun]{Do: s.beginAtOnce, Apart: refused}
	t.ends = coalesce.Group[ending, bool]{Do: s.endAtOnce, Apart: refused}
	t.tries = coalesce.Group[firstTry, int64]{Do: s.tryAtOnce, Apart: refused}
	t.outcome = coalesce.Group[outcomeOf, struct{}]{Do: s.outcomesAtOnce, Apart: refused}
}

// byID answers each number with its row; nil where there is none.
func byID[T any](all []int64, rows []T, id func(*T) int64) []*T {
	found := make(map[int64]*T, len(rows))
	for i := range rows {
		found[id(&rows[i])] = &rows[i]
	}
	out := make([]*T, len(all))
	for i, n := range all {
		out[i] = found[n]
	}
	return out
}

// found is what a round found, or ErrNotFound.
func found[T any](p *T, err error) (T, error) {
	if err == nil && p == nil {
		err = ErrNotFound
	}
	if err != nil {
		var none T
		return none, err
	}
	return *p, nil
}

func (s *Store) setsAtOnce(ctx context.Context, all []int64) ([]*SealedSet, error) {
	rows, err := queryAll[SealedSet](ctx, s.db, `select `+setColumns+` from credential_set where id = any($1)`, all)
	return byID(all, rows, func(v *SealedSet) int64 { return v.ID }), err
}

type setsFor struct{ site, device int64 }

func (s *Store) setsForAtOnce(ctx context.Context, all []setsFor) ([][]SealedSet, error) {
	sites, devices := make([]int64, len(all)), make([]int64, len(all))
	for i, a := range all {
		sites[i], devices[i] = a.site, a.device
	}
	type row struct {
		SiteID int64
		SealedSet
	}
	rows, err := queryAll[row](ctx, s.db, `select site_id, `+setColumns+` from credential_set where site_id = any($1) and (device_id is null or device_id = any($2)) order by id`, sites, devices)
	out := make([][]SealedSet, len(all))
	for i, a := range all {
		for _, r := range rows {
			if r.SiteID == a.site && (r.Device == 0 || r.Device == a.device) {
				out[i] = append(out[i], r.SealedSet)
			}
		}
	}
	return out, err
}

type alike struct {
	site  int64
	maker string
	near  netip.Prefix
}

func (s *Store) alikeAtOnce(ctx context.Context, all []alike) ([][2][]int64, error) {
	b := &pgx.Batch{}
	found := map[alike]*[2][]int64{} // devices of one make in one network ask the same
	for _, a := range all {
		if found[a] != nil {
			continue
		}
		got := new([2][]int64)
		found[a] = got
		into := func(out *[]int64) func(pgx.Rows) error {
			return func(rows pgx.Rows) (err error) { *out, err = pgx.CollectRows(rows, pgx.RowTo[int64]); return err }
		}
		var prefix *netip.Prefix
		if a.near.IsValid() {
			prefix = &a.near
		}
		b.Queue(`select opened_set from (select distinct opened_set from (select opened_set from device where site_id = $1 and make = $2 and opened_set is not null limit 64) a) b limit 8`, a.site, a.maker).Query(into(&got[0]))
		b.Queue(`select opened_set from (select distinct opened_set from (select opened_set from device where site_id = $1 and address <<= $2::cidr and opened_set is not null limit 64) a) b limit 8`, a.site, prefix).Query(into(&got[1]))
	}
	err := s.db.SendBatch(ctx, b).Close()
	out := make([][2][]int64, len(all))
	for i, a := range all {
		out[i] = *found[a]
	}
	return out, err
}

type siteOf struct {
	site int64
	only []int64
}

type seen struct {
	SiteReading
	err error
}

// sitesAtOnce reads one reading a site for all who ask for some of its devices, and
// gives each the devices it asked for. What hangs on the others is there too.
func (s *Store) sitesAtOnce(ctx context.Context, all []siteOf) ([]seen, error) {
	bySite := map[int64][]int64{}
	for _, a := range all {
		bySite[a.site] = append(bySite[a.site], a.only...)
	}
	read := map[int64]seen{}
	for site, only := range bySite {
		slices.Sort(only)
		sc, err := s.readSite(ctx, site, append([]int64{}, slices.Compact(only)...))
		read[site] = seen{sc, err}
	}
	out := make([]seen, len(all))
	for i, a := range all {
		out[i] = read[a.site]
		if len(all) > 1 {
			out[i].Devices, out[i].Sources = out[i].some(a.only)
		}
	}
	return out, nil
}

type pastOf struct {
	device int64
	name   string
	limit  int
}

func (s *Store) pastAtOnce(ctx context.Context, all []pastOf) ([][]Fact, error) {
	devices, names, limits := make([]int64, len(all)), make([]string, len(all)), make([]int64, len(all))
	for i, a := range all {
		devices[i], names[i], limits[i] = a.device, a.name, int64(a.limit)
	}
	type row struct {
		Nth int64
		Fact
	}
	rows, err := queryAll[row](ctx, s.db, `select n.nth, h.device_id, coalesce(h.source_id, 0) "view", h.name, h.value, h.via, h.read_at from unnest($1::bigint[], $2::text[], $3::bigint[]) with ordinality n(device_id, name, most, nth)
		cross join lateral (select * from fact_history h where h.device_id = n.device_id and h.name = n.name order by h.read_at desc limit n.most) h order by n.nth, h.read_at desc`, devices, names, limits)
	out := make([][]Fact, len(all))
	for _, r := range rows {
		out[r.Nth-1] = append(out[r.Nth-1], r.Fact)
	}
	return out, err
}

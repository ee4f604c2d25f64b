package store

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
)

// Selection is some of a site's sources, as a query: those the filter takes, or
// those of IDs where it isn't nil. It is never turned into a list before it must be.
type Selection struct {
	Site     int64
	Filter   filter.Filter
	IDs      []int64
	Expected bool // those alone that the list names
	// Devices takes the first view of each device alone, for what is the device's: the
	// filter takes it by any of its views' places.
	Devices bool
	// Ready limits it to cameras that a stage can be read of: 0 asks nothing.
	Ready stage.Stage
	// Act limits it to sources whose mark in ActStage has this act; where the stage is the
	// device's, that of the device's first view.
	ActStage stage.Stage
	Act      stage.Act
}

// behindPort is how the ways of a sighting say that only a recorder tells of a device.
const behindPort = `f.value->'ways' ? '` + string(identity.OnAPort) + `'`

// required is what a stage asks to be known of a device, as SQL.
var required = map[stage.Requirement]string{
	stage.Seen:        has(fact.Seen, ""),
	stage.Speaks:      has(fact.Seen, ` and (f.value->>'service' <> '' or f.value->>'rtsp_port' <> '0') and not `+behindPort),
	stage.SpeaksONVIF: has(fact.Seen, ` and f.value->>'service' <> '' and not `+behindPort),
	stage.Opened:      has(fact.Account, ""),
	stage.Certain:     `not exists (select 1 from finding g join source l on l.id = g.source_id where l.device_id = d.id and g.code = '` + access.DoubtCode + `')`,
}

// has asks in SQL whether device d has a fact f of which more is true.
func has(name, more string) string {
	return `exists (select 1 from fact f where f.device_id = d.id and f.name = '` + name + `'` + more + `)`
}

// query gathers a where clause and its arguments.
type query struct {
	parts []string
	args  []any
}

func (q *query) add(format string, args ...any) {
	n := len(q.args)
	names := make([]any, len(args))
	for i := range args {
		names[i] = fmt.Sprintf("$%d", n+i+1)
	}
	q.parts, q.args = append(q.parts, fmt.Sprintf(format, names...)), append(q.args, args...)
}

func (q *query) where() string { return "where " + strings.Join(q.parts, " and ") }

var likeEscape = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

func (s Selection) query() *query {
	q := &query{}
	q.add("d.site_id = %s", s.Site)
	q.add("d.kind = %s", string(identity.Camera))
	if s.IDs != nil {
		q.add("s.id = any(%s)", s.IDs)
	}
	if s.Devices {
		q.parts = append(q.parts, "s.nth = 1")
	}
	if s.Expected {
		q.parts = append(q.parts, "d.expected")
	}
	s.filter(q)
	for _, r := range s.Ready.Requires() {
		q.parts = append(q.parts, required[r])
	}
	if s.Act != "" {
		of := "s.id"
		if s.ActStage.OfDevice() {
			of = "(select l.id from source l where l.device_id = d.id and l.nth = 1)"
		}
		q.add("exists (select 1 from mark m where m.source_id = "+of+" and m.stage = %s and m.act = %s)", s.ActStage, s.Act)
	}
	return q
}

func (s Selection) filter(q *query) {
	f := s.Filter
	if len(f.Unknown) > 0 {
		q.parts = append(q.parts, "false")
	}
	place := "s.name"
	if s.Devices {
		place = "(select string_agg(x.name, ' ') from source x where x.device_id = d.id)"
	}
	for _, w := range f.Words {
		q.add(`(`+place+` || ' ' || d.make || ' ' || d.model || ' ' || coalesce(host(d.address), '') || ' ' || d.serial || ' ' || d.mac) ilike %s`, "%"+likeEscape.Replace(w)+"%")
	}
	if f.Make != "" {
		q.add("d.make ilike %s", likeEscape.Replace(f.Make)+"%")
	}
	if f.Recorder != "" {
		q.add("s.recorder_id = any(array(select r.id from device r where r.kind = 'recorder' and r.site_id = $1 and r.place ilike %s))", likeEscape.Replace(f.Recorder)+"%")
	}
	if f.Net != "" {
		like := likeEscape.Replace(f.Net) + "%"
		q.add("(host(d.address) like %s or d.address <<= any(array(select n.prefix::inet from network n where n.site_id = $1 and n.name ilike %s)))", like, like)
	}
	if f.Prefix.IsValid() {
		q.add("d.address <<= %s::inet", f.Prefix)
	}
	switch {
	case f.States != nil:
		letters, working := "", false
		for _, st := range f.States {
			letters, working = letters+st.Letter(), working || st == stage.Working
		}
		or := ""
		if working {
			or = ` or exists (select 1 from change c where c.device_id = d.id and (c.source_id is null or c.source_id = s.id) and c.state in ('asked', 'sent', 'read back') and (%[2]s = 0 or c.stage = %[2]s))`
		}
		q.add(`(translate(case when %[2]s = 0 then s.standing else substr(s.standing, %[2]s, 1) end, %[1]s, '') <> case when %[2]s = 0 then s.standing else substr(s.standing, %[2]s, 1) end`+or+`)`, letters, int(f.Stage))
	case f.Stage != 0:
		q.add("substr(s.standing, %s, 1) <> 'y'", int(f.Stage))
	}
}

// Sort is a column and a direction. The zero Sort is the list's own order.
type Sort struct {
	By   string // "place", "make", "address" or a stage's slug
	Down bool
}

// String is what ParseSort reads; empty for the list's own order.
func (s Sort) String() string {
	if s.Down {
		return "-" + s.By
	}
	return s.By
}

// ParseSort reads "clock" or "-clock"; anything else is the list's own order.
func ParseSort(text string) Sort {
	by, down := strings.CutPrefix(text, "-")
	switch by {
	case "place", "make", "address":
		return Sort{by, down}
	}
	if _, ok := stage.Parse(by); ok {
		return Sort{by, down}
	}
	return Sort{}
}

func (s Sort) order(q *query) string {
	dir := ""
	if s.Down {
		dir = " desc"
	}
	switch s.By {
	case "":
		return "d.position, d.id, s.nth"
	case "place":
		return "lower(s.name)" + dir + ", s.id"
	case "make":
		return "lower(d.make || ' ' || d.model)" + dir + ", d.position, d.id, s.nth"
	case "address":
		return "d.address" + dir + " nulls last, d.id, s.nth"
	}
	// What needs a person most comes first.
	st, _ := stage.Parse(s.By)
	q.args = append(q.args, int(st))
	letters := ""
	for _, u := range stage.Urgency() {
		letters += u.Letter()
	}
	return fmt.Sprintf("position(substr(s.standing, $%d, 1) in '%s')", len(q.args), letters) + dir + ", d.position, d.id, s.nth"
}

// Window reads the selection's sources in that order, limit of them after skip, and
// how many there are in all.
func (s *Store) Window(ctx context.Context, sel Selection, by Sort, skip, limit int) ([]Source, int, error) {
	if by == (Sort{}) && sel.plain() {
		return s.listWindow(ctx, sel.Site, skip, limit)
	}
	q := sel.query()
	total := 0
	b := &pgx.Batch{}
	b.Queue(`select count(*)`+sourceFrom+q.where(), q.args...).QueryRow(func(row pgx.Row) error { return row.Scan(&total) })
	order := by.order(q)
	q.args = append(q.args, skip, limit)
	// Only numbers are sorted; what is wide is read for the window alone.
	var out []Source
	b.Queue(fmt.Sprintf(`select %s from (select s.id%s%s order by %s offset $%d limit $%d) w join source s on s.id = w.id join device d on d.id = s.device_id order by %s`,
		sourceColumns, sourceFrom, q.where(), order, len(q.args)-1, len(q.args), order), q.args...).Query(func(rows pgx.Rows) (err error) {
		out, err = sourcesIn(rows)
		return err
	})
	return out, total, s.db.SendBatch(ctx, b).Close()
}

// plain says whether the selection is simply all sources of the site.
func (s Selection) plain() bool {
	return s.IDs == nil && s.Filter.Empty() && s.Ready == 0 && s.Act == "" && !s.Devices && !s.Expected
}

// listWindow is Window of all sources in the list's order, by its index.
func (s *Store) listWindow(ctx context.Context, site int64, skip, limit int) ([]Source, int, error) {
	total, _, err := s.Counts(ctx, site)
	if err != nil {
		return nil, 0, err
	}
	out, err := querySources(ctx, s.db, `where d.site_id = $1 and d.kind = 'camera' order by d.position, d.id, s.nth offset $2 limit $3`, site, skip, limit)
	return out, total, err
}

// Count says how many sources the selection holds.
func (s *Store) Count(ctx context.Context, sel Selection) (int, error) {
	q := sel.query()
	var n int
	err := s.db.QueryRow(ctx, `select count(*)`+sourceFrom+q.where(), q.args...).Scan(&n)
	return n, err
}

// Resolve lists what a stage is done on for the selection, in the list's order: each view,
// or where the stage is the device's, each device once.
func (s *Store) Resolve(ctx context.Context, sel Selection, st stage.Stage) ([]Target, error) {
	q := sel.query()
	what := `select d.id device, s.id source` + sourceFrom + q.where() + ` order by d.position, d.id, s.nth`
	if st.OfDevice() {
		what = `select d.id device, 0::bigint source` + sourceFrom + q.where() + ` group by d.id order by d.position, d.id`
	}
	return queryAll[Target](ctx, s.db, what, q.args...)
}

// RecordersHeard lists the recorders of a site that have shown themselves to be one, or that a
// person sets up by hand; not those that nobody listed and that have no account.
func (s *Store) RecordersHeard(ctx context.Context, site int64) ([]int64, error) {
	return ids(ctx, s.db, `select d.id from device d left join fact f on f.device_id = d.id and f.name = '`+fact.Seen+`' where d.site_id = $1 and d.kind = 'recorder'
		and (d.expected or d.set_id is not null) and (d.bench is not null or f.value->'ways' ?| $2) order by d.position, d.id`, site, []string{string(identity.SaidHello), string(identity.RecordsOthers)})
}

// AddressesUsed tells at which addresses of a site something answered at the last look,
// and at which something is expected.
func (s *Store) AddressesUsed(ctx context.Context, site int64) (used, expected map[netip.Addr]bool, err error) {
	rows, err := s.db.Query(ctx, `select address, true from device d where site_id = $1 and address is not null and `+has(fact.Seen, "")+`
		union all select (o->>'address')::inet, true from network n, jsonb_array_elements(coalesce(n.look->'others', '[]')) o where n.site_id = $1
		union all select expected_at, false from device where site_id = $1 and expected_at is not null`, site)
	if err != nil {
		return nil, nil, err
	}
	used, expected = map[netip.Addr]bool{}, map[netip.Addr]bool{}
	var a netip.Addr
	var answers bool
	_, err = pgx.ForEachRow(rows, []any{&a, &answers}, func() error {
		if answers {
			used[a] = true
		} else {
			expected[a] = true
		}
		return nil
	})
	return used, expected, err
}

// HeardDevices tells which devices of a site answered at the last look.
func (s *Store) HeardDevices(ctx context.Context, site int64) (map[int64]bool, error) {
	all, err := ids(ctx, s.db, `select d.id from device d join fact f on f.device_id = d.id and f.name = '`+fact.Seen+`' where d.site_id = $1`, site)
	out := make(map[int64]bool, len(all))
	for _, id := range all {
		out[id] = true
	}
	return out, err
}

// Counts says how many sources and recorders a site has; a recorder that nobody listed and that has
// no account is a stranger, and isn't the site's.
func (s *Store) Counts(ctx context.Context, site int64) (sources, recorders int, err error) {
	err = s.db.QueryRow(ctx, `select (select count(*) from source where site_id = $1)::int, (select count(*) from device where site_id = $1 and kind = 'recorder' and (expected or set_id is not null))::int`, site).Scan(&sources, &recorders)
	return sources, recorders, err
}

// Proposed sums what a stage proposes for a selection: changes, and cameras that have any.
func (s *Store) Proposed(ctx context.Context, sel Selection, st stage.Stage) (changes, cameras int, err error) {
	q := sel.query()
	q.args = append(q.args, int(st))
	err = s.db.QueryRow(ctx, `select coalesce(sum(pm.changes), 0)::int, count(*)::int`+sourceFrom+fmt.Sprintf(`join mark pm on pm.source_id = s.id and pm.stage = $%d and pm.act = 'apply' `, len(q.args))+q.where(), q.args...).Scan(&changes, &cameras)
	return changes, cameras, err
}

// Dot is one device in an address field.
type Dot struct {
	ID       int64 // of its first view; 0: a recorder
	Kind     identity.Kind
	Place    string
	Address  netip.Addr
	Expected bool
	Heard    bool
	State    stage.State // its mark in the stage that is asked for
}

// Dots lists the devices at addresses of a prefix, each with its mark in a stage.
func (s *Store) Dots(ctx context.Context, site int64, st stage.Stage, in []netip.Prefix) ([]Dot, error) {
	return queryAll[Dot](ctx, s.db, `select coalesce(s.id, 0) id, d.kind, d.place, d.address, d.expected, `+has(fact.Seen, "")+` heard,
		coalesce(m.state, 'notyet') state from device d left join source s on s.device_id = d.id and s.nth = 1 left join mark m on m.source_id = s.id and m.stage = $3
		where d.site_id = $1 and exists (select 1 from unnest($2::cidr[]) p where d.address <<= p)`, site, in, int(st))
}

// HeardIn counts the devices heard at addresses of each network of a site.
func (s *Store) HeardIn(ctx context.Context, site int64) (map[int64]int, error) {
	type row struct {
		ID    int64
		Heard int
	}
	rows, err := queryAll[row](ctx, s.db, `select n.id, count(*)::int heard from network n join device d on d.site_id = n.site_id and d.address <<= n.prefix
		join fact f on f.device_id = d.id and f.name = '`+fact.Seen+`' where n.site_id = $1 group by n.id`, site)
	out := map[int64]int{}
	for _, r := range rows {
		out[r.ID] = r.Heard
	}
	return out, err
}

// ClockDot is one camera's clock as it was read last, and its mark in a stage.
type ClockDot struct {
	ID         int64 // of its first view
	Place      string
	Address    *netip.Addr
	RecorderID *int64
	Low, High  time.Duration // bounds of its offset against this server
	State      stage.State
	Sentence   string
}

// ClockDots lists the clocks of a selection that were read, one a device, each with its mark in a stage.
func (s *Store) ClockDots(ctx context.Context, st stage.Stage, sel Selection) ([]ClockDot, error) {
	sel.Devices = true
	q := sel.query()
	q.args = append(q.args, int(st))
	return queryAll[ClockDot](ctx, s.db, fmt.Sprintf(`select s.id, s.name place, d.address, s.recorder_id, (r.value->'offset'->>'low')::bigint low, (r.value->'offset'->>'high')::bigint high,
		coalesce(cm.state, 'notyet') state, coalesce(cm.sentence, '') sentence %s join fact r on r.device_id = d.id and r.name = '`+fact.Clock+`' left join mark cm on cm.source_id = s.id and cm.stage = $%d %s order by d.position, d.id`,
		sourceFrom, len(q.args), q.where()), q.args...)
}

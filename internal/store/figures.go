package store

import "context"

// Figures are sums for monitoring.
type Figures struct {
	Servers int            // heard within 15 s
	Steps   map[string]int // open ones, by state
	Changes map[string]int // by state
}

// Figures of a site.
func (s *Store) Figures(ctx context.Context, site int64) (Figures, error) {
	f := Figures{Steps: map[string]int{"waiting": 0, "working": 0}, Changes: map[string]int{}}
	if err := s.db.QueryRow(ctx, `select count(*) from server where heard_at > now() - interval '15 s'`).Scan(&f.Servers); err != nil {
		return f, err
	}
	type row struct {
		State string
		N     int
	}
	steps, err := queryAll[row](ctx, s.db, `select t.state, count(*)::int n from run_step t join run r on r.id = t.run_id where r.site_id = $1 and t.state in ('waiting', 'working') group by 1`, site)
	if err != nil {
		return f, err
	}
	for _, r := range steps {
		f.Steps[r.State] = r.N
	}
	changes, err := queryAll[row](ctx, s.db, `select state, count(*)::int n from change where site_id = $1 group by 1`, site)
	for _, r := range changes {
		f.Changes[r.State] = r.N
	}
	return f, err
}

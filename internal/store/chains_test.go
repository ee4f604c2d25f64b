package store_test

import (
	"errors"
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// A run that ended is gone on with by one of those who ask; a stopped one, one that ended long ago, one of a site that was
// put away and one of a back-up aren't.
func TestARunIsGoneOnWithOnce(t *testing.T) {
	t.Parallel()
	st, ctx := testbed.Store(t), t.Context()
	site, err := st.AddSite(ctx, store.Site{Name: "Gannet Point", Zone: "UTC", ZonePosix: "UTC0"})
	if err != nil {
		t.Fatal(err)
	}
	then := []stage.Stage{stage.Clock, stage.Streams}
	add := func(n store.NewRun) (id int64, err error) {
		n.Site, n.Stage, n.Act, n.AskedOf = site, stage.SignIn, store.Read, "all"
		err = st.InTx(ctx, func(tx pgx.Tx) error {
			id, _, err = st.AddRun(ctx, tx, n)
			return err
		})
		return id, err
	}
	exec := func(sql string, args ...any) {
		t.Helper()
		if _, err := st.Pool.Exec(ctx, sql, args...); err != nil {
			t.Fatal(err)
		}
	}
	due := func() []store.Chained {
		t.Helper()
		all, err := st.ChainsDue(ctx, 10)
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	for _, x := range []struct {
		name, sql string // what becomes of the run
		due       bool
	}{
		{"under way", `select $1::bigint`, false},
		{"ended", `update run set ended_at = now() where id = $1`, true},
		{"stopped", `update run set ended_at = now(), stop = true where id = $1`, false},
		{"ended nearly ten minutes ago", `update run set ended_at = now() - interval '9 minutes' where id = $1`, true},
		{"ended long ago", `update run set ended_at = now() - interval '11 minutes' where id = $1`, false},
	} {
		first, err := add(store.NewRun{Then: then})
		if err != nil {
			t.Fatal(err)
		}
		exec(x.sql, first)
		all := due()
		if (len(all) == 1) != x.due || x.due && (all[0].ID != first || all[0].Chain != first || !slices.Equal(all[0].Then, then) || all[0].AskedOf != "all") {
			t.Errorf("%s: %+v", x.name, all)
		}
		exec(`update site set put_away_at = now() where id = $1`, site)
		if n := len(due()); n != 0 {
			t.Errorf("%s, of a site that was put away: %d", x.name, n)
		}
		exec(`update site set put_away_at = null where id = $1`, site)
		if x.due {
			next, err := add(store.NewRun{Then: then[1:], After: first, Chain: first})
			if err != nil {
				t.Fatal(err)
			}
			if _, err := add(store.NewRun{After: first, Chain: first}); !errors.Is(err, store.ErrGoneOn) {
				t.Errorf("%s, gone on with twice: %v", x.name, err)
			}
			if runs, err := st.ChainOf(ctx, site, first); err != nil || len(runs) != 2 || runs[1].ID != next || runs[1].Chain != first {
				t.Errorf("%s: %+v %v", x.name, runs, err)
			}
		}
		exec(`delete from run`)
	}
	first, err := add(store.NewRun{Then: then})
	if err != nil {
		t.Fatal(err)
	}
	exec(`update run set ended_at = now() where id = $1`, first)
	if err := st.AfterRestore(ctx); err != nil {
		t.Fatal(err)
	}
	if n := len(due()); n != 0 {
		t.Errorf("of a back-up: %d", n)
	}
}

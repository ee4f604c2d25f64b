package store_test

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// However many servers ask at once, a key passes its burst and no more; with time it
// passes again.
func TestAGateCountsOverAllServers(t *testing.T) {
	st, _, _ := site(t)
	ctx := context.Background()
	var passed atomic.Int32
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			ok, err := st.Pass(ctx, "login maren", 5, time.Hour)
			if err != nil {
				t.Error(err)
			}
			if ok {
				passed.Add(1)
			}
		})
	}
	all.Wait()
	if n := passed.Load(); n != 5 {
		t.Errorf("%d of 20 passed, want 5", n)
	}
	if ok, err := st.Pass(ctx, "login anselm", 5, time.Hour); !ok || err != nil {
		t.Errorf("another's key is shut too: %v", err)
	}
	if _, err := st.Pool.Exec(ctx, `update gate set at = at - interval '61 minutes' where key = 'login maren'`); err != nil {
		t.Fatal(err)
	}
	for i, want := range []bool{true, false} {
		if ok, err := st.Pass(ctx, "login maren", 5, time.Hour); ok != want || err != nil {
			t.Errorf("try %d after an hour: %v %v, want %v", i+1, ok, err, want)
		}
	}
}

// What is too old goes, the newest value of a fact and what a record rests on stay.
func TestOldRowsGo(t *testing.T) {
	st, id, d := site(t)
	ctx := context.Background()
	year := 365 * 24 * time.Hour
	for i, v := range []string{"a", "b", "c"} {
		if err := st.KeepFact(ctx, d, "x", "test", time.Now().Add(time.Duration(i-3)*year), v); err != nil {
			t.Fatal(err)
		}
	}
	set, err := st.AddSet(ctx, id, access.Set{Name: "Site"}, func(string) ([]byte, error) { return []byte("x"), nil })
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := st.BeginTry(ctx, d, set, "Site", access.Digest, nil, func([]access.Try) bool { return true }); err != nil {
		t.Fatal(err)
	}
	var run int64
	if err := st.InTx(ctx, func(tx pgx.Tx) (err error) {
		run, _, err = st.AddRun(ctx, tx, store.NewRun{Site: id, Stage: stage.Clock, Act: store.Read, Title: "Read", Of: store.OfDevices(d)})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for _, sql := range []string{`update try set at = at - interval '91 days'`,
		`update run_step set state = 'done', ended_at = now() - interval '91 days'`, `update run set ended_at = now() - interval '91 days', done = 1`} {
		if _, err := st.Pool.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	if err := st.Audit(ctx, store.AuditEntry{Site: id, Act: "old"}); err != nil {
		t.Fatal(err)
	}
	if _, err := st.Pool.Exec(ctx, `update audit set at = at - interval '10 years'`); err != nil {
		t.Fatal(err)
	}
	if n, err := st.Prune(ctx, store.Keep{}); n != 0 || err != nil {
		t.Errorf("for ever: %d rows went, %v", n, err)
	}
	if n, err := st.Prune(ctx, store.Usual); n != 4 || err != nil {
		t.Errorf("%d rows went, want 2 values, a try and a step; %v", n, err)
	}
	history, err := st.History(ctx, d, "x", 10)
	if err != nil || len(history) != 1 || string(history[0].Value) != `"c"` {
		t.Errorf("the history is %v, %v", history, err)
	}
	if r, err := st.Run(ctx, run); err != nil || r.Done != 1 {
		t.Errorf("the run lost its sums: %+v %v", r, err)
	}
	var entries int
	if err := st.Pool.QueryRow(ctx, `select count(*) from audit`).Scan(&entries); err != nil || entries != 1 {
		t.Errorf("%d entries are left, %v", entries, err)
	}
	if n, err := st.Prune(ctx, store.Usual); n != 0 || err != nil {
		t.Errorf("a second time %d rows went, %v", n, err)
	}
}

// The log of a site is read by its indexes, however long it is.
func TestTheLogIsReadByIndex(t *testing.T) {
	t.Parallel()
	st := testbed.Store(t)
	ctx := t.Context()
	var site, person int64
	if err := st.Pool.QueryRow(ctx, `with p as (insert into person (login, name, password_hash) values ('a', 'A', '') returning id), s as (insert into site (name, zone, zone_posix) values ('S', 'UTC', 'UTC0') returning id),
		m as (insert into membership select s.id, p.id, 'lead' from s, p) select s.id, p.id from s, p`).Scan(&site, &person); err != nil {
		t.Fatal(err)
	}
	if _, err := st.Pool.Exec(ctx, `insert into audit (site_id, person_id, at, act) select case when i % 3 = 0 then $1::bigint end, $2::bigint, now() - i * interval '1 s', 'act ' || i from generate_series(1, 20000) i`, site, person); err != nil {
		t.Fatal(err)
	}
	for _, sql := range []string{"analyze audit", "analyze membership"} {
		if _, err := st.Pool.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	all, err := st.AuditLines(ctx, site, 1, 3)
	if err != nil || len(all) != 3 || all[0].Act != "act 2" || all[2].Act != "act 4" {
		t.Fatalf("%+v %v", all, err)
	}
	tx, err := st.Pool.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(ctx)
	var before, after int64
	scanned := `select seq_scan from pg_stat_xact_user_tables where relname = 'audit'`
	if err := tx.QueryRow(ctx, scanned).Scan(&before); err != nil {
		t.Fatal(err)
	}
	if _, err := store.AuditLinesIn(ctx, tx, site, 0, 100); err != nil {
		t.Fatal(err)
	}
	if err := tx.QueryRow(ctx, scanned).Scan(&after); err != nil || after != before {
		t.Errorf("the table was read from end to end: %d scans, %v", after-before, err)
	}
}

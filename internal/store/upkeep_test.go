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

// However many servers ask at once, a key passes so often and no more; what is refused grows
// the wait, what is waited for passes once, and who has shown who they are begins anew.
func TestAGateCountsOverAllServers(t *testing.T) {
	st, _, _ := site(t)
	ctx := context.Background()
	wait := func(missed int) time.Duration {
		if missed < 5 {
			return 0
		}
		return time.Duration(missed-4) * time.Hour
	}
	pass := func(key string) time.Duration {
		left, err := st.Pass(ctx, key, wait)
		if err != nil {
			t.Error(err)
		}
		return left
	}
	var passed atomic.Int32
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if pass("login maren") == 0 {
				passed.Add(1)
			}
		})
	}
	all.Wait()
	if n := passed.Load(); n != 5 {
		t.Errorf("%d of 20 passed, want 5", n)
	}
	if left := pass("login maren"); left <= 59*time.Minute || left > time.Hour {
		t.Errorf("%s are still to be waited, want an hour", left)
	}
	if pass("login anselm") != 0 {
		t.Error("another's key is shut too")
	}
	later := func(d string) {
		if _, err := st.Pool.Exec(ctx, `update gate set at = at - $1::text::interval where key = 'login maren'`, d); err != nil {
			t.Fatal(err)
		}
	}
	later("61 minutes")
	if pass("login maren") != 0 {
		t.Error("after an hour it doesn't pass")
	}
	later("61 minutes")
	if left := pass("login maren"); left < 50*time.Minute {
		t.Errorf("after the sixth, %s are still to be waited: the wait doesn't grow", left)
	}
	if err := st.Passed(ctx, "login maren", "login anselm"); err != nil {
		t.Fatal(err)
	}
	for range 5 { // one was counted, and isn't any more
		if pass("login anselm") != 0 {
			t.Error("what is shared is shut for a try that passed")
		}
	}
	if pass("login maren") != 0 {
		t.Error("who has shown who they are waits all the same")
	}
	later("25 hours")
	for range 5 {
		if pass("login maren") != 0 {
			t.Error("a day later something of it is still counted")
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

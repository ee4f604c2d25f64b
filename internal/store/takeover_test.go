package store_test

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/store"
)

// What a dead server left is taken over also where a statement of another meets it crosswise: the
// database gives one of the two up, and it is begun anew.
func TestTakingOverOutlivesADeadlock(t *testing.T) {
	st, siteID, _ := site(t)
	ctx := t.Context()
	var fresh []store.NewDevice
	for i := range 2 {
		at := netip.AddrFrom4([4]byte{127, 40, 7, byte(1 + i)})
		fresh = append(fresh, store.NewDevice{Device: store.Device{SiteID: siteID, Kind: identity.Camera, Place: at.String(), Address: &at}})
	}
	ids, err := st.AddDevices(ctx, siteID, fresh)
	if err != nil {
		t.Fatal(err)
	}
	for _, id := range ids {
		if _, ok, err := st.Lease(ctx, id, "machine/1/2/step", time.Minute); err != nil || !ok {
			t.Fatal(ok, err)
		}
	}
	other, err := st.Pool.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = other.Rollback(context.Background()) }()
	lock := func(sql string, args ...any) {
		t.Helper()
		if _, err := other.Exec(ctx, sql, args...); err != nil {
			t.Fatal(err)
		}
	}
	lock(`set local deadlock_timeout = '20s'`) // the other finds it first, and is given up
	lock(`select 1 from lease where device_id = $1 for update`, ids[1])
	took := make(chan error, 1)
	go func() {
		_, err := st.TakeOver(ctx, []string{"machine/1/2"})
		took <- err
	}()
	waits := func() (n int) {
		if err := st.Pool.QueryRow(ctx, `select count(*) from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	for end := time.Now().Add(time.Minute); waits() == 0; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nobody waits")
		}
	}
	lock(`select 1 from lease where device_id = $1 for update`, ids[0])
	if err := other.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	if err := <-took; err != nil {
		t.Errorf("%v", err)
	}
	for _, id := range ids {
		if _, ok, err := st.Lease(ctx, id, "machine/3/4/step", time.Minute); err != nil || !ok {
			t.Errorf("device %d is held by the dead: %v", id, err)
		}
	}
}

package store_test

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/people"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

func site(t *testing.T) (*store.Store, int64, int64) {
	t.Helper()
	st := testbed.Store(t)
	ctx := context.Background()
	id, err := st.AddSite(ctx, store.Site{Name: "Quay", Zone: "UTC", ZonePosix: "UTC0"})
	if err != nil {
		t.Fatal(err)
	}
	d, err := st.AddDevice(ctx, store.Device{SiteID: id, Kind: identity.Camera, Place: "Slipway"})
	if err != nil {
		t.Fatal(err)
	}
	return st, id, d
}

func TestAFactLeavesHistoryOnlyWhenItChanges(t *testing.T) {
	st, _, d := site(t)
	ctx := context.Background()
	now := time.Now().UTC()
	for i, v := range []string{"a", "a", "b", "b", "a"} {
		if err := st.KeepFact(ctx, d, "x", "test", now.Add(time.Duration(i)*time.Second), v); err != nil {
			t.Fatal(err)
		}
	}
	h, err := st.History(ctx, d, "x", 10)
	if err != nil || len(h) != 3 || string(h[0].Value) != `"a"` || string(h[1].Value) != `"b"` {
		t.Errorf("%v %v", h, err)
	}
	facts, err := st.FactsOf(ctx, []int64{d})
	if err != nil || !facts[d]["x"].ReadAt.Equal(now.Add(4*time.Second).Truncate(time.Microsecond)) {
		t.Errorf("the current fact's age is that of its last reading: %v %v", facts[d]["x"], err)
	}
	dev, err := st.Device(ctx, d)
	if err != nil || dev.Version != 6 {
		t.Errorf("version %d, want 6", dev.Version)
	}
}

// However many processes try at once, the budget lets two wrong tries through, whether
// they counted before or not.
func TestTheBudgetHoldsOverProcesses(t *testing.T) {
	st, siteID, d := site(t)
	ctx := context.Background()
	set, err := st.AddSet(ctx, siteID, access.Set{Name: "house", Username: "u"}, func(string) ([]byte, error) { return []byte("x"), nil })
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	sent := 0
	counts := []*store.Counted{{}, nil, {Begun: 1}}
	processes := []*store.Store{st, store.On(st.Pool)}
	for i := range 24 {
		wg.Go(func() {
			_, ok, err := processes[i%2].BeginTry(ctx, d, set, "house", access.Digest, counts[i%3], func(tries []access.Try) bool {
				left, _ := access.Left(time.Now(), tries)
				return left > 0
			})
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				t.Error(err)
			}
			if ok {
				sent++
			}
		})
	}
	wg.Wait()
	if sent != access.Budget {
		t.Errorf("%d tries were sent, want %d", sent, access.Budget)
	}
}

func TestLeases(t *testing.T) {
	st, _, d := site(t)
	ctx := context.Background()
	f1, ok, err := st.Lease(ctx, d, "a", time.Minute)
	if err != nil || !ok {
		t.Fatal(ok, err)
	}
	if _, ok, err := st.Lease(ctx, d, "b", time.Minute); ok || err != nil {
		t.Errorf("two hold one device: %v %v", ok, err)
	}
	if f2, ok, _ := st.Lease(ctx, d, "a", -time.Second); !ok || f2 <= f1 {
		t.Errorf("renewed with fence %d after %d", f2, f1)
	}
	if f3, ok, _ := st.Lease(ctx, d, "b", time.Minute); !ok || f3 <= f1+1 {
		t.Errorf("an expired lease isn't taken with a higher fence: %d %v", f3, ok)
	}
	if err := st.Release(ctx, d, "a"); err != nil {
		t.Fatal(err)
	}
	if _, ok, _ := st.Lease(ctx, d, "c", time.Minute); ok {
		t.Error("one holder gave another's lease back")
	}
}

func TestOneChangeOfAThingAtATime(t *testing.T) {
	st, siteID, d := site(t)
	ctx := context.Background()
	c := finding.Change{Kind: "clock.zone", Key: "clock.zone", Title: "Zone", From: "a", To: "b", Risk: finding.NoRisk}
	add := func() (id int64, err error) {
		err = st.InTx(ctx, func(tx pgx.Tx) error {
			_, steps, err := st.AddRun(ctx, tx, store.NewRun{Site: siteID, Stage: stage.Clock, Act: store.Apply,
				Title: "t", Of: store.OfDevices(d)})
			if err != nil {
				return err
			}
			if err = st.AddChanges(ctx, tx, []store.NewChange{{Site: siteID, Device: d, Step: steps[0].ID,
				Stage: stage.Clock, Change: c}}); err != nil {
				return err
			}
			return tx.QueryRow(ctx, `select max(id) from change`).Scan(&id)
		})
		return id, err
	}
	first, err := add()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := add(); !errors.Is(err, store.ErrUnderWay) {
		t.Errorf("the same change is asked for twice: %v", err)
	}
	if runs, err := st.Runs(ctx, siteID, 0, 10); err != nil || len(runs) != 1 {
		t.Errorf("the refused one left a run behind: %v %v", runs, err)
	}
	if err := st.SettleChange(ctx, first, 1, store.Verified, "b", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := add(); err != nil {
		t.Errorf("after the first was settled: %v", err)
	}
}

func TestARunEndsWithItsLastStepAndStopsBeforeTheNext(t *testing.T) {
	st, siteID, d := site(t)
	ctx := context.Background()
	d2, err := st.AddDevice(ctx, store.Device{SiteID: siteID, Kind: identity.Camera, Place: "Ramp"})
	if err != nil {
		t.Fatal(err)
	}
	var run int64
	var steps []store.Step
	err = st.InTx(ctx, func(tx pgx.Tx) error {
		run, steps, err = st.AddRun(ctx, tx, store.NewRun{Site: siteID, Stage: stage.Clock, Act: store.Read, Title: "t",
			Of: store.OfDevices(d, d2)})
		return err
	})
	if err != nil || len(steps) != 2 {
		t.Fatal(steps, err)
	}
	hold := func(i int) store.Claim {
		return store.Claim{Step: steps[i].ID, Device: *steps[i].DeviceID, Holder: "h"}
	}
	begin := func(h store.Claim) (store.Verdict, int64) {
		t.Helper()
		v, fence, err := st.BeginStep(ctx, h, time.Minute, store.Limits{Network: 8, Recorder: 8}, false)
		if err != nil {
			t.Fatal(err)
		}
		return v, fence
	}
	h0, h1 := hold(0), hold(1)
	v, fence := begin(h0)
	if v != store.Go {
		t.Fatal(v)
	}
	h0.Fence = fence
	if err := st.StopRun(ctx, siteID, run); err != nil {
		t.Fatal(err)
	}
	if v, h1.Fence = begin(h1); v != store.Halted {
		t.Errorf("a step of a stopped run begins: %s", v)
	}
	for _, h := range []store.Claim{h0, h1} {
		if err := st.EndStep(ctx, h, "done", ""); err != nil {
			t.Fatal(err)
		}
	}
	r, err := st.Run(ctx, run)
	if err != nil || r.EndedAt == nil || r.Done != 1 || r.Stopped != 1 || r.Left() != 0 {
		t.Errorf("%+v %v", r, err)
	}
	if v, _ := begin(h0); v != store.Settled {
		t.Errorf("a settled step begins again: %s", v)
	}
}

// A step takes all it needs or nothing: the device's lease, and a slot of its network
// and its recorder; and whoever was overtaken settles nothing.
func TestAStepHoldsItsDeviceAndItsSlots(t *testing.T) {
	st, siteID, d := site(t)
	ctx := context.Background()
	if err := st.AddNetwork(ctx, siteID, "Quay", netip.MustParsePrefix("127.9.1.0/24")); err != nil {
		t.Fatal(err)
	}
	var devices []int64
	for i := range 3 {
		at := netip.AddrFrom4([4]byte{127, 9, 1, byte(10 + i)})
		id, err := st.AddDevice(ctx, store.Device{SiteID: siteID, Kind: identity.Camera, Place: at.String(), Address: &at})
		if err != nil {
			t.Fatal(err)
		}
		devices = append(devices, id)
	}
	devices = append(devices, d) // of no network: no limit holds it
	var steps []store.Step
	var run int64
	err := st.InTx(ctx, func(tx pgx.Tx) error {
		var err error
		run, steps, err = st.AddRun(ctx, tx, store.NewRun{Site: siteID, Stage: stage.Clock, Act: store.Read, Title: "t",
			Of: store.OfDevices(devices...)})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	begin := func(step int, holder string, ttl time.Duration) (store.Verdict, store.Claim) {
		t.Helper()
		h := store.Claim{Step: steps[step].ID, Device: *steps[step].DeviceID, Net: steps[step].Net, Holder: holder}
		v, fence, err := st.BeginStep(ctx, h, ttl, store.Limits{Network: 2, Recorder: 1}, true)
		if err != nil {
			t.Fatal(err)
		}
		h.Fence = fence
		return v, h
	}
	v, a := begin(0, "a", time.Minute)
	if v != store.Go {
		t.Fatal(v)
	}
	if v, _ := begin(0, "b", time.Minute); v != store.Held {
		t.Errorf("two hold one device: %s", v)
	}
	v, c := begin(1, "c", time.Minute)
	if v != store.Go {
		t.Fatal(v)
	}
	if v, _ := begin(2, "e", time.Minute); v != store.Full {
		t.Errorf("a third of a network that takes two: %s", v)
	}
	if v, _ := begin(3, "f", time.Minute); v != store.Go {
		t.Errorf("a device of no network: %s", v)
	}
	if err := st.EndStep(ctx, c, "done", ""); err != nil {
		t.Fatal(err)
	}
	if v, _ := begin(2, "e", time.Minute); v != store.Go {
		t.Errorf("a slot was given back: %s", v)
	}
	// a's lease runs out and another takes the device over.
	if _, err := st.Pool.Exec(ctx, `update lease set until = now() - interval '1 s' where device_id = $1`, a.Device); err != nil {
		t.Fatal(err)
	}
	if _, err := st.Pool.Exec(ctx, `update claim set until = '-infinity'`); err != nil {
		t.Fatal(err)
	}
	v, b := begin(0, "b", time.Minute)
	if v != store.Go || b.Fence <= a.Fence {
		t.Fatalf("%s with fence %d after %d", v, b.Fence, a.Fence)
	}
	if err := st.EndStep(ctx, a, "done", "too late"); !errors.Is(err, store.ErrFenced) {
		t.Errorf("the overtaken one settles: %v", err)
	}
	if r, err := st.Run(ctx, run); err != nil || r.Done != 1 || r.EndedAt != nil {
		t.Errorf("%+v %v", r, err)
	}
	if err := st.EndStep(ctx, b, "waiting", "no answer"); err != nil {
		t.Fatal(err)
	}
	if v, _ := begin(0, "b", time.Minute); v != store.Go {
		t.Errorf("a step that waits to be tried again: %s", v)
	}
}

// A writer whose device another took over changes no row of a change.
func TestAnOvertakenWriterWritesNothing(t *testing.T) {
	st, siteID, d := site(t)
	ctx := context.Background()
	var id int64
	err := st.InTx(ctx, func(tx pgx.Tx) error {
		_, steps, err := st.AddRun(ctx, tx, store.NewRun{Site: siteID, Stage: stage.Clock, Act: store.Apply, Title: "t",
			Of: store.OfDevices(d)})
		if err != nil {
			return err
		}
		c := finding.Change{Kind: "clock.zone", Key: "clock.zone", Title: "Zone", From: "a", To: "b", Risk: finding.NoRisk}
		if err := st.AddChanges(ctx, tx, []store.NewChange{{Site: siteID, Device: d, Step: steps[0].ID,
			Stage: stage.Clock, Change: c}}); err != nil {
			return err
		}
		return tx.QueryRow(ctx, `select max(id) from change`).Scan(&id)
	})
	if err != nil {
		t.Fatal(err)
	}
	old, _, err := st.Lease(ctx, d, "a", -time.Second)
	if err != nil {
		t.Fatal(err)
	}
	if err := st.SendChange(ctx, id, old, "a"); err != nil {
		t.Fatal(err)
	}
	fresh, ok, err := st.Lease(ctx, d, "b", time.Minute)
	if err != nil || !ok {
		t.Fatal(ok, err)
	}
	if err := st.SettleChange(ctx, id, old, store.Verified, "b", ""); !errors.Is(err, store.ErrFenced) {
		t.Errorf("before the new one wrote: %v", err)
	}
	if err := st.SettleChange(ctx, id, fresh, store.Verified, "b", ""); err != nil {
		t.Fatal(err)
	}
	if err := st.Release(ctx, d, "b"); err != nil {
		t.Fatal(err)
	}
	if err := st.SendChange(ctx, id, old, "a"); !errors.Is(err, store.ErrFenced) {
		t.Errorf("after it gave the lease back: %v", err)
	}
	if c, err := st.Change(ctx, id); err != nil || c.State != store.Verified || c.Writes != 1 {
		t.Errorf("%+v %v", c, err)
	}
}

func TestPeopleSeeOnlyTheirSites(t *testing.T) {
	st, siteID, _ := site(t)
	ctx := context.Background()
	in, err := st.AddPerson(ctx, "Maren", "Maren Ostby", "h")
	if err != nil {
		t.Fatal(err)
	}
	out, err := st.AddPerson(ctx, "other", "Other", "h")
	if err != nil {
		t.Fatal(err)
	}
	if err := st.AddMember(ctx, siteID, in, people.Lead); err != nil {
		t.Fatal(err)
	}
	if m, err := st.MemberOf(ctx, siteID, in); err != nil || m.Role != people.Lead {
		t.Errorf("%+v %v", m, err)
	}
	if _, err := st.MemberOf(ctx, siteID, out); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a stranger is let in: %v", err)
	}
	if p, _, err := st.PersonByLogin(ctx, "MAREN"); err != nil || p.ID != in {
		t.Errorf("%+v %v", p, err)
	}
}

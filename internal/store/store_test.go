package store_test

import (
	"context"
	"errors"
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

// However many processes try at once, the budget lets two wrong tries through.
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
	for range 12 {
		wg.Go(func() {
			_, ok, err := st.BeginTry(ctx, d, set, "house", access.Digest, func(tries []access.Try) bool {
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
			_, steps, err := st.AddRun(ctx, tx, store.NewRun{Site: siteID, Stage: stage.Clock, Act: store.Apply, Title: "t", Devices: []int64{d}})
			if err != nil {
				return err
			}
			id, err = st.AddChange(ctx, tx, siteID, d, 0, steps[0].ID, 0, stage.Clock, c)
			return err
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
	if runs, err := st.Runs(ctx, siteID, 10); err != nil || len(runs) != 1 {
		t.Errorf("the refused one left a run behind: %v %v", runs, err)
	}
	if err := st.SettleChange(ctx, first, "verified", "b", ""); err != nil {
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
		run, steps, err = st.AddRun(ctx, tx, store.NewRun{Site: siteID, Stage: stage.Clock, Act: store.Read, Title: "t", Devices: []int64{d, d2}})
		return err
	})
	if err != nil || len(steps) != 2 {
		t.Fatal(steps, err)
	}
	if goOn, err := st.BeginStep(ctx, steps[0].ID); !goOn || err != nil {
		t.Fatal(goOn, err)
	}
	if err := st.StopRun(ctx, siteID, run); err != nil {
		t.Fatal(err)
	}
	if goOn, _ := st.BeginStep(ctx, steps[1].ID); goOn {
		t.Error("a step of a stopped run begins")
	}
	for _, s := range steps {
		if err := st.EndStep(ctx, s.ID, false, ""); err != nil {
			t.Fatal(err)
		}
	}
	r, err := st.Run(ctx, run)
	if err != nil || r.EndedAt == nil || r.Done != 1 || r.Stopped != 1 || r.Left() != 0 {
		t.Errorf("%+v %v", r, err)
	}
	if goOn, _ := st.BeginStep(ctx, steps[0].ID); goOn {
		t.Error("a settled step begins again")
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

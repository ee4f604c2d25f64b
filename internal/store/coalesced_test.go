package store_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

func cameras(t *testing.T, st *store.Store, site int64, n int) []int64 {
	t.Helper()
	all := make([]store.NewDevice, n)
	for i := range all {
		all[i].Device = store.Device{SiteID: site, Kind: identity.Camera, Place: fmt.Sprint("Camera ", i)}
	}
	ids, err := st.AddDevices(context.Background(), site, all)
	if err != nil {
		t.Fatal(err)
	}
	return ids
}

// Steps that write at the same time get what they would have got one by one: their
// facts are all there, versions have grown by as many, and one that can't be written
// is its own trouble.
func TestWritesAtTheSameTime(t *testing.T) {
	st, site, _ := site(t)
	ctx := context.Background()
	ids := cameras(t, st, site, 40)
	now := time.Now().UTC()
	var wg sync.WaitGroup
	for i, id := range ids {
		for n := range 3 {
			wg.Go(func() {
				value := fmt.Sprintf("%d/%d", i, n)
				if i == 7 {
					value += "\x00" // which no jsonb holds
				}
				err := st.Write(ctx, store.Writes{Facts: []store.NewFact{{Device: id, Name: "x", Via: "test",
					At: now.Add(time.Duration(n) * time.Second), Value: value}, {Device: id, Name: fmt.Sprint("y",
					n), Via: "test", At: now, Value: n}},
					Said: []store.Identity{{Device: id, Seen: identity.Sighting{Serial: fmt.Sprint("S", i)}}}})
				if (err != nil) != (i == 7) {
					t.Errorf("camera %d: %v", i, err)
				}
			})
		}
	}
	wg.Wait()
	facts, err := st.FactsOf(ctx, ids)
	if err != nil {
		t.Fatal(err)
	}
	for i, id := range ids {
		d, err := st.Device(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if i == 7 {
			if len(facts[id]) != 0 || d.Version != 1 || d.Serial != "" {
				t.Errorf("what can't be written is there in part: %v, version %d", facts[id], d.Version)
			}
			continue
		}
		if len(facts[id]) != 4 || string(facts[id]["x"].Value) != fmt.Sprintf("%q",
			fmt.Sprintf("%d/2", i)) || d.Serial != fmt.Sprint("S", i) || d.Version < 5 || d.Version > 7 {
			t.Errorf("camera %d: %v, version %d, serial %q", i, facts[id], d.Version, d.Serial)
		}
	}
}

// What is dropped is gone, what opened a device is kept, in one go with its facts.
func TestAWriteIsWhole(t *testing.T) {
	st, site, d := site(t)
	ctx := context.Background()
	set, err := st.AddSet(ctx, site, access.Set{Name: "Site"}, func(string) ([]byte, error) { return []byte("x"), nil })
	if err != nil {
		t.Fatal(err)
	}
	if err := st.KeepFact(ctx, d, "old", "test", time.Now(), 1); err != nil {
		t.Fatal(err)
	}
	if err := st.Write(ctx, store.Writes{Facts: []store.NewFact{{Device: d, Name: "new", Via: "test", At: time.Now(),
		Value: 2}}, Drop: []store.Dropped{{Device: d, Name: "old"}}, Opened: []store.OpenedBy{{Device: d, Set: set}}}); err != nil {
		t.Fatal(err)
	}
	facts, err := st.FactsOf(ctx, []int64{d})
	dev, derr := st.Device(ctx, d)
	if err != nil || derr != nil || len(facts[d]) != 1 || dev.OpenedSet == nil || *dev.OpenedSet != set {
		t.Errorf("%v %+v %v %v", facts[d], dev, err, derr)
	}
	if err := st.Write(ctx, store.Writes{Opened: []store.OpenedBy{{Device: d}}}); err != nil {
		t.Fatal(err)
	}
	if dev, err := st.Device(ctx, d); err != nil || dev.OpenedSet != nil {
		t.Errorf("%+v %v", dev, err)
	}
}

// Whoever looks at some devices sees those and the recorders, whoever else looks at the
// same time.
func TestEachSeesItsOwn(t *testing.T) {
	st, site, first := site(t)
	ctx := context.Background()
	rec, err := st.AddDevice(ctx, store.Device{SiteID: site, Kind: identity.Recorder, Place: "Quay recorder"})
	if err != nil {
		t.Fatal(err)
	}
	ids := append(cameras(t, st, site, 30), first)
	var wg sync.WaitGroup
	for _, id := range ids {
		wg.Go(func() {
			sc, err := st.ReadSite(ctx, site, []int64{id})
			if err != nil || len(sc.Devices) != 2 || sc.Devices[0].ID != id && sc.Devices[1].ID != id || sc.Devices[0].ID != rec && sc.Devices[1].ID != rec {
				t.Errorf("camera %d sees %+v %v", id, sc.Devices, err)
			}
			if d, err := st.Device(ctx, id); err != nil || d.ID != id {
				t.Errorf("%+v %v", d, err)
			}
			if _, err := st.Device(ctx, -id); !errors.Is(err, store.ErrNotFound) {
				t.Errorf("one that isn't there: %v", err)
			}
		})
	}
	wg.Go(func() {
		if _, err := st.ReadSite(ctx, -1, []int64{first}); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("a site that isn't there: %v", err)
		}
	})
	wg.Wait()
}

// Steps begun and ended at the same time, by two servers, hold their devices one at a
// time, and the last of them ends the run.
func TestStepsBegunAndEndedAtTheSameTime(t *testing.T) {
	st, site, _ := site(t)
	ctx := context.Background()
	ids := cameras(t, st, site, 50)
	var run int64
	var steps []store.Step
	if err := st.InTx(ctx, func(tx pgx.Tx) (err error) {
		run, steps, err = st.AddRun(ctx, tx, store.NewRun{Site: site, Stage: stage.Clock, Act: store.Read, Title: "t",
			Of: store.OfDevices(ids...)})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	servers := []*store.Store{st, store.On(st.Pool)}
	var wg sync.WaitGroup
	var mu sync.Mutex
	went, held := map[int64]int{}, 0
	for i := range 2 * len(steps) {
		wg.Go(func() {
			s, step := servers[i%2], steps[i/2]
			h := store.Claim{Step: step.ID, Device: *step.DeviceID, Holder: fmt.Sprint("server ", i%2, "/", step.ID)}
			v, fence, err := s.BeginStep(ctx, h, time.Minute, store.Limits{Network: 64, Recorder: 4}, false)
			if err != nil {
				t.Error(err)
			}
			if h.Fence = fence; v == store.Go {
				err = s.EndStep(ctx, h, "done", "read")
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				t.Error(err)
			}
			if v == store.Go {
				went[step.ID]++
			} else if held++; v != store.Held && v != store.Settled {
				t.Errorf("step %d: %s", step.ID, v)
			}
		})
	}
	wg.Wait()
	if len(went) != len(steps) || held != len(steps) {
		t.Errorf("%d steps went, %d were held off", len(went), held)
	}
	if r, err := st.Run(ctx, run); err != nil || r.EndedAt == nil || r.Done != len(steps) {
		t.Errorf("%+v %v", r, err)
	}
}

// Who judged older inputs is overtaken, also by one whose verdict left the mark alone.
func TestAnOvertakenVerdictIsNotKept(t *testing.T) {
	st, site, d := site(t)
	ctx := context.Background()
	dev, err := st.Source(ctx, store.Target{Device: d})
	if err != nil {
		t.Fatal(err)
	}
	says := func(version int64, state stage.State) store.Judged {
		j := store.Judged{Site: site, SourceID: dev.ID, Stage: stage.Clock, Version: version,
			Mark: stage.Mark{State: state, Sentence: string(state)}}
		if state == stage.Needs {
			j.Findings = []finding.Finding{{Code: "clock.zone", Severity: finding.Needs, Sentence: "zone"}}
		}
		return j
	}
	for i, x := range []struct {
		version int64
		state   stage.State
		want    stage.State
	}{{3, stage.Ready, stage.Ready}, {5, stage.Ready, stage.Ready}, {4, stage.Needs, stage.Ready}, {5, stage.Needs,
		stage.Needs}, {4, stage.Ready, stage.Needs}, {6, stage.Ready, stage.Ready}} {
		if err := st.KeepMarks(ctx, []store.Judged{says(x.version, x.state)}); err != nil {
			t.Fatal(err)
		}
		marks, err := st.Marks(ctx, []int64{dev.ID})
		if err != nil || marks[dev.ID][stage.Clock].State != x.want {
			t.Errorf("after %d, version %d: %+v %v, want %s", i, x.version, marks[dev.ID][stage.Clock], err, x.want)
		}
		found, err := st.Findings(ctx, site, stage.Clock, 0, 10)
		if err != nil || (len(found) == 1) != (x.want == stage.Needs) {
			t.Errorf("after %d, version %d: %d findings, %v", i, x.version, len(found), err)
		}
	}
}

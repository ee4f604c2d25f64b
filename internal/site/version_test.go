package site_test

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// What a camera's marks rest on rises with every reading of its own and of a recorder, and when a
// recorder goes from the site: a verdict that was given before is never taken for a newer one.
func TestWhatMarksRestOnOnlyRises(t *testing.T) {
	st, ctx := testbed.Store(t), context.Background()
	id, err := st.AddSite(ctx, store.Site{Name: "Quay", Zone: "UTC", ZonePosix: "UTC0"})
	if err != nil {
		t.Fatal(err)
	}
	add := func(kind identity.Kind, place string) int64 {
		d, err := st.AddDevice(ctx, store.Device{SiteID: id, Kind: kind, Place: place})
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	camera, one, two := add(identity.Camera, "Slipway"), add(identity.Recorder, "Quay recorder"), add(identity.Recorder, "Terminal recorder")
	last := int64(-1)
	rises := func(what string) {
		t.Helper()
		s, err := site.Load(ctx, st, id, nil)
		if err != nil {
			t.Fatal(err)
		}
		d, _ := s.Device(camera)
		if v := s.Version(d); v <= last {
			t.Errorf("%s: %d, before %d", what, v, last)
		} else {
			last = v
		}
	}
	rises("at first")
	for i, d := range []int64{one, two, one, camera, two} {
		if err := st.KeepFact(ctx, d, "x", "test", time.Now().UTC(), i); err != nil {
			t.Fatal(err)
		}
		rises("a reading")
	}
	for _, d := range []int64{two, one} {
		if _, err := st.Remove(ctx, id, []int64{d}); err != nil {
			t.Fatal(err)
		}
		rises("a recorder goes")
	}
	three := add(identity.Recorder, "Pier recorder")
	if err := st.KeepFact(ctx, three, "x", "test", time.Now().UTC(), 1); err != nil {
		t.Fatal(err)
	}
	rises("another comes and is read")
}

// What was changed on a device stays in the log when the device goes, by the place that it had.
func TestTheLogOutlivesADevice(t *testing.T) {
	st, ctx := testbed.Store(t), context.Background()
	id, err := st.AddSite(ctx, store.Site{Name: "Quay", Zone: "UTC", ZonePosix: "UTC0"})
	if err != nil {
		t.Fatal(err)
	}
	d, err := st.AddDevice(ctx, store.Device{SiteID: id, Kind: identity.Camera, Place: "Slipway"})
	if err != nil {
		t.Fatal(err)
	}
	err = st.InTx(ctx, func(tx pgx.Tx) error {
		_, steps, err := st.AddRun(ctx, tx, store.NewRun{Site: id, Stage: stage.Clock, Act: store.Apply, Title: "Set", Of: store.OfDevices(d)})
		if err != nil {
			return err
		}
		return st.AddChanges(ctx, tx, []store.NewChange{{Site: id, Device: d, Step: steps[0].ID, Stage: stage.Clock,
			Change: finding.Change{Kind: "clock.time", Key: "clock.time", Title: "Time, once", From: "a", To: "b"}}})
	})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := st.Pool.Exec(ctx, `update change set state = 'verified', settled_at = now()`); err != nil {
		t.Fatal(err)
	}
	if _, err := st.Remove(ctx, id, []int64{d}); err != nil {
		t.Fatal(err)
	}
	all, err := st.Changes(ctx, id, 0, 0, 10)
	if err != nil || len(all) != 1 || all[0].Place != "Slipway" || all[0].Title != "Time, once" {
		t.Errorf("%+v %v", all, err)
	}
}

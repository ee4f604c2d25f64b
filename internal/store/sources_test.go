package store_test

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"

	"duskyharbor/internal/core/expected"
	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// shed is a device with two views, planned for a recorder.
func shed(t *testing.T) (st *store.Store, siteID int64, first, second store.Source) {
	t.Helper()
	st, siteID, _ = site(t)
	ctx := context.Background()
	rec, err := st.AddDevice(ctx, store.Device{SiteID: siteID, Kind: identity.Recorder, Place: "Terminal recorder"})
	if err != nil {
		t.Fatal(err)
	}
	at := netip.MustParseAddr("192.0.2.22")
	ids, err := st.AddDevices(ctx, siteID, []store.NewDevice{{RecorderID: &rec, Channel: 7,
		Device: store.Device{SiteID: siteID, Kind: identity.Camera, Place: "Shed", Make: "Corriemoor", Address: &at,
			ExpectedAt: &at, Expected: true}}})
	if err != nil {
		t.Fatal(err)
	}
	if err := st.PickViews(ctx, ids[0], []string{"in1", "in3"}, []string{"Input 1", "Input 3"}); err != nil {
		t.Fatal(err)
	}
	all := views(t, st, siteID, filter.Filter{Words: []string{"shed"}})
	if len(all) != 2 {
		t.Fatalf("%+v", all)
	}
	return st, siteID, all[0], all[1]
}

func views(t *testing.T, st *store.Store, site int64, f filter.Filter) []store.Source {
	t.Helper()
	all, total, err := st.Window(context.Background(), store.Selection{Site: site, Filter: f}, store.Sort{}, 0, 20)
	if err != nil || total != len(all) {
		t.Fatalf("%d of %d: %v", len(all), total, err)
	}
	return all
}

func TestAPickedViewIsASource(t *testing.T) {
	st, site, first, second := shed(t)
	ctx := t.Context()
	if first.Place != "Shed" || second.Place != "Shed · Input 3" || first.Device.ID != second.Device.ID || first.Device.Views != 2 {
		t.Errorf("%+v and %+v", first, second)
	}
	if second.RecorderID == nil || first.RecorderID == nil || *second.RecorderID != *first.RecorderID || second.Channel != 0 || first.Channel != 7 {
		t.Errorf("a further view goes to the same recorder, on any channel: %+v", second)
	}
	for name, tc := range map[string]struct {
		target store.Target
		want   int64
	}{
		"the view":              {store.Target{Device: first.Device.ID, Source: second.ID}, second.ID},
		"the device":            {store.Target{Device: first.Device.ID}, first.ID},
		"another device's view": {store.Target{Device: first.Device.ID + 99, Source: second.ID}, 0},
	} {
		got, err := st.Source(ctx, tc.target)
		if got.ID != tc.want || (err != nil) != (tc.want == 0) || err != nil && !errors.Is(err, store.ErrNotFound) {
			t.Errorf("%s: %d %v", name, got.ID, err)
		}
	}
	// The device's pages show it once, by whichever view it is asked for.
	f := filter.Filter{Words: []string{"Input 3"}}
	if all, _, err := st.Window(ctx, store.Selection{Site: site, Filter: f, Devices: true}, store.Sort{}, 0,
		9); err != nil || len(all) != 1 || all[0].ID != first.ID {
		t.Errorf("%+v %v", all, err)
	}
	if all := views(t, st, site, f); len(all) != 1 || all[0].ID != second.ID {
		t.Errorf("%+v", all)
	}
	for _, by := range []string{"", "place", "-place", "make", "address", "clock", "-streams"} {
		if all, total, err := st.Window(ctx, store.Selection{Site: site}, store.ParseSort(by), 0,
			9); err != nil || total != 3 || len(all) != 3 {
			t.Errorf("sorted by %q: %d of %d, %v", by, len(all), total, err)
		}
	}
}

func TestNamingAViewAndItsDevice(t *testing.T) {
	st, site, first, second := shed(t)
	ctx := t.Context()
	if err := st.Name(ctx, first.ID, "Customs shed"); err != nil {
		t.Fatal(err)
	}
	all := views(t, st, site, filter.Filter{Words: []string{"shed"}})
	if all[0].Place != "Customs shed" || all[0].Device.Place != "Customs shed" || all[1].Place != "Customs shed · Input 3" {
		t.Errorf("what is called after its device follows it: %q %q", all[0].Place, all[1].Place)
	}
	if err := st.Name(ctx, second.ID, "Weighbridge"); err != nil {
		t.Fatal(err)
	}
	if err := st.Name(ctx, first.ID, "Shed"); err != nil {
		t.Fatal(err)
	}
	all = views(t, st, site, filter.Filter{Make: "corriemoor"})
	if all[0].Place != "Shed" || all[1].Place != "Weighbridge" || all[1].Device.Place != "Shed" {
		t.Errorf("a name of its own stays: %q %q of %q", all[0].Place, all[1].Place, all[1].Device.Place)
	}
	if err := st.Name(ctx, 999, "x"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("%v", err)
	}
}

// A fact, a change and an accepted finding of one view are not its device's, nor another
// view's; two views may have the same change under way, a device only one.
func TestWhatIsAViewsIsNotItsDevices(t *testing.T) {
	st, site, first, second := shed(t)
	ctx := t.Context()
	device := first.Device.ID
	if err := st.KeepFacts(ctx, store.NewFact{Device: device, Name: "x", Value: 0},
		store.NewFact{Device: device, View: first.ID, Name: "x", Value: 1}, store.NewFact{Device: device,
			View: second.ID, Name: "x", Value: 2}); err != nil {
		t.Fatal(err)
	}
	read, err := st.ReadSite(ctx, site, []int64{device})
	if err != nil {
		t.Fatal(err)
	}
	if a, b, c := read.Facts[device]["x"], read.OfView[first.ID]["x"], read.OfView[second.ID]["x"]; string(a.Value) != "0" || string(b.Value) != "1" || string(c.Value) != "2" {
		t.Errorf("%s %s %s", a.Value, b.Value, c.Value)
	}
	for of, want := range map[*store.Source]int{&first: 1, &second: 0} {
		if err := st.Accept(ctx, first, stage.Streams, "stream.loss", 0); err != nil {
			t.Fatal(err)
		}
		read, err := st.ReadSite(ctx, site, []int64{device})
		if got := read.Accepted[store.Target{Device: device, Source: of.ID}][stage.Streams]; err != nil || len(got) != want {
			t.Errorf("%s: %v %v", of.Place, got, err)
		}
	}
	if err := st.Accept(ctx, second, stage.Clock, "clock.drift", 0); err != nil {
		t.Fatal(err)
	}
	if read, err = st.ReadSite(ctx, site, []int64{device}); err != nil || len(read.Accepted[store.Target{Device: device}][stage.Clock]) != 1 {
		t.Errorf("in a stage that is the device's it is the device's: %v %v", read.Accepted, err)
	}
	if err := st.Unaccept(ctx, first, stage.Clock, "clock.drift"); err != nil {
		t.Fatal(err)
	}
	if read, err = st.ReadSite(ctx, site, []int64{device}); err != nil || len(read.Accepted[store.Target{Device: device}][stage.Clock]) != 0 {
		t.Errorf("%v %v", read.Accepted, err)
	}
	// Each view may have the same change under way; one view only one.
	place := func(of store.Source) error {
		return st.InTx(ctx, func(tx pgx.Tx) error {
			_, steps, err := st.AddRun(ctx, tx, store.NewRun{Site: site, Stage: stage.Channels, Act: store.Apply,
				Title: "t", Of: []store.Target{{Device: device, Source: of.ID}}})
			if err != nil {
				return err
			}
			return st.AddChanges(ctx, tx, []store.NewChange{{Site: site, Device: device, Source: of.ID,
				Step: steps[0].ID, Stage: stage.Channels,
				Change: finding.Change{Kind: "channel.place", Key: "channel.place", Undo: finding.Undo{Kind: finding.Reversible}}}})
		})
	}
	if err := errors.Join(place(first), place(second)); err != nil {
		t.Errorf("each on its own channel: %v", err)
	}
	if err := place(second); !errors.Is(err, store.ErrUnderWay) {
		t.Errorf("twice the same: %v", err)
	}
	// The view's facts go with its row; what was changed on it stays in the history.
	if err := st.PickViews(ctx, device, []string{"in1"}, []string{"Input 1"}); err != nil {
		t.Fatal(err)
	}
	if read, err = st.ReadSite(ctx, site, []int64{device}); err != nil || len(read.OfView[second.ID]) != 0 || len(read.Sources) != 1 {
		t.Errorf("%+v %v", read.OfView, err)
	}
	all, err := st.ChangesOf(ctx, first, 9)
	if err != nil || len(all) != 2 || all[0].Enrolled() || !all[1].Enrolled() {
		t.Errorf("%+v %v", all, err)
	}
}

// A list with a line for each view of one device comes back as it was sent.
func TestTheExpectedListHasALineForEachView(t *testing.T) {
	st, site, first, second := shed(t)
	ctx := t.Context()
	rows, err := st.Expected(ctx, site)
	if err != nil || len(rows) != 2 || rows[0].Place != "Shed" || rows[1].Place != "Shed · Input 3" || rows[0].Address != rows[1].Address || rows[0].Channel != 7 || rows[1].Recorder != "Terminal recorder" {
		t.Fatalf("%+v %v", rows, err)
	}
	slices.Reverse(rows) // the order of a list counts for nothing
	rows[0].Channel = 9
	added, known, touched, err := st.Expect(ctx, site, rows, map[string]int64{"Terminal recorder": *first.RecorderID})
	if err != nil || added != 0 || known != 2 || !slices.Contains(touched, first.Device.ID) {
		t.Errorf("%d new, %d known, %v: %v", added, known, touched, err)
	}
	all := views(t, st, site, filter.Filter{Words: []string{"shed"}})
	if len(all) != 2 || all[0].ID != first.ID || all[0].Channel != 7 || all[1].ID != second.ID || all[1].Channel != 9 {
		t.Errorf("%+v", all)
	}
	if added, _, _, err = st.Expect(ctx, site, []expected.Row{{Place: "Shed · Input 4", Address: rows[0].Address},
		rows[0], rows[1]}, nil); err != nil {
		t.Fatal(err)
	} else if added != 1 {
		t.Errorf("a third line at the address is a new one: %d new", added)
	}
}

// A run whose last steps go with what they were of ends: nobody else would end it.
func TestARunEndsWhenItsLastStepsAreGone(t *testing.T) {
	st, site, first, second := shed(t)
	ctx := t.Context()
	begin := func(of ...store.Target) (run int64) {
		err := st.InTx(ctx, func(tx pgx.Tx) (err error) {
			run, _, err = st.AddRun(ctx, tx, store.NewRun{Site: site, Stage: stage.Streams, Act: store.Read, Title: "Read", Of: of})
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		return run
	}
	ended := func(run int64) bool {
		r, err := st.Run(ctx, run)
		if err != nil {
			t.Fatal(err)
		}
		return r.EndedAt != nil
	}
	both := begin(store.Target{Device: first.Device.ID, Source: first.ID}, store.Target{Device: second.Device.ID, Source: second.ID})
	one := begin(store.Target{Device: second.Device.ID, Source: second.ID})
	if err := st.PickViews(ctx, first.Device.ID, []string{"in1"}, []string{"Input 1"}); err != nil {
		t.Fatal(err)
	}
	if ended(both) || !ended(one) {
		t.Errorf("with a step left: ended %v; with none: ended %v", ended(both), ended(one))
	}
	stranger, err := st.AddDevice(ctx, store.Device{SiteID: site, Kind: identity.Camera, Place: "192.0.2.9"})
	if err != nil {
		t.Fatal(err)
	}
	of := begin(store.OfDevices(stranger)...)
	if err := st.LeaveOut(ctx, site, stranger); err != nil || !ended(of) || ended(both) {
		t.Errorf("left out: %v, ended %v and %v", err, ended(of), ended(both))
	}
	if err := st.LeaveOut(ctx, site, first.Device.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("what is on the list isn't left out: %v", err)
	}
}

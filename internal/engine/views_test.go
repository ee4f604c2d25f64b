package engine_test

import (
	"context"
	"slices"
	"testing"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// pick enrolls the first n views of a device.
func (b *fixture) pick(place string, n int) []site.Source {
	b.t.Helper()
	d := b.device(place)
	all, _ := facts.VideoSources.Of(b.view(), d.ID)
	if len(all) < n {
		b.t.Fatalf("%s has %d views", place, len(all))
	}
	var tokens, names []string
	for _, v := range all[:n] {
		tokens, names = append(tokens, v.Token), append(names, v.Name)
	}
	if err := b.Store.PickViews(context.Background(), d.ID, tokens, names); err != nil {
		b.t.Fatal(err)
	}
	if err := b.app.Judge(context.Background(), b.Site, []int64{d.ID}); err != nil {
		b.t.Fatal(err)
	}
	return b.view().Views(d.ID)
}

// readOf reads a stage of views.
func (b *fixture) readOf(st stage.Stage, views ...site.Source) {
	b.t.Helper()
	n := store.NewRun{Site: b.Site, Stage: st, Act: store.Read, Title: "Read"}
	for _, of := range views {
		n.Of = append(n.Of, store.Target{Device: of.Device.ID, Source: of.ID})
	}
	if r := b.wait(b.app.Begin(context.Background(), n, false)); r.Done != len(views) {
		all, _ := b.Store.Results(context.Background(), b.Site, r.ID, 0, 9)
		b.t.Fatalf("%v: %+v", st, all)
	}
}

// applyOf makes every proposal of views in a stage.
func (b *fixture) applyOf(st stage.Stage, views ...site.Source) {
	b.t.Helper()
	var of []store.Target
	for _, v := range views {
		of = append(of, store.Target{Device: v.Device.ID, Source: v.ID})
	}
	picks, _, err := b.app.Propose(context.Background(), b.Site, st, of)
	if err != nil || len(picks) != len(views) {
		b.t.Fatalf("%v: %d of %d views have proposals: %v", st, len(picks), len(views), err)
	}
	if r := b.wait(b.app.Apply(context.Background(), engine.Ask{Site: b.Site, Stage: st, Title: "Apply"}, picks)); r.Done != len(views) {
		all, _ := b.Store.Results(context.Background(), b.Site, r.ID, 0, 9)
		b.t.Fatalf("%v: %+v", st, all)
	}
}

func (b *fixture) markOf(of site.Source, st stage.Stage) stage.Mark {
	b.t.Helper()
	all, err := b.Store.Marks(context.Background(), []int64{of.ID})
	if err != nil {
		b.t.Fatal(err)
	}
	return all[of.ID][st]
}

// Two views of one device are two sources: what is the device's is read, judged and changed
// once and shows with both; streams, channel, routes and proof are each view's own.
func TestEachViewOfADeviceIsASourceOfItsOwn(t *testing.T) {
	t.Parallel()
	b := openWhole(t)
	b.find()
	const place = "Bonded store"
	b.read(stage.SignIn, place, "Terminal recorder")
	views := b.pick(place, 2)
	if len(views) != 2 || views[0].Place != place || views[1].Place != "Bonded store · Heat" || views[1].RecorderID == nil {
		t.Fatalf("%+v", views)
	}
	visible, heat := views[0], views[1]
	b.read(stage.Clock, "Terminal recorder", place)
	for _, st := range []stage.Stage{stage.Find, stage.SignIn, stage.Clock} {
		if a, c := b.markOf(visible, st), b.markOf(heat, st); a != c {
			t.Errorf("%v is the device's: %+v and %+v", st, a, c)
		}
	}

	// Streams: reading one view says nothing of the other.
	b.readOf(stage.Streams, heat)
	if m := b.markOf(heat, stage.Streams); m.State != stage.Ready {
		t.Errorf("streams of the heat view: %+v", m)
	}
	if m := b.markOf(visible, stage.Streams); m.State != stage.NotYet {
		t.Errorf("nobody read the streams of the visible view: %+v", m)
	}
	b.readOf(stage.Streams, visible)

	// Channels: each on its own, with its own stream, though placed in one run.
	b.applyOf(stage.Channels, visible, heat)
	testbed.Until(t, 30*time.Second, "both channels receive", func() bool {
		return b.markOf(visible, stage.Channels).State == stage.Ready && b.markOf(heat, stage.Channels).State == stage.Ready
	})
	s := b.view()
	_, one, _ := s.HolderOf(visible)
	_, two, _ := s.HolderOf(heat)
	if one == nil || two == nil || one.Number == two.Number || one.Profile == two.Profile || one.Name != visible.Place || two.Name != heat.Place {
		t.Fatalf("%+v and %+v", one, two)
	}
	changes, err := b.Store.ChangesOf(t.Context(), heat, 9)
	if err != nil || len(changes) != 1 || changes[0].Place != heat.Place || changes[0].State != store.Verified {
		t.Errorf("the history of the heat view: %+v %v", changes, err)
	}

	// Routes and Prove: an event of one view is not the other's.
	b.readOf(stage.Routes, heat)
	b.applyOf(stage.Routes, heat)
	if m := b.markOf(visible, stage.Routes); m.State == stage.Ready {
		t.Errorf("only the heat view was pegged: %+v", m)
	}
	testbed.Until(t, 30*time.Second, "the recorder listens", func() bool { return b.markOf(heat, stage.Routes).State == stage.Ready })
	n := store.NewRun{Site: b.Site, Stage: stage.Prove, Act: store.Prove, Title: "Walk",
		Of: []store.Target{{Device: heat.Device.ID, Source: heat.ID}}}
	if r := b.wait(b.app.Begin(t.Context(), n, true)); r.Failed > 0 {
		all, _ := b.Store.Results(t.Context(), b.Site, r.ID, 0, 9)
		t.Fatalf("%+v", all)
	}
	p := b.view().Proofs
	if got := p[heat.ID].Test; len(got.Camera) != 1 || len(got.Recorder) != 1 {
		t.Errorf("one walk is heard once, of the view that was walked: %+v", got)
	}
	if _, walked := p[visible.ID]; walked || b.markOf(visible, stage.Prove).State == stage.Ready {
		t.Error("nobody walked before the visible view")
	}

	// A word about one view's finding says nothing of the other's.
	if err := b.Store.Accept(t.Context(), heat, stage.Streams, "stream.loss", 0); err != nil {
		t.Fatal(err)
	}
	s = b.view()
	if len(s.Accepted(heat, stage.Streams)) != 1 || len(s.Accepted(visible, stage.Streams)) != 0 {
		t.Error("the acceptance is not the view's own")
	}

	// One view less: its row goes, the other's stays as it was.
	if err := b.Store.PickViews(t.Context(), heat.Device.ID, []string{heat.Video}, []string{"Heat"}); err != nil {
		t.Fatal(err)
	}
	left := b.view().Views(heat.Device.ID)
	if len(left) != 1 || left[0].ID != heat.ID || !left[0].First() || b.view().Proofs[heat.ID].ID == 0 {
		t.Errorf("%+v", left)
	}
}

// What is the device's is proposed and made once, whichever of its views were selected.
func TestADevicesChangeIsMadeOnceForAllItsViews(t *testing.T) {
	t.Parallel()
	b := openWhole(t)
	b.find()
	const place = "Customs shed" // burns in month-day-year
	b.read(stage.SignIn, place, "Terminal recorder")
	views := b.pick(place, 2)
	b.read(stage.Clock, "Terminal recorder", place)
	second := views[1]
	all, err := b.Store.Resolve(t.Context(), store.Selection{Site: b.Site, IDs: []int64{second.ID},
		ActStage: stage.Clock, Act: stage.Apply}, stage.Clock)
	if err != nil || !slices.Equal(all, []store.Target{{Device: second.Device.ID}}) {
		t.Fatalf("the second view stands for its device: %v %v", all, err)
	}
	both, err := b.Store.Resolve(t.Context(), store.Selection{Site: b.Site, IDs: []int64{views[0].ID, second.ID}}, stage.Clock)
	if err != nil || len(both) != 1 {
		t.Fatalf("%v %v", both, err)
	}
	if n, of, err := b.Store.Proposed(t.Context(), store.Selection{Site: b.Site, IDs: []int64{views[0].ID, second.ID}},
		stage.Clock); err != nil || of != 1 || n == 0 {
		t.Errorf("%d changes of %d devices: %v", n, of, err)
	}
	picks, _, err := b.app.Propose(t.Context(), b.Site, stage.Clock, all)
	if err != nil || len(picks) != 1 {
		t.Fatalf("%+v %v", picks, err)
	}
	if r := b.wait(b.app.Apply(t.Context(), engine.Ask{Site: b.Site, Stage: stage.Clock, Title: "Apply"}, picks)); r.Done != 1 {
		t.Fatalf("%+v", r)
	}
	for _, of := range views {
		changes, err := b.Store.ChangesOf(t.Context(), of, 9)
		if err != nil || !slices.ContainsFunc(changes, func(c store.Change) bool { return c.Kind == clock.SetText && c.SourceID == nil }) {
			t.Errorf("%s: %+v %v", of.Place, changes, err)
		}
		if c := b.proposals(of.Device, stage.Clock); len(c) != 0 {
			t.Errorf("%s: still proposed: %+v", of.Place, c)
		}
	}
	if a, c := b.markOf(views[0], stage.Clock), b.markOf(second, stage.Clock); a != c {
		t.Errorf("%+v and %+v", a, c)
	}
}

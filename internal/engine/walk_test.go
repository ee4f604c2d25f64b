package engine_test

import (
	"context"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// bench is an office at work on a harbour.
type fixture struct {
	*testbed.Harbour
	t   *testing.T
	app *app.App
}

func open(t *testing.T, opt app.Options) *fixture {
	return openOn(t, testbed.Start(t), opt)
}

func (b *fixture) view() *site.Snapshot {
	b.t.Helper()
	v, err := site.Load(context.Background(), b.Store, b.Site, nil)
	if err != nil {
		b.t.Fatal(err)
	}
	return v
}

func (b *fixture) device(place string) store.Device {
	b.t.Helper()
	for _, d := range b.view().Devices {
		if d.Place == place {
			return d
		}
	}
	b.t.Fatalf("no device %q", place)
	return store.Device{}
}

// source is a device as a source: its first view, or a recorder as a whole.
func (b *fixture) source(d store.Device) site.Source {
	b.t.Helper()
	return b.view().Of(d)
}

// proposals are what a stage proposes for a device's first view now.
func (b *fixture) proposals(d store.Device, st stage.Stage) []finding.Change {
	b.t.Helper()
	v := b.view()
	return b.app.Proposals(time.Now(), v, v.Of(d), st)
}

// wait waits for a run to end.
func (b *fixture) wait(run int64, err error) store.Run {
	b.t.Helper()
	if err != nil {
		b.t.Fatal(err)
	}
	var r store.Run
	testbed.Until(b.t, 3*time.Minute, "the run ends", func() bool {
		if r, err = b.Store.Run(context.Background(), run); err != nil {
			b.t.Fatal(err)
		}
		return r.EndedAt != nil
	})
	return r
}

func (b *fixture) find() store.Run {
	b.t.Helper()
	networks, err := b.Store.Networks(context.Background(), b.Site)
	if err != nil {
		b.t.Fatal(err)
	}
	n := store.NewRun{Site: b.Site, Stage: stage.Find, Act: store.Read, Title: "Look"}
	for _, w := range networks {
		n.Networks = append(n.Networks, w.ID)
	}
	return b.wait(b.app.Begin(context.Background(), n, false))
}

func (b *fixture) read(st stage.Stage, places ...string) store.Run {
	b.t.Helper()
	n := store.NewRun{Site: b.Site, Stage: st, Act: store.Read, Title: "Read"}
	for _, p := range places {
		of := b.source(b.device(p))
		t := store.Target{Device: of.Device.ID}
		if !st.OfDevice() {
			t.Source = of.ID
		}
		n.Of = append(n.Of, t)
	}
	return b.wait(b.app.Begin(context.Background(), n, false))
}

// apply makes every proposal of a camera in a stage.
func (b *fixture) apply(st stage.Stage, place string) store.Run {
	b.t.Helper()
	d := b.device(place)
	return b.wait(b.app.Apply(context.Background(), engine.Ask{Site: b.Site, Stage: st, Title: "Apply"},
		[]engine.Pick{{Source: b.source(d), Changes: b.proposals(d, st)}}))
}

// undo takes a change back.
func (b *fixture) undo(ctx context.Context, c store.Change) (int64, error) {
	title, pick, err := b.app.TakesBack(ctx, c)
	if err != nil {
		return 0, err
	}
	return b.app.Apply(ctx, engine.Ask{Site: b.Site, Stage: c.Stage, Title: title}, []engine.Pick{pick})
}

// place finds a camera and the recorder, signs in, plays its streams and puts it on a channel.
func (b *fixture) place(camera string) {
	b.t.Helper()
	b.find()
	b.read(stage.SignIn, camera, "Terminal recorder")
	b.read(stage.Streams, camera)
	b.apply(stage.Channels, camera)
}

func (b *fixture) mark(place string, st stage.Stage) stage.Mark {
	b.t.Helper()
	id := b.source(b.device(place)).ID
	all, err := b.Store.Marks(context.Background(), []int64{id})
	if err != nil {
		b.t.Fatal(err)
	}
	return all[id][st]
}

func (b *fixture) want(place string, st stage.Stage, state stage.State) {
	b.t.Helper()
	if m := b.mark(place, st); m.State != state {
		b.t.Fatalf("%s, %v: %s %q (%s), want %s", place, st, m.State, m.Words, m.Sentence, state)
	}
}

func TestFromNotFoundToProven(t *testing.T) {
	t.Parallel()
	b := open(t, app.Options{})
	if r := b.find(); r.Failed > 0 {
		t.Fatalf("the look failed: %+v", r)
	}
	for _, place := range []string{"Slipway", "Berth 1 ramp"} {
		b.want(place, stage.Find, stage.Ready)
	}
	b.want("Net loft", stage.Find, stage.Blocked)
	both := []string{"Slipway", "Berth 1 ramp"}
	b.read(stage.SignIn, append(both, "Terminal recorder")...)
	for _, p := range both {
		b.want(p, stage.SignIn, stage.Ready)
	}
	b.read(stage.Clock, both...)
	b.want("Slipway", stage.Clock, stage.Ready)
	b.want("Berth 1 ramp", stage.Clock, stage.Blocked)
	b.read(stage.Streams, both...)
	for _, p := range both {
		b.want(p, stage.Streams, stage.Ready)
		if r := b.apply(stage.Channels, p); r.Failed > 0 {
			t.Fatalf("placing %s failed", p)
		}
	}
	b.want("Slipway", stage.Channels, stage.Ready)
	b.want("Berth 1 ramp", stage.Channels, stage.Blocked)
	b.read(stage.Routes, "Slipway")
	if r := b.apply(stage.Routes, "Slipway"); r.Failed > 0 {
		t.Fatal("pegging failed")
	}
	b.want("Slipway", stage.Routes, stage.Ready)
	d := b.device("Slipway")
	for range 2 { // by its line, and by its area
		b.wait(b.app.Begin(context.Background(), store.NewRun{Site: b.Site, Stage: stage.Prove, Act: store.Prove,
			Title: "Walk", Of: store.OfDevices(d.ID)}, true))
	}
	b.want("Slipway", stage.Prove, stage.Ready)
	p := b.view().Proofs[b.source(d).ID]
	for _, bar := range proof.Judge(time.Now(), p.Test, "Slipway") {
		t.Logf("%s leg: %v %s (± %v)", bar.Leg, bar.Took, bar.Verdict, bar.Error)
		if bar.Verdict != proof.OnTime {
			t.Errorf("%s leg: %s", bar.Leg, bar.Verdict)
		}
	}

	// Berth 1: one act mends the clock, then the recorder takes it by itself.
	if m := b.mark("Berth 1 ramp", stage.Clock); m.Words != "+1 h" {
		t.Errorf("its mark says %q", m.Words)
	}
	b.apply(stage.Clock, "Berth 1 ramp")
	t.Cleanup(func() {
		if !t.Failed() {
			return
		}
		changes, _ := b.Store.Changes(context.Background(), b.Site, 0, 0, 200)
		for _, c := range changes {
			t.Logf("change %s %s: %q → %q, %s: %s (reads %q, sent %d times)", c.Place, c.Kind, c.FromText, c.ToText,
				c.State, c.Says, c.Reads, c.Writes)
		}
		for _, st := range stage.All() {
			t.Logf("%v: %+v", st, b.mark("Berth 1 ramp", st))
		}
	})
	testbed.Until(t, 20*time.Second, "Berth 1's clock and channel are ready", func() bool {
		return b.mark("Berth 1 ramp", stage.Clock).State == stage.Ready && b.mark("Berth 1 ramp", stage.Channels).State == stage.Ready
	})
	// A second run proposes nothing.
	for _, st := range []stage.Stage{stage.Clock, stage.Channels} {
		if c := b.proposals(b.device("Berth 1 ramp"), st); len(c) > 0 {
			t.Errorf("%v still proposes %+v", st, c)
		}
	}
}

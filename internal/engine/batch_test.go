package engine_test

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/testbed"
)

// A batch of analog inputs with the one restart that serves all is killed at a step, whichever of its
// parts that is, and what takes over is killed there too: in the end all inputs are off, the recorder was
// started again once, and it has the channels that were asked for.
func TestARestartBatchKilledAtItsSteps(t *testing.T) {
	t.Parallel()
	kills := []string{engine.PointWritten + "/2", engine.PointSent + "/6"}
	if os.Getenv("KILL_ROUNDS") != "" {
		kills = nil
		for _, step := range engine.Points() {
			for part := range 6 {
				kills = append(kills, fmt.Sprintf("%s/%d", step, part+1))
			}
		}
	}
	h := testbed.StartOnly(t, "Quay recorder")
	b := &fixture{h, t, nil}
	rec := h.Fleet.Recorders[0]
	b.atWork(func() { b.find(); b.readWhole() })
	for _, at := range kills {
		quay := b.device("Quay recorder")
		table, _ := site.Recorder.Of(b.view(), quay.ID)
		changes, missing := table.Room(quay.ID, 8) // beside the one that is held
		if missing != 0 || len(changes) != 6 {
			t.Fatalf("%d channels are missing, %d changes", missing, len(changes))
		}
		before := rec.Restarts()
		run, err := b.idle().Apply(t.Context(), engine.Ask{Site: b.Site, Stage: stage.Channels, Title: "Kill at " + at},
			[]engine.Pick{{Source: quay.Whole(), Changes: finding.Arrange(changes)}})
		if err != nil {
			t.Fatal(err)
		}
		if !b.dies(server(t, h, at), run) && os.Getenv("KILL_ROUNDS") == "" {
			t.Errorf("the server didn't die at %q", at)
		}
		b.dies(server(t, h, at), run)
		b.atWork(func() {
			if r := b.wait(run, nil); r.Failed > 0 {
				steps, _ := b.Store.StepsOf(context.Background(), run, 1)
				t.Errorf("killed at %q: %+v", at, steps)
			}
			b.readWhole()
		})
		table, _ = site.Recorder.Of(b.view(), quay.ID)
		if table.ChannelsNow() != 9 || len(table.Pending()) > 0 || rec.Restarts() != before+1 {
			t.Errorf("killed at %q: %d channels, %d changes wait, started again %d times", at, table.ChannelsNow(), len(table.Pending()), rec.Restarts()-before)
		}
		b.asItWas(table)
	}
}

// readWhole reads the recorder's table.
func (b *fixture) readWhole() {
	b.t.Helper()
	b.readOf(stage.Channels, b.source(b.device("Quay recorder")))
}

// asItWas switches the inputs on again that were switched off, as someone at its own screen would.
func (b *fixture) asItWas(table channel.Recorder) {
	b.t.Helper()
	b.atWork(func() {
		var all []finding.Change
		quay := b.device("Quay recorder")
		for _, a := range table.Analog {
			if a.Number < 4 {
				continue
			}
			if c, ok := table.Switch(quay.ID, a.Number, true); ok {
				all = append(all, c)
			}
		}
		all = append(all, table.Restart(quay.ID, len(all)))
		if r := b.wait(b.app.Apply(b.t.Context(), engine.Ask{Site: b.Site, Stage: stage.Channels, Title: "As it was"}, []engine.Pick{{Source: quay.Whole(), Changes: all}})); r.Failed > 0 {
			b.t.Fatalf("it isn't as it was: %+v", r)
		}
		testbed.Until(b.t, 30*time.Second, "it is as it was", func() bool {
			b.readWhole()
			now, _ := site.Recorder.Of(b.view(), quay.ID)
			return now.ChannelsNow() == 4 && len(now.Pending()) == 0
		})
	})
}

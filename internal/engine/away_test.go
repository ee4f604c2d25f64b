package engine_test

import (
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/app"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// slowToStart is a fixture whose Slipway is away for a while when it starts again.
func slowToStart(t *testing.T, down, patience time.Duration) *fixture {
	t.Helper()
	h := testbed.Start(t)
	cam := h.Fleet.Camera("Slipway")
	cam.Close()
	cfg := cam.Config()
	cfg.Manners.RestartTime = down
	again, err := camera.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	b := openOn(t, h, app.Options{Away: patience})
	b.find()
	b.read(stage.SignIn, "Slipway")
	return b
}

// A device that takes its time to start again is let go meanwhile: its step waits in the
// queue, and others may work on it. Once it was away and is there again, that is read.
func TestADeviceThatStartsAgainIsLetGoMeanwhile(t *testing.T) {
	t.Parallel()
	b := slowToStart(t, 6*time.Second, time.Minute)
	ctx, of := t.Context(), b.source(b.device("Slipway"))
	run, err := b.app.Once(ctx, engine.Ask{Stage: stage.SignIn}, of, access.RestartNow())
	if err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, 20*time.Second, "its step waits for it", func() bool {
		all, err := b.Store.Results(ctx, b.Site, run, 0, 1)
		return err == nil && len(all) == 1 && all[0].State == "waiting" && strings.Contains(all[0].Says, "it starts again")
	})
	testbed.Until(t, 5*time.Second, "somebody else may hold it", func() bool {
		_, ok, err := b.Store.Lease(ctx, of.Device.ID, "another", time.Minute)
		return ok && err == nil
	})
	if err := b.Store.Release(ctx, of.Device.ID, "another"); err != nil {
		t.Fatal(err)
	}
	if r := b.wait(run, nil); r.Done != 1 {
		t.Errorf("%+v", r)
	}
	all, err := b.Store.ChangesOf(ctx, of, 1)
	if err != nil || len(all) != 1 || !all[0].Made() || all[0].Writes != 1 {
		t.Errorf("it was sent once, and it started again: %+v %v", all, err)
	}
}

// One that stays away is no success: a person is asked.
func TestADeviceThatDoesNotComeBackAsksAPerson(t *testing.T) {
	t.Parallel()
	b := slowToStart(t, time.Minute, 4*time.Second)
	of := b.source(b.device("Slipway"))
	if r := b.wait(b.app.Once(t.Context(), engine.Ask{Stage: stage.SignIn}, of, access.RestartNow())); r.Failed != 1 {
		t.Errorf("%+v", r)
	}
	all, err := b.Store.ChangesOf(t.Context(), of, 1)
	if err != nil || len(all) != 1 || all[0].State != store.Asks || all[0].Writes != 1 || !strings.Contains(all[0].Says, "silent since") {
		t.Errorf("%+v %v", all, err)
	}
}

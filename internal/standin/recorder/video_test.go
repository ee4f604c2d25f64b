package recorder_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/demo"
	client "duskyharbor/internal/device/recorder"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/testbed"
)

// Video is kept on disk as the plan asks: all of one channel, nothing of another that waits for events
// which don't come, and nothing of one that it has no licence to record, though it shows it.
func TestVideoIsKeptAsThePlanAsks(t *testing.T) {
	t.Parallel()
	n, s := testbed.Net(t), demo.NewSecrets()
	cfg := demo.Recorders(n, s, t.TempDir())[0]
	cfg.Records, cfg.Lists, cfg.Limits.Ways = 2, nil, nil
	r, rec := started(t, cfg)
	for i, c := range demo.BulkCameras(n, s, "", 3) { // quiet ones
		cam, err := camera.Start(t.Context(), c)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(cam.Close)
		if err := rec.Place(t.Context(), i+1, client.Placement{Name: c.Place, Address: c.Address.String(), Service: fmt.Sprintf("http://%s:%d/onvif/device_service", c.Address, camera.HTTPPort),
			Username: c.Username, Password: c.Password, Profile: "main"}); err != nil {
			t.Fatal(err)
		}
	}
	events := recording.Always(recording.Mode{Name: "events", Idle: recording.Nothing, Event: recording.Record, Causes: []recording.Cause{recording.Motion}})
	if err := rec.SetPlan(t.Context(), 2, events); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, 60*time.Second, "all three are received", func() bool {
		a, _, err := rec.Status(t.Context())
		if err != nil || len(a.Slots) != 3 {
			return false
		}
		for i, s := range a.Slots {
			if s.State != channel.Receiving || s.Recording.Unlicensed != (i == 2) {
				return false
			}
		}
		return true
	})
	held := func(number int) (packets int, span time.Duration) {
		n, first, last, err := r.Video(number)
		if err != nil {
			t.Fatal(err)
		}
		return n, last.Sub(first)
	}
	before, _ := held(2) // what came before the plan was written
	testbed.Until(t, 100*time.Second, "seconds of the first are on disk", func() bool { n, span := held(1); return n > 20 && span >= 3*time.Second })
	if n, _ := held(3); n != 0 {
		t.Errorf("%d packets of a channel without a licence", n)
	}
	if n, _ := held(2); n > before+before/2+40 {
		t.Errorf("%d packets of a channel where nothing happens, %d before the plan", n, before)
	}
	if err := rec.Remove(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	if n, _ := held(1); n == 0 {
		t.Error("what was recorded goes with the camera; its interface says that it stays")
	}
}

// What its ports feed stays within its watts: the device that asks last gets none, and says nothing.
func TestPortsFeedWithinTheirWatts(t *testing.T) {
	t.Parallel()
	n, s := testbed.Net(t), demo.NewSecrets()
	cfg := demo.Recorders(n, s, t.TempDir())[1]
	cfg.Plugged, cfg.Draws, cfg.Limits.Watts, cfg.Ports = map[int]netip.Addr{1: n.At(".90.13"), 2: n.At(".90.14")}, map[int]int{1: 3, 2: 4}, 40, 4
	_, rec := started(t, cfg)
	testbed.Until(t, 20*time.Second, "one of both is fed", func() bool {
		a, _, err := rec.Status(t.Context())
		if err != nil || len(a.Ports) != 4 || !a.Ports[0].Denied && !a.Ports[1].Denied {
			return false
		}
		if a.Ports[0].Denied == a.Ports[1].Denied || a.Watts() > 40 || a.Watts() < 15 {
			t.Fatalf("%+v", a.Ports)
		}
		return true
	})
}

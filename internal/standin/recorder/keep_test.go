package recorder_test

import (
	"fmt"
	"math"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/demo"
	client "duskyharbor/internal/device/recorder"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/standin/recorder"
	"duskyharbor/internal/testbed"
	"duskyharbor/internal/testbed/moment"
)

// week is a plan of two kinds of hours, the second from evening to morning.
func week(day, night recording.Mode) recording.Plan {
	p := recording.Plan{Modes: []recording.Mode{day, night}}
	for d := range recording.WeekDays {
		for h := range recording.HalfHours {
			if h < 11 || h >= 42 || d == 6 {
				p.Week[d][h] = 1
			}
		}
	}
	return p
}

// What the rules predict from what a recorder counted under one plan is within a hundredth of
// what it keeps in a week under another, for every kind of keeping; it keeps no more than it has
// room for.
func TestPredictedDaysAreKept(t *testing.T) {
	t.Parallel()
	n, s := testbed.Net(t), demo.NewSecrets()
	cfg := demo.Recorders(n, s, "")[0]
	cfg.Analog = []recorder.AnalogInput{{Name: "Ice house door", Signal: true}}
	cfg.Limits.Channels, cfg.Limits.Capacity = 16, recorder.Capacity{Base: 16, Most: 16}
	cfg.Usable = 20e12
	r, rec := started(t, cfg)
	motion := []recording.Cause{recording.Motion}
	both := []recording.Cause{recording.Motion, recording.Camera}
	// Until it has counted, each keeps the view stream and, when something happens, the other.
	counts := recording.Always(recording.Mode{Name: "always", Idle: recording.View, Event: recording.Record, Causes: both, Lead: 2, Tail: 2})
	plans := []recording.Plan{
		recording.Always(recording.Mode{Name: "all", Idle: recording.Record, Event: recording.Record}),
		recording.Always(recording.Mode{Name: "view", Idle: recording.View, Event: recording.View}),
		recording.Always(recording.Mode{Name: "keys", Idle: recording.Keys, Event: recording.Record, Causes: motion, Lead: 1, Tail: 0}),
		recording.Always(recording.Mode{Name: "events", Idle: recording.Nothing, Event: recording.Record, Causes: motion, Lead: 0, Tail: 3}),
		recording.Always(recording.Mode{Name: "better", Idle: recording.View, Event: recording.Record, Causes: motion, Lead: 2, Tail: 4}),
		week(recording.Mode{Name: "by day", Idle: recording.Nothing, Event: recording.View, Causes: motion, Lead: 1, Tail: 1},
			recording.Mode{Name: "by night", Idle: recording.View, Event: recording.Record, Causes: motion, Lead: 2, Tail: 2})}
	for i := range plans {
		var at string
		for _, c := range demo.Cameras(n, s, "") {
			if c.Place == "Slipway" {
				at = fmt.Sprintf(".1.%d", 100+i)
				c.Address, c.Place, c.Serial, c.UUID = n.At(at), fmt.Sprint("View ", i), fmt.Sprint("KEEP-", i), strings.Replace(c.UUID, "-9c01-", fmt.Sprintf("-9d%02d-", i), 1)
				cam, err := camera.Start(t.Context(), c)
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(cam.Close)
			}
		}
		if err := rec.Place(t.Context(), i+1, client.Placement{Name: fmt.Sprint("View ", i), Address: n.At(at).String(),
			Service:  fmt.Sprintf("http://%s:%d/onvif/device_service", n.At(at), camera.HTTPPort),
			Username: "otter", Password: s.House, Profile: "main", ViewProfile: "sub"}); err != nil {
			t.Fatal(err)
		}
		if err := rec.SetPlan(t.Context(), i+1, counts); err != nil {
			t.Fatal(err)
		}
	}
	status := func() channel.Recorder {
		t.Helper()
		table, _, err := rec.Status(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return table
	}
	testbed.Until(t, 20*time.Second, "all are listened to, and their view streams come", func() bool {
		for _, slot := range status().Slots {
			if slot.Events != "listening" || slot.Recording.Rates.Day.View+slot.Recording.Rates.Night.View == 0 {
				return false
			}
		}
		return true
	})
	for i := range plans {
		res, err := http.PostForm(fmt.Sprintf("http://%s:%d/walk", n.At(fmt.Sprintf(".1.%d", 100+i)), camera.ControlPort), url.Values{})
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
	}
	var lines recorder.Lines
	var err error
	testbed.Until(t, 90*time.Second, "each camera sent for long enough, and something moved", func() bool {
		if lines, err = r.Lines(); err != nil || len(lines) != len(plans) {
			return false
		}
		return lines.Moved()
	})
	r.RunDays(time.Now(), 9, lines)
	before := status()
	for _, slot := range before.Slots {
		if !moved(slot) {
			t.Fatalf("nothing moved before %s: %+v", slot.Name, slot.Recording.Activity)
		}
	}
	var all []recording.Channel
	for i, c := range before.Recordings() {
		c.Plan = plans[i]
		all = append(all, c)
		if err := rec.SetPlan(t.Context(), i+1, plans[i]); err != nil {
			t.Fatal(err)
		}
	}
	// The machine's own time, and what a calendar has.
	days := moment.Days()
	if os.Getenv(moment.Env) != moment.All {
		days = days[:2] // each takes seconds
	}
	for _, until := range days {
		r.RunDays(until, 9, lines)
		compare(t, until, plans, all, status())
	}
}

// compare holds what the rules forecast from what was counted before against what was kept.
func compare(t *testing.T, until time.Time, plans []recording.Plan, all []recording.Channel, after channel.Recorder) {
	t.Helper()
	if after.Storage.KeptDays < 7 {
		t.Fatalf("until %s %f whole days are kept", until, after.Storage.KeptDays)
	}
	sum := recording.Forecast(after.Storage, all, 0)
	for i, slot := range after.Slots {
		got, want := slot.Recording.KeptDay, sum.Loads[i].Bytes
		t.Logf("until %s: %s: %.1f MB a day predicted, %.1f MB kept (%+.1f %%), something for %.0f %%",
			until.UTC().Format("Mon 2 Jan 15:04"), plans[i].Modes[0].Name, want/1e6, got/1e6, 100*(want/got-1), 100*sum.Loads[i].Duty)
		if got <= 0 || math.Abs(want/got-1) > 0.01 {
			t.Errorf("until %s: %s: %.1f MB a day were predicted, and %.1f MB kept", until, plans[i], want/1e6, got/1e6)
		}
	}
	if got := after.Storage.Kept; math.Abs(sum.Bytes/got-1) > 0.01 {
		t.Errorf("until %s: %.1f MB a day were predicted of all, and %.1f MB kept", until, sum.Bytes/1e6, got/1e6)
	}
}

// moved says whether something went on for a part of what was counted.
func moved(s channel.Slot) bool {
	for _, a := range s.Recording.Activity {
		if a.Cause == recording.Motion && a.Active > 0 && a.Active < a.Seconds {
			return true
		}
	}
	return false
}

package proof

import (
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/testbed/moment"
)

func TestVerdicts(t *testing.T) {
	t0 := time.Date(2026, 11, 24, 3, 0, 0, 0, time.UTC)
	after := func(d time.Duration) []Arrival { return []Arrival{{At: t0.Add(d), Name: "Slipway"}} }
	for _, tc := range []struct {
		name     string
		t        Test
		cam, rec Verdict
		pass     bool
	}{
		{"both on time", Test{Camera: after(400 * time.Millisecond), Recorder: after(700 * time.Millisecond),
			Ended: t0.Add(time.Minute)}, OnTime, OnTime, true},
		{"recorder first", Test{Camera: after(400 * time.Millisecond), Recorder: after(100 * time.Millisecond),
			Ended: t0}, OnTime, OnTime, true},
		{"recorder late", Test{Camera: after(time.Second), Recorder: after(3100 * time.Millisecond), Ended: t0}, OnTime, Late, false},
		{"camera late", Test{Camera: after(2100 * time.Millisecond), Recorder: after(2200 * time.Millisecond),
			Ended: t0}, Late, OnTime, false},
		{"late within the error", Test{Error: 200 * time.Millisecond, Camera: after(2100 * time.Millisecond),
			Recorder: after(2200 * time.Millisecond), Ended: t0}, OnTime, OnTime, true},
		{"recorder missed", Test{Camera: after(time.Second), Ended: t0}, OnTime, Missed, false},
		{"all missed", Test{Ended: t0}, Missed, Missed, false},
		{"waiting", Test{Camera: after(time.Second)}, OnTime, Waiting, false},
		{"twice", Test{Camera: after(time.Second), Recorder: append(after(time.Second), after(2*time.Second)...),
			Ended: t0}, OnTime, Twice, false},
		{"wrong name", Test{Camera: after(time.Second), Recorder: []Arrival{{At: t0.Add(time.Second), Name: "CAM 1"}},
			Ended: t0}, OnTime, Wrong, false},
	} {
		tc.t.Started, tc.t.Happened = t0.Add(-5*time.Second), t0
		bars := Judge(t0, tc.t, "Slipway")
		if len(bars) != 2 || bars[0].Verdict != tc.cam || bars[1].Verdict != tc.rec || Passed(bars) != tc.pass {
			t.Errorf("%s: %+v", tc.name, bars)
		}
		for _, b := range bars {
			if b.Took < 0 || b.To < b.From {
				t.Errorf("%s: a bar runs backwards: %+v", tc.name, b)
			}
		}
	}
	if Passed(nil) {
		t.Error("no legs pass")
	}
}

func TestAProofGoesStale(t *testing.T) {
	now := moment.Now()
	last := &Test{Started: now, Ended: now, Happened: now, Camera: []Arrival{{At: now}},
		Recorder: []Arrival{{At: now, Name: "Slipway"}}}
	on := func(channel string) []ground.Ground {
		return []ground.Ground{{Of: "device", Is: "a"}, {Of: "channel", Is: channel}}
	}
	if _, stale := JudgeSource(now, Facts{Last: last, Grounds: on("3")}, "Slipway"); !strings.Contains(stale, "nobody knows what changed") {
		t.Errorf("a walk that was kept without its grounds: %q", stale)
	}
	last.Grounds = on("3")
	r := Route{last.Topic, last.Input}
	for _, tc := range []struct{ channel, stale string }{{"3", ""}, {"5", "its channel changed from 3 to 5"}, {"", "its channel (3 then) can't be told now"}} {
		f := Facts{Last: last, Walks: []Test{*last}, Grounds: on(tc.channel)}
		if found, stale := JudgeSource(now, f, "Slipway"); len(found) != 0 || (stale == "") != (tc.stale == "") || !strings.Contains(stale, tc.stale) || f.Proven(now, r, "Slipway") != (tc.stale == "") {
			t.Errorf("on channel %q: %v %q", tc.channel, found, stale)
		}
	}
	last.Recorder = nil
	if found, _ := JudgeSource(now, Facts{Last: last, Grounds: last.Grounds}, "Slipway"); len(found) != 1 || found[0].Code != "proof.missed" {
		t.Errorf("%+v", found)
	}
	if found, stale := JudgeSource(now, Facts{}, ""); found != nil || stale != "" {
		t.Error("an unproven source has a finding")
	}
}

package channel

import (
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

func coded(all []finding.Finding, code string) bool {
	return slices.ContainsFunc(all, func(f finding.Finding) bool { return f.Code == code })
}

// Each finding of a source comes of one thing alone.
func TestEachFindingComesOfItsCause(t *testing.T) {
	free := func(*Facts, *Wishes) {}
	held := func(f *Facts, w *Wishes) {
		f.Recorder.Slots = []Slot{{Number: 2, Name: "Slipway", Address: f.Address, State: Receiving, Codec: "H264", Width: 1280, Height: 720, Way: RTSP}}
		f.Slot = &f.Recorder.Slots[0]
		f.Recorder.Limits.Ways = []Way{{Name: RTSP, Passes: []string{"video", "events"}}}
		w.Camera.Needs = []string{"events"}
	}
	for _, tc := range []struct {
		code          string
		before, cause func(*Facts, *Wishes)
	}{
		{"channel.full", free, func(f *Facts, _ *Wishes) { f.Recorder.Limits.Channels = 0 }},
		{"channel.by-hand", free, func(f *Facts, _ *Wishes) { f.Recorder.ByHand = true }},
		{"channel.model", func(f *Facts, w *Wishes) { f.Recorder.Limits.NoOthers = true }, func(f *Facts, _ *Wishes) { f.Recorder.Models = &ModelList{} }},
		{"channel.no-way", func(f *Facts, _ *Wishes) { f.Recorder.Limits.Ways = []Way{{Name: ONVIF}} }, func(_ *Facts, w *Wishes) { w.Camera.RTSPAlone = true }},
		{"channel.paused", held, func(f *Facts, _ *Wishes) { f.Slot.State = "paused" }},
		{"channel.unseen", held, func(f *Facts, _ *Wishes) { f.Slot.State = Typed }},
		{"channel.drops", held, func(f *Facts, w *Wishes) { w.Camera.Needs = []string{"events", "audio"} }},
		{"channel.drops", held, func(f *Facts, _ *Wishes) { f.Recorder.Limits.Ways[0].Passes = []string{"video"} }},
	} {
		f, w := Facts{Address: "127.40.1.11", Recorder: terminal()}, wish
		tc.before(&f, &w)
		if coded(Judge(moment.Now(), f, w), tc.code) {
			t.Errorf("%s without its cause", tc.code)
		}
		if tc.cause(&f, &w); !coded(Judge(moment.Now(), f, w), tc.code) {
			t.Errorf("no %s: %+v", tc.code, Judge(moment.Now(), f, w))
		}
	}
}

func TestEachFindingOfAPortComesOfItsCause(t *testing.T) {
	for code, cause := range map[string]func(*Recorder, *Port){
		"channel.watts":        func(_ *Recorder, p *Port) { p.Denied = true },
		"channel.port-address": func(_ *Recorder, p *Port) { p.Fixed = true },
	} {
		r := Recorder{HandsOut: "127.40.90.0/24", Limits: Limits{Watts: 30}, Ports: []Port{{Number: 3, Linked: true, Watts: 8, Address: "127.40.90.13"}}}
		if v := r.PortViews(); coded(v[0].Findings, code) {
			t.Errorf("%s without its cause", code)
		}
		if cause(&r, &r.Ports[0]); !coded(r.PortViews()[0].Findings, code) {
			t.Errorf("no %s: %+v", code, r.PortViews()[0])
		}
	}
	r := Recorder{Ports: []Port{{Number: 3, Linked: true, Fixed: true, Address: "127.40.90.13"}}}
	if coded(r.PortViews()[0].Findings, "channel.port-address") {
		t.Error("a fixed address is wrong on a port that gives none")
	}
}

func TestWhatIsHeldElsewhereThanPlannedMoves(t *testing.T) {
	old, fresh := terminal(Slot{Number: 4, State: Receiving}), terminal()
	old.Name = "Quay recorder"
	f := Moves(Facts{Recorder: old, Slot: &old.Slots[0]}, Facts{Recorder: fresh}, wish)
	if f.Code != "channel.moves" || !strings.HasPrefix(f.Sentence, "Channel 4 of Quay recorder holds it, and it is planned for Terminal recorder.") {
		t.Errorf("%+v", f)
	}
}

package identity

import (
	"slices"
	"testing"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/testbed/moment"
)

// Each finding comes of one thing alone: without it, the same device has none of that code, and with it, it has.
func TestEachFindingComesOfItsCause(t *testing.T) {
	now := moment.Now()
	has := func(f Facts, w Wishes, code string) bool {
		return slices.ContainsFunc(Judge(now, f, w), func(x finding.Finding) bool { return x.Code == code })
	}
	port := Behind{Recorder: "Quay recorder", RecorderID: 1, Port: 3, At: now, HandsOut: "127.40.90.0/24", Slot: 3}
	behind := func(f *Facts) {
		b := port
		f.Behind, f.Seen.Ways = &b, []Way{OnAPort}
	}
	for _, tc := range []struct {
		code          string
		before, cause func(*Facts, *Wishes)
	}{
		{"find.unexpected", nil, func(_ *Facts, w *Wishes) { w.Expected = false }},
		{"find.unlisted-recorder", func(_ *Facts, w *Wishes) { w.Kind = Recorder }, func(_ *Facts, w *Wishes) { w.Expected = false }},
		{"find.unlisted-analyser", func(_ *Facts, w *Wishes) { w.Kind = Analyser }, func(_ *Facts, w *Wishes) { w.Expected = false }},
		{"find.unlisted-analyser", func(_ *Facts, w *Wishes) { w.Kind, w.Expected, w.Account = Analyser, false, true }, func(_ *Facts, w *Wishes) { w.Account = false }},
		{"find.unlisted-recorder", func(_ *Facts, w *Wishes) { w.Kind, w.Expected, w.Account = Recorder, false, true }, func(_ *Facts, w *Wishes) { w.Account = false }},
		{"find.endpoint-changed", nil, func(f *Facts, _ *Wishes) { f.WasUUID = "urn:uuid:before" }},
		{"find.behind-port", nil, func(f *Facts, _ *Wishes) { behind(f) }},
		{"find.behind-port", func(f *Facts, _ *Wishes) { behind(f); f.Seen.Ways = []Way{OnAPort, AskedTime} }, func(f *Facts, _ *Wishes) { f.Seen.Ways = []Way{OnAPort} }},
		{"find.fixed-on-port", func(f *Facts, _ *Wishes) { behind(f) }, func(f *Facts, _ *Wishes) { f.Behind.Fixed = true }},
		{"find.dead-entry", func(f *Facts, _ *Wishes) { behind(f) }, func(f *Facts, _ *Wishes) { f.Behind.Dead = "nothing came for 40 days" }},
		{"find.own-screen", func(f *Facts, w *Wishes) { w.Kind, f.Seen.Ways = Recorder, []Way{SaidHello, ShowedWeb} }, func(f *Facts, _ *Wishes) { f.Seen.Ways = []Way{ShowedWeb} }},
		{"find.own-screen", func(f *Facts, w *Wishes) { f.Seen.Ways = []Way{ShowedWeb} }, func(_ *Facts, w *Wishes) { w.Kind = Recorder }},
		{"find.first-password", nil, func(f *Facts, _ *Wishes) { f.Seen.NoPassword = true }},
		{"find.old-page", nil, func(f *Facts, _ *Wishes) { f.Seen.OldPage = "a plug-in" }},
		{"find.sources-unread", nil, func(f *Facts, _ *Wishes) { f.Unlisted = true }},
		{"find.sources-unread", nil, func(f *Facts, _ *Wishes) { f.Unlisted, f.Unread = true, "It answers nonsense." }},
	} {
		s := Sighting{Address: addr("127.40.1.11"), At: now, Ways: []Way{Multicast, Directed, AskedTime}, MAC: mac(1)}
		f := Facts{Seen: &s, LookedAt: now, Inside: true, Network: netplan.Network{}}
		w := Wishes{Known: Known{Kind: Camera, Expected: true, Address: s.Address}}
		if tc.before != nil {
			tc.before(&f, &w)
		}
		if has(f, w, tc.code) {
			t.Errorf("%s without its cause", tc.code)
		}
		if tc.cause(&f, &w); !has(f, w, tc.code) {
			t.Errorf("no %s: %+v", tc.code, Judge(now, f, w))
		}
	}
}

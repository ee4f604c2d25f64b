package stage

import (
	"strings"
	"testing"

	"duskyharbor/internal/core/finding"
)

func TestEveryStageHasItsNameAndParsesBack(t *testing.T) {
	if len(All()) != 10 {
		t.Fatalf("%d stages, want 10", len(All()))
	}
	for i, s := range All() {
		if int(s) != i+1 {
			t.Errorf("%v is number %d, want %d", s, int(s), i+1)
		}
		back, ok := Parse(s.Slug())
		if !ok || back != s {
			t.Errorf("Parse(%q) = %v, %v", s.Slug(), back, ok)
		}
		if s.Question() == "" || !strings.HasSuffix(s.Question(), "?") {
			t.Errorf("%v asks %q", s, s.Question())
		}
		for _, w := range s.Waits() {
			if w.For >= s || w.Reason == "" {
				t.Errorf("%v waits for %v (%q): only for an earlier one, with a reason", s, w.For, w.Reason)
			}
		}
	}
	if Stage(0).Slug() != "" || Stage(11).String() != "?" || Stage(11).Question() != "" {
		t.Error("a number that is no stage has a name")
	}
	if _, ok := Parse("nowhere"); ok {
		t.Error("Parse made up a stage")
	}
}

func TestDerive(t *testing.T) {
	ready := func(Stage) State { return Ready }
	notYet := func(Stage) State { return NotYet }
	block := finding.Finding{Severity: finding.Blocks, Words: "+1 h", Sentence: "One hour ahead."}
	needs := finding.Finding{Severity: finding.Needs, Words: "new", Sentence: "No first password."}
	note := finding.Finding{Severity: finding.Note, Sentence: "By the way."}
	for _, tc := range []struct {
		name   string
		s      Stage
		c      Verdict
		before func(Stage) State
		want   State
		words  string
	}{
		{"nothing read, way free", Clock, Verdict{}, ready, NotYet, ""},
		{"nothing read, way barred", Streams, Verdict{}, notYet, NotYet, ""},
		{"read and clean", Clock, Verdict{Read: true}, ready, Ready, ""},
		{"a note stops nothing", Clock, Verdict{Read: true, Findings: []finding.Finding{note}}, ready, Ready, ""},
		{"needs", SignIn, Verdict{Read: true, Findings: []finding.Finding{note, needs}}, ready, Needs, "new"},
		{"the worst wins", Clock, Verdict{Read: true, Findings: []finding.Finding{needs, block}}, ready, Blocked, "+1 h"},
		{"a finding without a reading still shows", Find, Verdict{Findings: []finding.Finding{block}}, ready, Blocked, "+1 h"},
		{"stale", Prove, Verdict{Read: true, Stale: "The route changed."}, ready, Stale, "stale"},
		{"doesn't apply", Clock, Verdict{NotHere: "RTSP alone.", Findings: []finding.Finding{block}}, ready, NotHere, ""},
		{"a person is to say something first", Channels, Verdict{Asks: "No recorder."}, ready, NotYet, ""},
		{"what waits for one that doesn't apply is free", Streams, Verdict{}, func(Stage) State { return NotHere }, NotYet, ""},
		{"not built", Recording, Verdict{Later: true, Read: true}, ready, NotYet, ""},
	} {
		got := Derive(tc.s, tc.c, tc.before)
		if got.State != tc.want || got.Words != tc.words || got.Sentence == "" {
			t.Errorf("%s: %+v, want %s %q", tc.name, got, tc.want, tc.words)
		}
	}
	if m := Derive(Streams, Verdict{}, notYet); !strings.Contains(m.Sentence, "Sign-in") {
		t.Errorf("a stage that waits doesn't say for what: %q", m.Sentence)
	}
}

// Each mark has a place of its own in a list that is worst first.
func TestWorstFirst(t *testing.T) {
	last := -1
	for _, s := range []State{Blocked, Needs, Stale, Working, NotYet, Ready, NotHere} {
		if s.Urgency() <= last {
			t.Errorf("%s is at %d", s, s.Urgency())
		}
		last = s.Urgency()
	}
	if State("").Urgency() != NotYet.Urgency() {
		t.Error("what has no mark isn't looked at yet")
	}
}

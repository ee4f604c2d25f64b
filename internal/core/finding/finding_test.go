package finding

import (
	"testing"
	"time"
)

func TestSettleSendsOnlyWhatStillReadsFrom(t *testing.T) {
	c := Change{From: "WET0", To: "WET0WEST,M3.5.0/1,M10.5.0"}
	for _, tc := range []struct {
		reads string
		want  Settlement
	}{
		{"WET0", Send},
		{"WET0WEST,M3.5.0/1,M10.5.0", Verified},
		{"CET-1CEST,M3.5.0,M10.5.0/3", Ask},
		{"", Ask},
	} {
		if got := Settle(c, tc.reads); got != tc.want {
			t.Errorf("Settle(reads %q) = %s, want %s", tc.reads, got, tc.want)
		}
	}
	// A change that changes nothing is verified, never sent.
	if got := Settle(Change{From: "a", To: "a"}, "a"); got != Verified {
		t.Errorf("an empty change settles as %s, want verified", got)
	}
}

func TestWorstAndSort(t *testing.T) {
	if _, ok := Worst(nil); ok {
		t.Error("Worst of nothing found something")
	}
	all := []Finding{{Code: "a"}, {Code: "b", Severity: Blocks}, {Code: "c", Severity: Needs}, {Code: "d", Severity: Blocks}}
	if w, _ := Worst(all); w.Code != "b" {
		t.Errorf("Worst = %s, want b", w.Code)
	}
	Sort(all)
	got := ""
	for _, f := range all {
		got += f.Code
	}
	if got != "bdca" {
		t.Errorf("Sort gives %s, want bdca", got)
	}
}

func TestSeverityWordsRoundTrip(t *testing.T) {
	for _, s := range []Severity{Note, Needs, Blocks} {
		if ParseSeverity(s.String()) != s {
			t.Errorf("%v doesn't round-trip", s)
		}
	}
}

func TestAcceptedFindingsBecomeNotesThatSaySo(t *testing.T) {
	all := []Finding{{Code: "a", Severity: Blocks, Sentence: "It is so."},
		{Code: "b", Severity: Needs, Sentence: "And so."}, {Code: "c", Sentence: "By the way."}}
	at := time.Date(2026, 11, 24, 3, 4, 0, 0, time.UTC)
	got := Accept(all, map[string]Acceptance{"a": {"Maren Ostby", at}, "c": {"Maren Ostby", at}, "z": {"Anselm Reis", at}})
	if len(got) != 3 || got[0].Code != "b" || got[0].Accepted {
		t.Fatalf("%+v", got)
	}
	for _, f := range got[1:] {
		if f.Code == "a" && (f.Severity != Note || !f.Accepted || f.Sentence != "It is so. Accepted by Maren Ostby, 2026-11-24 03:04 UTC.") || f.Code == "c" && f.Accepted {
			t.Errorf("%+v", f)
		}
	}
}

package access

import (
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
)

// What opened a device before isn't known to open it once the device is locked, or didn't answer.
func TestAnAccountIsKnownNowOrNot(t *testing.T) {
	opened := Facts{LookedAt: now, Account: &Account{SetID: 1, Set: "House", Username: "otter", Scheme: Digest, Level: Administrator, RTSP: SameAccount}}
	for name, x := range map[string]struct {
		change func(*Facts)
		code   string // empty: nothing is wrong
	}{
		"opens":             {func(*Facts) {}, ""},
		"locked":            {func(f *Facts) { f.LockedTo = now.Add(time.Minute) }, "access.locked"},
		"the lock is over":  {func(f *Facts) { f.LockedTo = now }, ""},
		"silent":            {func(f *Facts) { f.Trouble = "It doesn't answer." }, "access.trouble"},
		"locked and silent": {func(f *Facts) { f.Trouble, f.LockedTo = "It is locked.", now.Add(time.Hour) }, "access.locked"},
		"other certificate": {func(f *Facts) { f.Trouble, f.Pinned, f.Shown = "x", "aaaaaaaaaa", "bbbbbbbbbb" }, "access.certificate"},
	} {
		f := opened
		x.change(&f)
		got := Judge(now, f, Wishes{})
		if x.code == "" && len(got) != 0 || x.code != "" && (len(got) != 1 || got[0].Code != x.code || got[0].Severity != finding.Blocks) {
			t.Errorf("%s: %+v, want %q", name, got, x.code)
		}
	}
}

// A recorder knocks for as long as it may be knocking, however old its table is; one that was paused
// doesn't, half an hour after it was seen to.
func TestARecorderThatKnocksLeavesNoTries(t *testing.T) {
	for _, x := range []struct {
		ago    time.Duration
		times  int
		paused bool
		want   int
	}{
		{0, 0, false, Budget}, {0, 1, false, 1}, {0, 5, false, 0}, {31 * time.Minute, 5, false, 0}, {48 * time.Hour, 5, false, 0}, {48 * time.Hour, 1, false, 1},
		{29 * time.Minute, 5, true, 0}, {Period, 5, true, Budget},
	} {
		f := Facts{LookedAt: now, AuthFailures: []AuthFailure{{Recorder: "Quay recorder", Times: x.times, Paused: x.paused, At: now.Add(-x.ago)}}}
		if left, _ := f.Left(now); left != x.want {
			t.Errorf("%d refusals, read %s ago, paused %t: %d tries left, want %d", x.times, x.ago, x.paused, left, x.want)
		}
	}
}

// Basic within HTTPS to a certificate that is trusted isn't in clear.
func TestBasicInsideHTTPSIsNotInClear(t *testing.T) {
	f := Facts{LookedAt: now, Account: &Account{Scheme: Basic, Level: Administrator, RTSP: SameAccount}}
	if got := Judge(now, f, Wishes{AllowBasic: true}); len(got) != 1 || got[0].Code != "access.clear" {
		t.Errorf("%+v", got)
	}
	f.Pinned, f.Shown = "0123456789", "0123456789"
	got := Judge(now, f, Wishes{AllowBasic: true})
	if len(got) != 1 || got[0].Code != "access.basic-pinned" || strings.Contains(got[0].Sentence+got[0].Words, "in clear") {
		t.Errorf("%+v", got)
	}
	if slices.ContainsFunc(got, func(x finding.Finding) bool { return x.Severity > finding.Note }) {
		t.Error("what was allowed needs a person")
	}
}

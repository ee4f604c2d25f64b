package access

import (
	"slices"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

// Each finding comes of one thing alone.
func TestEachFindingComesOfItsCause(t *testing.T) {
	now := moment.Now()
	closed := func() Facts { return Facts{LookedAt: now.Add(-time.Minute)} }
	open := func() Facts {
		return Facts{LookedAt: now.Add(-time.Minute), Account: &Account{Set: "House", Scheme: Digest, RTSP: SameAccount}}
	}
	for _, tc := range []struct {
		code   string
		before func() Facts
		cause  func(*Facts)
	}{
		{"access.open-stream", open, func(f *Facts) { f.Account.RTSP = NoAccountAsked }},
		{"access.open-stream", closed, func(f *Facts) { f.Open = true }},
		{"access.no-longer", closed, func(f *Facts) { f.NoLonger, f.NoLongerAt = "House", "sign-in, 14:02 UTC" }},
	} {
		has := func(f Facts) bool {
			return slices.ContainsFunc(Judge(now, f, Wishes{}), func(x finding.Finding) bool { return x.Code == tc.code })
		}
		f := tc.before()
		if has(f) {
			t.Errorf("%s without its cause", tc.code)
		}
		if tc.cause(&f); !has(f) {
			t.Errorf("no %s: %+v", tc.code, Judge(now, f, Wishes{}))
		}
	}
}

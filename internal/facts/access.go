package facts

import (
	"maps"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// ForAccess is what the rules of access are asked of a device.
func ForAccess(s *site.Snapshot, now time.Time, d store.Device) (access.Facts, access.Wishes) {
	x := site.As(s, "for access "+strconv.FormatInt(now.UnixNano(), 36), d, func() asked[access.Facts, access.Wishes] {
		f, w := forAccess(s, now, d)
		return asked[access.Facts, access.Wishes]{f, w}
	})
	return x.f, x.w
}

func forAccess(s *site.Snapshot, now time.Time, d store.Device) (access.Facts, access.Wishes) {
	asked, _ := Attempted.Of(s, d.ID)
	f := access.Facts{LookedAt: asked.At, Trouble: asked.Trouble, NoSets: asked.NoSets, NoPassword: asked.NoPassword,
		Basic: asked.Basic, LockedTo: asked.Locked, Open: asked.Open, Tries: s.Tries[d.ID], NoLonger: asked.Refused, NoLongerAt: asked.RefusedBy}
	if a, ok := Account.Of(s, d.ID); ok {
		f.Account = &a
		f.Factory, f.Former = s.Sets[a.SetID].Factory, s.Sets[a.SetID].Former
	}
	if a, ok := WebAccount.Of(s, d.ID); ok {
		f.Web = &a
	}
	if r, ok := PasswordRule.Of(s, d.ID); ok {
		f.Rule = &r
	}
	f.Users, _ = Users.Of(s, d.ID)
	f.Pinned, _ = Pin.Of(s, d.ID)
	f.Shown, _ = ShownPin.Of(s, d.ID)
	f.AuthFailures = authFailures(s, d)
	f.Doubt = identity.Doubt(ForIdentity(s, d))
	seen, _ := Seen.Of(s, d.ID)
	seen.Cert = f.Shown
	return f, access.Wishes{AllowBasic: d.AllowsBasic(seen), Writes: writes(s, now, d),
		Name: site.Once(s, "account name", 0, func() string { return accountName(s) })}
}

// accountName is what an account is called that is made on a camera of the site.
func accountName(s *site.Snapshot) string {
	return access.AccountName(access.ForCameras(slices.Collect(maps.Values(s.Sets)), s.RecorderSets()))
}

// authFailures lists the recorders that sign in with another password than the device has.
func authFailures(s *site.Snapshot, d store.Device) []access.AuthFailure {
	opened := int64(0)
	if a, ok := Account.Of(s, d.ID); ok {
		opened = a.SetID
	}
	var out []access.AuthFailure
	for _, of := range s.Views(d.ID) {
		rec, slot, ok := s.HolderOf(of)
		if !ok || slot == nil {
			continue
		}
		f, _ := ForClock(s, d)
		table, _ := site.Recorder.Of(s, rec.ID)
		out = append(out, access.AuthFailuresOf(access.Holder{Recorder: rec.Place, RecorderID: rec.ID,
			Channel: slot.Number, State: slot.State, Paused: slot.Paused, Label: slot.Label, AuthFailures: slot.AuthFailures, TableAt: table.At},
			opened, f.Camera == nil || clock.BandOf(f.Offset(), f.Window) == clock.Refused)...)
	}
	return out
}

// writes says whether something of the device's system is to be written, which takes an
// administrator.
func writes(s *site.Snapshot, now time.Time, d store.Device) bool {
	if len(ClockChanges(s, now, d)) > 0 {
		return true
	}
	f, w := ForIdentity(s, d)
	return len(identity.Propose(now, f, w, true)) > 0
}

// ClockChanges is what sets a camera's clock right. It is shared by all that ask of one snapshot, and not written.
func ClockChanges(s *site.Snapshot, now time.Time, d store.Device) []finding.Change {
	return site.As(s, "clock changes "+strconv.FormatInt(now.UnixNano(), 36), d, func() []finding.Change {
		f, w := ForClock(s, d)
		return clock.Propose(now, f, w)
	})
}

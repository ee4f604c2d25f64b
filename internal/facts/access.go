package facts

import (
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// ForAccess is what the rules of access are asked of a device.
func ForAccess(s *site.Snapshot, now time.Time, d store.Device) (access.Facts, access.Wishes) {
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
	var sets []access.Set
	for _, x := range s.Sets {
		sets = append(sets, x)
	}
	seen, _ := Seen.Of(s, d.ID)
	seen.Cert = f.Shown
	return f, access.Wishes{AllowBasic: d.AllowsBasic(seen), Writes: writes(s, now, d),
		Name: access.AccountName(access.ForCameras(sets, s.RecorderSets()))}
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
	f, w := ForClock(s, d)
	ff, fw := ForIdentity(s, d)
	return len(clock.Propose(now, f, w)) > 0 || len(identity.Propose(now, ff, fw, true)) > 0
}

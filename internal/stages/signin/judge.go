package signin

import (
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Facts is what Sign-in's rules are asked of a device.
func Facts(now time.Time, s *site.Snapshot, d store.Device) (access.Facts, access.Wishes) {
	asked, _ := site.SignInAsked.Of(s, d.ID)
	f := access.Facts{LookedAt: asked.At, Trouble: asked.Trouble, NoSets: asked.NoSets, NoPassword: asked.NoPassword,
		Basic: asked.Basic, LockedTo: asked.Locked, Tries: s.Tries[d.ID]}
	if a, ok := site.Account.Of(s, d.ID); ok {
		f.Account = &a
		f.Factory, f.Former = s.Sets[a.SetID].Factory, s.Sets[a.SetID].Former
	}
	if a, ok := site.WebAccount.Of(s, d.ID); ok {
		f.Web = &a
	}
	if r, ok := site.PasswordRule.Of(s, d.ID); ok {
		f.Rule = &r
	}
	f.Users, _ = site.Users.Of(s, d.ID)
	f.Pinned, _ = site.Pin.Of(s, d.ID)
	f.Shown, _ = site.ShownPin.Of(s, d.ID)
	f.AuthFailures = authFailures(s, d)
	var sets []access.Set
	for _, x := range s.Sets {
		sets = append(sets, x)
	}
	return f, access.Wishes{AllowBasic: d.AllowBasic, Writes: writes(now, s, d),
		Name: access.AccountName(access.ForCameras(sets, s.RecorderSets()))}
}

// authFailures lists the recorders that sign in with another password than the device has.
func authFailures(s *site.Snapshot, d store.Device) []access.AuthFailure {
	opened := int64(0)
	if a, ok := site.Account.Of(s, d.ID); ok {
		opened = a.SetID
	}
	var out []access.AuthFailure
	for _, of := range s.Views(d.ID) {
		rec, slot, ok := s.HolderOf(of)
		if !ok || slot == nil {
			continue
		}
		f, _ := s.Clock(d)
		table, _ := site.Recorder.Of(s, rec.ID)
		out = append(out, access.AuthFailuresOf(access.Holder{Recorder: rec.Place, RecorderID: rec.ID,
			Channel: slot.Number, State: slot.State, Paused: slot.Paused, Label: slot.Label, AuthFailures: slot.AuthFailures, TableAt: table.At},
			opened, f.Camera == nil || clock.BandOf(f.Offset(), f.Window) == clock.Refused)...)
	}
	return out
}

// writes says whether something of the device's system is to be written, which takes an
// administrator.
func writes(now time.Time, s *site.Snapshot, d store.Device) bool {
	f, w := s.Clock(d)
	ff, fw := s.Find(d)
	return len(clock.Propose(now, f, w)) > 0 || len(identity.Propose(now, ff, fw, true)) > 0
}

// Judge says which account opens a device.
func (g *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	d := of.Device
	f, w := Facts(now, s, d)
	found, _ := s.Find(d)
	return stage.Verdict{Read: f.Read(), Findings: access.Judge(now, f, w), Done: "An account opens it.",
		NotHere: found.OnlyBehind(), ValidUntil: f.ValidUntil(now)}
}

// Propose lists first passwords, accounts and passwords that put a device right.
func (g *Stage) Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	f, w := Facts(now, s, of.Device)
	return access.Propose(now, f, w)
}

// dependants lists the recorders' channels that sign in to a camera.
func dependants(s *site.Snapshot, d store.Device) []access.Dependant {
	if d.Address == nil {
		return nil
	}
	var out []access.Dependant
	for _, r := range s.Recorders() {
		table, ok := site.Recorder.Of(s, r.ID)
		if !ok {
			continue
		}
		for _, x := range channel.SlotsOf(table, d.Address.String()) {
			out = append(out, access.Dependant{Recorder: r.ID, Name: r.Place, Channel: x.Number,
				Receiving: x.State == "receiving", Paused: x.Paused, Label: x.Label})
		}
	}
	return out
}

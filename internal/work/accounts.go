package work

import (
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/store"
)

// knocks lists the recorders that the device refuses though their clock agrees with
// its own: they hold another password. So do those that were paused with one.
func (v *View) knocks(d store.Device) []access.Knock {
	rec, slot, ok := v.HolderOf(d)
	if ok && slot != nil && slot.Paused && slot.Label != "" {
		account, open := v.Account(d.ID)
		if !open || slot.Label == access.Label(account.SetID) {
			return nil
		}
		status, _ := v.Recorder(rec.ID)
		return []access.Knock{{Recorder: rec.Place, RecorderID: rec.ID, Channel: slot.Number, Times: slot.Knocks, At: status.At, Label: slot.Label, Paused: true}}
	}
	if !ok || slot == nil || slot.State != "refused" || slot.Knocks == 0 {
		return nil
	}
	if f, _ := v.Clock(d); f.Camera == nil || clock.BandOf(f.Offset(), f.Window) == clock.Refused {
		return nil // it is the clock
	}
	status, _ := v.Recorder(rec.ID)
	return []access.Knock{{Recorder: rec.Place, RecorderID: rec.ID, Channel: slot.Number, Times: slot.Knocks, At: status.At, Label: slot.Label}}
}

// shownWindow is the sign-in window that a camera has shown to the recorder that
// holds it.
func (v *View) shownWindow(d store.Device, f clock.Facts, slot *channel.Slot) time.Duration {
	account, open := v.Account(d.ID)
	if f.Camera == nil || !open {
		return 0
	}
	l, _ := fact[Looked](v, d.ID, factTried)
	since := slot.Since.Add(-f.Reference.Offset.Mid())
	return clock.ShownWindow(f.Offset(), f.Camera.At, clock.Tried{Since: since, Receives: slot.State == "receiving",
		Refused: slot.State == "refused" && slot.Label == access.Label(account.SetID) && !l.Locked.After(since)})
}

// writes says whether something of the device's system is to be written.
func (v *View) writes(d store.Device) bool {
	if w, known := v.toWrite[d.ID]; known {
		return w
	}
	f, w := v.Clock(d)
	ff, fw := v.Find(d)
	v.toWrite[d.ID] = len(clock.Propose(time.Now(), f, w)) > 0 || len(identity.Propose(time.Now(), ff, fw, true)) > 0
	return v.toWrite[d.ID]
}

// accountName is what an account is called that is made on a device: as the site's
// first set is.
func (v *View) accountName() string {
	if v.named != "" {
		return v.named
	}
	best := access.Set{}
	recorders := map[int64]bool{}
	for _, r := range v.Recorders() {
		if r.SetID != nil {
			recorders[*r.SetID] = true
		}
	}
	for id, s := range v.Sets {
		if s.Device == 0 && !s.Factory && !s.Former && !recorders[id] && (best.ID == 0 || id < best.ID) {
			best = s
		}
	}
	if v.named = best.Username; v.named == "" {
		v.named = "harbour"
	}
	return v.named
}

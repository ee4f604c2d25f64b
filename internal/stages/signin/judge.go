package signin

import (
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Judge says which account opens a device.
func (g *Stage) Judge(now time.Time, s *site.Snapshot, of site.Source) stage.Verdict {
	d := of.Device
	f, w := facts.ForAccess(s, now, d)
	found, _ := facts.ForIdentity(s, d)
	return stage.Verdict{Read: f.Read(), Findings: access.Judge(now, f, w), Done: "An account opens it.",
		NotHere: found.OnlyBehind(), ValidUntil: f.ValidUntil(now)}
}

// Propose lists first passwords, accounts and passwords that put a device right.
func (g *Stage) Propose(now time.Time, s *site.Snapshot, of site.Source) []finding.Change {
	f, w := facts.ForAccess(s, now, of.Device)
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
				Receiving: x.State == "receiving", Paused: x.Paused, Label: x.Label,
				ByHand: table.Lacks(channel.ActAccount)})
		}
	}
	return out
}

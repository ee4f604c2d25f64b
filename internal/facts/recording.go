package facts

import (
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
)

// ForRecording is what the rules of recording are asked of a view.
func ForRecording(s *site.Snapshot, of site.Source) (recording.Facts, recording.Wishes) {
	w := recording.Wishes{Term: Term(s)}
	if of.PlanID != nil {
		if p, ok := s.Plans[*of.PlanID]; ok {
			w.Name, w.Plan = p.Name, p.Plan
		}
	}
	rec, slot, ok := s.HolderOf(of)
	if !ok {
		return recording.Facts{}, w
	}
	f := recording.Facts{Recorder: rec.Place}
	r, known := site.Recorder.Of(s, rec.ID)
	if !known || slot == nil {
		return f, w
	}
	f.Channel, f.At, f.Way, f.Slot, f.Storage, f.ByPlan = slot.Number, r.At, channel.WayName(slot.Way), &slot.Recording, r.Storage, r.ByPlan
	f.State, f.Detail, f.Trouble = slot.State, slot.Detail, s.RecorderTrouble(rec.ID)
	if r.Lacks(channel.ActPlan) {
		f.Own = r.Speech.Says()
	}
	if in, ok := Inputs.Of(s, of); ok {
		f.Pegged = len(in.Pegs)
	}
	f.Sum = SumOf(s, rec.ID, r)
	return f, w
}

// Term is for how many days the site keeps.
func Term(s *site.Snapshot) recording.Term {
	return recording.Term{Least: s.Site.LeastDays, Most: s.Site.MostDays}
}

// Assume is how often something is taken to happen where nobody counted, 0 to 1.
func Assume(s *site.Snapshot) float64 { return float64(s.Site.ActivePercent) / 100 }

// SumOf sums what a recorder's channels make as they are set now; it is reckoned once a snapshot.
func SumOf(s *site.Snapshot, id int64, r channel.Recorder) recording.Sum {
	return site.Once(s, "recording.sum", id, func() recording.Sum { return recording.SumOf(r.Storage, r.Recordings(), Assume(s)) })
}

// Holds finds the view that a slot holds, with its device's profiles; the zero Source where it is none of
// the snapshot's.
func Holds(s *site.Snapshot, slot channel.Slot) (of site.Source, profiles []stream.Profile) {
	for _, x := range s.Sources {
		if x.Device.Address == nil || x.Device.Address.String() != slot.Address {
			continue
		}
		profiles, _ = site.Profiles.Of(s, x.Device.ID)
		own, others := s.ProfilesOf(x)
		view := channel.SourceProfiles{Address: slot.Address, First: x.First()}
		for _, p := range own {
			view.Own = append(view.Own, p.Token)
		}
		for _, p := range others {
			view.Others = append(view.Others, p.Token)
		}
		if view.Shows(slot) {
			return x, profiles
		}
	}
	return of, profiles
}

// ViewRates are the rates of a view's streams as they were measured from here, by day or by night in a
// zone.
func ViewRates(s *site.Snapshot, of site.Source, zone *time.Location) (out recording.Rates) {
	if of.ID == 0 {
		return out
	}
	sf, sw := ForStreams(s, of)
	record, view := stream.Roles(sf.Profiles, sw.Codecs)
	for _, m := range sf.Measured {
		if m.Trouble != "" || m.MeanKbps <= 0 {
			continue
		}
		at, to := m.At.In(zone), &out.Day
		if recording.IsNight(at.Hour()*2 + at.Minute()/30) {
			to = &out.Night
		}
		switch m.Profile {
		case record:
			to.Record = m.MeanKbps
		case view:
			to.View = m.MeanKbps
		}
	}
	return out
}

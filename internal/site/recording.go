package site

import (
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stream"
)

// Recording is what Recording's rules are asked of a view.
func (s *Snapshot) Recording(of Source) (recording.Facts, recording.Wishes) {
	w := recording.Wishes{Term: s.Term()}
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
	r, known := Recorder.Of(s, rec.ID)
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
	f.Sum = s.SumOf(rec.ID, r)
	return f, w
}

// Term is for how many days the site keeps.
func (s *Snapshot) Term() recording.Term {
	return recording.Term{Least: s.Site.KeepLeast, Most: s.Site.KeepMost}
}

// Assume is how often something is taken to happen where nobody counted, 0 to 1.
func (s *Snapshot) Assume() float64 { return float64(s.Site.ActivePercent) / 100 }

// SumOf sums what a recorder's channels make as they are set now; it is reckoned once a snapshot.
func (s *Snapshot) SumOf(id int64, r channel.Recorder) recording.Sum {
	if sum, ok := s.sums[id]; ok {
		return sum
	}
	sum := recording.SumOf(r.Storage, r.Recordings(), s.Assume())
	if s.sums == nil {
		s.sums = map[int64]recording.Sum{}
	}
	s.sums[id] = sum
	return sum
}

// ViewRate is the rate of a view's streams as they were measured from here: what stands in where a
// recorder doesn't pull one.
func (s *Snapshot) ViewRate(of Source) recording.Rate {
	sf, sw := s.Streams(of)
	record, view := stream.Roles(sf.Profiles, sw.Codecs)
	var out recording.Rate
	for _, x := range []struct {
		token string
		to    *float64
	}{{record, &out.Record}, {view, &out.View}} {
		for _, m := range sf.Measured {
			if m.Profile == x.token && x.token != "" && m.Trouble == "" {
				*x.to = m.MeanKbps
			}
		}
	}
	return out
}

package facts

import (
	"slices"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/site"
)

// ForRules is what the rules about a view's analytics are asked, and what was drawn for it.
func ForRules(s *site.Snapshot, of site.Source) (rule.Facts, []rule.Drawn) {
	asked, _ := RulesRead.Of(s, of)
	f := rule.Facts{LookedAt: asked.At, Trouble: asked.Trouble, Turned: of.Turned}
	if e, ok := RuleSet.Of(s, of); ok {
		f.Token, f.Supported, f.Configs = e.Token, e.Supported, inPicture(e.Configs, of.Turned)
		f.Supported.Grid = of.Turned.Grid(f.Supported.Grid)
	}
	f.Held, _ = Held.Of(s, of)
	if sits, known := Sits.Of(s, of); known {
		f.Sits, f.SatAt = &sits, Sits.ReadAt(s, of)
	}
	passed := false
	for _, other := range s.Views(of.Device.ID) {
		passed = passed || other.ID == of.ID
		if e, ok := RuleSet.Of(s, other); ok && other.ID != of.ID && e.Token != f.Token && len(e.Configs) > 0 && !f.Second {
			f.Twin, f.TwinHas, f.Second = other.Place, inPicture(e.Configs, other.Turned), !passed
		}
	}
	if of.Paired != nil {
		return f, s.Drawn[of.ID] // its events come from an analyser: the recorder's way in to the camera has no say in them
	}
	if rec, slot, _ := s.HolderOf(of); slot != nil {
		f.Recorder = rec.Place
		if r, ok := site.Recorder.Of(s, rec.ID); ok {
			i := slices.IndexFunc(r.Limits.Ways, func(w channel.Way) bool { return w.Name == slot.Way })
			if plan := slot.Recording.Plan; plan != nil {
				kept, _ := ForRecording(s, of)
				f.Deaf = kept.Deaf(*plan)
			}
			f.Drops = i >= 0 && !slices.Contains(r.Limits.Ways[i].Passes, channel.PassEvents)
		}
	}
	return f, s.Drawn[of.ID]
}

// inPicture are rules of analytics in the picture, on which they lie turned.
func inPicture(all []rule.Config, t scene.Turned) []rule.Config {
	if t == 0 {
		return all
	}
	out := make([]rule.Config, len(all))
	for i, c := range all {
		out[i] = c.FromTurned(t)
	}
	return out
}

package facts

import (
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/site"
)

// ForRoutes is what the rules of route are asked of a view.
func ForRoutes(s *site.Snapshot, of site.Source) route.Facts {
	asked, _ := RoutesRead.Of(s, of)
	f := route.Facts{LookedAt: asked.At, Trouble: asked.Trouble}
	f.Topics, _ = Topics.Of(s, of.Device.ID)
	if in, ok := Inputs.Of(s, of); ok {
		f.Inputs, f.Pegs, f.Events = in.Names, in.Pegs, in.Events
	}
	if rec, slot, ok := s.HolderOf(of); ok {
		f.Recorder = rec.Place
		if slot != nil {
			f.Channel = slot.Number
			f.Events = route.Hears(f, slot.Events)
			f.Motion = slot.Recording.Plan != nil && slot.Recording.Plan.WaitsFor(recording.Motion)
		}
	}
	return f
}

// EventsOf is a view as its device's events name it.
func EventsOf(s *site.Snapshot, of site.Source) topic.SourceTokens {
	own, others := s.ProfilesOf(of)
	return topic.SourceTokens{Own: stream.SourceTokens(own), Others: stream.SourceTokens(others)}
}

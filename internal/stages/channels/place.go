package channels

import (
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
)

// Assign proposes where the views of a site that no recorder holds go, over all recorders that were
// read, as they are planned and locked. Those whose streams aren't known yet are told in unread.
func Assign(s *site.Snapshot) (all []channel.Placing, bins []channel.Bin, a channel.Assignment, unread []site.Source) {
	for _, rec := range s.Recorders() {
		if r, known := site.Recorder.Of(s, rec.ID); known && s.RecorderTrouble(rec.ID) == "" {
			bins = append(bins, channel.Bin{ID: rec.ID, Recorder: r})
		}
	}
	for _, of := range s.Sources {
		if _, slot, ok := s.HolderOf(of); ok && slot != nil {
			continue
		}
		p, known := placingOf(s, of, bins)
		if !known {
			unread = append(unread, of)
			continue
		}
		all = append(all, p)
	}
	return all, bins, channel.Assign(all, bins), unread
}

// placingOf is a view as it is to be placed, with how each recorder takes it; known is false where its
// streams weren't read.
func placingOf(s *site.Snapshot, of site.Source, bins []channel.Bin) (p channel.Placing, known bool) {
	sf, _ := s.Streams(of)
	if sf.Trouble != "" || len(sf.Profiles) == 0 {
		return p, false
	}
	p = channel.Placing{ID: of.ID, Name: of.Place, Locked: of.Locked, Together: of.Together, Fits: map[int64]channel.Fit{}}
	if of.RecorderID != nil {
		p.Wish = *of.RecorderID
	}
	camera := cameraOf(s, of)
	for _, b := range bins {
		record, _ := stream.Roles(sf.Profiles, b.Recorder.Limits.Codecs)
		f, ok := channel.Fit{}, false
		var profile stream.Profile
		if record != "" {
			profile, _, ok = sf.Find(record)
		}
		switch choice := b.Recorder.Choose(camera); {
		case !ok:
			f.Refused = "none of its streams is one that it takes"
		case choice.Refused != "":
			f.Refused = choice.Refused
		default:
			f.Way, f.Losses = choice.Way, len(choice.Lost)
			p.Kbps = max(p.Kbps, profile.Kbps)
			p.Megapixels = max(p.Megapixels, float64(profile.Width*profile.Height)/1e6)
		}
		p.Fits[b.ID] = f
	}
	return p, true
}

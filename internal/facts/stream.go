package facts

import (
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
)

// ForStreams is what the rules of stream are asked of a view.
func ForStreams(s *site.Snapshot, of site.Source) (stream.Facts, stream.Wishes) {
	x := site.OfSource(s, "for streams", of, func() asked[stream.Facts, stream.Wishes] {
		f, w := forStreams(s, of)
		return asked[stream.Facts, stream.Wishes]{f, w}
	})
	return x.f, x.w
}

func forStreams(s *site.Snapshot, of site.Source) (stream.Facts, stream.Wishes) {
	asked, _ := StreamsRead.Of(s, of)
	f := stream.Facts{LookedAt: asked.At, Trouble: asked.Trouble}
	own, others := s.ProfilesOf(of)
	f.Profiles, f.Elsewhere = own, len(others)
	f.Measured, _ = Measured.Of(s, of)
	f.Touched, _ = Touched.Of(s, of.Device.ID)
	f.Took, _ = Took.Of(s, of)
	if of.Device.Address != nil {
		f.At = *of.Device.Address
	}
	if seen, ok := Seen.Of(s, of.Device.ID); ok && len(of.Device.Paths) == 0 {
		_, opened := Account.Of(s, of.Device.ID)
		f.Unnamed = opened && seen.RTSPAlone()
	}
	if seen, ok := Still.Of(s, of); ok {
		f.Still = &seen
	}
	w := stream.Wishes{Encrypt: s.Site.Encrypt, Consent: of.Consent.Given(), Accepted: of.Accepted, Settings: s.Settings[of.ID], Uses: of.Uses}
	rec, slot, planned := s.HolderOf(of)
	if planned {
		w.Recorder, w.Held = rec.Place, slot != nil
		if r, ok := site.Recorder.Of(s, rec.ID); ok {
			w.Codecs, w.Talkback = r.Limits.Codecs, r.Limits.Talkback
		}
	}
	for _, other := range s.Recorders() {
		if r, ok := site.Recorder.Of(s, other.ID); ok && planned && other.ID != rec.ID && other.Cascade == nil && stream.Takes(own, r.Limits.Codecs) {
			w.OtherRecorders = append(w.OtherRecorders, other.Place)
		}
	}
	return f, w
}

// ForPicture is what the rules about a view's picture are asked: nil where it wasn't read.
func ForPicture(s *site.Snapshot, of site.Source) (*picture.Setup, picture.Wishes) {
	w := picture.Wishes{Place: of.Place}
	if rec, _, planned := s.HolderOf(of); planned {
		w.Recorder = rec.Place
		if r, ok := site.Recorder.Of(s, rec.ID); ok {
			w.Burns, w.Dates, w.Times = r.Burns, r.Dates, r.Times
		}
	}
	if tried, ok := TriedPTZ.Of(s, of); ok {
		w.Tried = &tried
	}
	setup, ok := Setup.Of(s, of)
	if !ok {
		return nil, w
	}
	return &setup, w
}

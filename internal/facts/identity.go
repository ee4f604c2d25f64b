package facts

import (
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// asked is what rules are asked, facts and wishes. It is shared by all that ask of one snapshot, and not written.
type asked[F, W any] struct {
	f F
	w W
}

// ForIdentity is what the rules of identity are asked of a device.
func ForIdentity(s *site.Snapshot, d store.Device) (identity.Facts, identity.Wishes) {
	x := site.As(s, "for identity", d, func() asked[identity.Facts, identity.Wishes] {
		f, w := forIdentity(s, d)
		return asked[identity.Facts, identity.Wishes]{f, w}
	})
	return x.f, x.w
}

func forIdentity(s *site.Snapshot, d store.Device) (identity.Facts, identity.Wishes) {
	asked, _ := Scanned.Of(s, d.ID)
	f := identity.Facts{LookedAt: asked.At, Tried: asked.Tried, Outcome: asked.Outcome, WasUUID: asked.WasUUID,
		Elsewhere: asked.Elsewhere, Claims: asked.Claims, MovedFrom: asked.MovedFrom}
	w := identity.Wishes{Known: d.Known(), Account: d.SetID != nil}
	w.Pin, _ = Pin.Of(s, d.ID)
	if d.Ours != nil {
		w.Ours = *d.Ours
	}
	if d.ExpectedAt != nil {
		w.Address = *d.ExpectedAt
	}
	seen, ok := Seen.Of(s, d.ID)
	if !ok {
		return f, w
	}
	if a, ok := Account.Of(s, d.ID); ok {
		seen = seen.Since(a.At)
	}
	f.Seen = &seen
	if n, in := netplan.Of(s.Networks(), seen.Address); in {
		f.Inside, f.Network, f.Networks = true, n, s.Networks()
	}
	if c, ok := IPConfig.Of(s, d.ID); ok {
		f.IPConfig = &c
	}
	if c, ok := DNS.Of(s, d.ID); ok {
		f.DNS = &c
	}
	f.Hidden, _ = Hidden.Of(s, d.ID)
	if b, behind := s.Behind(seen.Address); behind {
		f.Behind = &b
	}
	if info, ok := Info.Of(s, d.ID); ok {
		f.Firmware, f.Info = info.Firmware, &info
	}
	views, listed := VideoSources.Of(s, d.ID)
	if a, open := Account.Of(s, d.ID); open && a.Scheme != access.RTSP && !listed && d.Kind == identity.Camera && seen.Service != "" {
		asked, _ := Attempted.Of(s, d.ID)
		f.Unlisted, f.Unread = true, asked.Unread
	}
	for _, x := range views {
		f.Sources = append(f.Sources, x.Name)
	}
	f.Chosen = d.Views
	var inputs []int
	for _, of := range s.Views(d.ID) {
		inputs = append(inputs, of.Input)
	}
	f.NoInputs = identity.Lacking(inputs, len(views))
	w.Least = identity.LeastFor(s.Least, d.Make, d.Model)
	f.Taken = s.Taken(d.ID)
	if n, in := netplan.Of(s.Networks(), w.Address); in && w.Expected {
		w.MoveTo = identity.MoveTo(f, w.Address, n)
	}
	return f, w
}

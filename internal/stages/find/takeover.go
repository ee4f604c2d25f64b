package find

import (
	"context"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// TakeOver gives a place on the list to the device that answers in its stead: to
// another that was found, or, where newcomer is 0, to the one that answers at the
// place's own address.
func TakeOver(ctx context.Context, st *store.Store, place store.Device, newcomer int64) error {
	who := place.ID
	if newcomer != 0 {
		who = newcomer
	}
	s, err := site.Load(ctx, st, place.SiteID, []int64{place.ID, who})
	if err != nil {
		return err
	}
	seen, heard := facts.Seen.Of(s, who)
	kept, _ := facts.ForIdentity(s, place)
	var other *identity.Known
	if newcomer != 0 {
		d, _ := s.Device(newcomer)
		k := d.Known()
		other = &k
	}
	if why := identity.MayTakeOver(place.Known(), other, heard, kept.Outcome); why != "" {
		return trouble.UserError(why)
	}
	if err := st.Replace(ctx, place.ID, newcomer, seen); err != nil {
		return err
	}
	if newcomer == 0 { // who answers is who is known from now on
		now := seen.At
		if err := st.KeepFacts(ctx, facts.Seen.New(place.ID, seen.WaysText(), now, seen),
			facts.Scanned.New(place.ID, "look", now, identity.Scan{At: now, Outcome: identity.Matched})); err != nil {
			return err
		}
	}
	return nil
}

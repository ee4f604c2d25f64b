package work

import (
	"context"
	"time"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/store"
)

// Trust takes a certificate that a device shows for its own from now on.
func (o *Office) Trust(ctx context.Context, d store.Device, fingerprint string) error {
	return o.store.KeepFact(ctx, d.ID, factTLS, "a person trusted it", time.Now().UTC(), fingerprint)
}

// TakeOver gives a place on the list to the device that answers in its stead: to
// another that was found, or, where newcomer is 0, to the one that answers at the
// place's own address.
func (o *Office) TakeOver(ctx context.Context, place store.Device, newcomer int64) error {
	who := place.ID
	if newcomer != 0 {
		who = newcomer
	}
	v, err := Look(ctx, o.store, place.SiteID, []int64{place.ID, who})
	if err != nil {
		return err
	}
	d, ok := v.Device(who)
	seen, heard := v.Seen(who)
	if !ok || !heard || d.Kind != identity.Camera || place.Kind != identity.Camera {
		return toldError("Nothing answers that could take the place of " + place.Place + ": look again.")
	}
	if newcomer != 0 && d.Expected {
		return toldError(d.Place + " is on the list itself.")
	}
	if newcomer == 0 {
		f, _ := v.Find(place)
		if f.Outcome != identity.Doubtful {
			return toldError("The device that answers at " + place.Place + " is the one that is known there.")
		}
	}
	if err := o.store.Replace(ctx, place.ID, newcomer, seen); err != nil {
		return err
	}
	if newcomer == 0 { // who answers is who is known from now on
		now := seen.At
		if err := o.store.KeepFacts(ctx, store.NewFact{Device: place.ID, Name: factSeen, Via: seen.WaysText(), At: now, Value: seen},
			store.NewFact{Device: place.ID, Name: factLooked, Via: "look", At: now, Value: Looked{At: now, Outcome: identity.Matched}}); err != nil {
			return err
		}
	}
	return o.judge(ctx, place.SiteID, []int64{place.ID})
}

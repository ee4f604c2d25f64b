package account

import (
	"context"
	"errors"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/store"
)

// Budget is what of a device's wrong tries is left to somebody who signs in to it.
type Budget struct {
	Keeper  *Keeper
	Device  store.Device
	Facts   access.Facts   // with the tries as they were when the device was looked up
	Counted *store.Counted // those tries; nil: they are counted again
	Until   time.Time      // from when on a try is allowed again, once Begin refused one
}

// Begin writes a try of a set down before it is sent, and opens its password; ok is
// false where the budget forbids it: then nothing may be sent.
func (b *Budget) Begin(ctx context.Context, set store.SealedSet, scheme access.Scheme) (id int64, password string, ok bool, err error) {
	if password, err = b.Keeper.Password(set); err != nil {
		return 0, "", false, err
	}
	f := b.Facts
	counted := b.Counted
	b.Counted = nil
	id, ok, err = b.Keeper.Store.BeginTry(ctx, b.Device.ID, set.ID, set.Name, scheme, counted, func(tries []access.Try) bool {
		f.Tries = tries
		left, until := f.Left(time.Now())
		b.Until = until
		return left > 0
	})
	return id, password, ok, err
}

// End writes a try's outcome: err is what the device answered. What is no verdict on the
// password is returned.
func (b *Budget) End(ctx context.Context, id int64, err error) error {
	// Also where the step was cut short meanwhile: a try without an outcome counts as wrong.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	st := b.Keeper.Store
	switch {
	case err == nil:
		return st.EndTry(ctx, id, access.Opened, "")
	case errors.Is(err, dial.ErrNotAuthorised):
		return st.EndTry(ctx, id, access.Wrong, err.Error())
	case errors.Is(err, dial.ErrLocked):
		return errors.Join(st.EndTry(ctx, id, access.Locked, err.Error()), err)
	}
	return errors.Join(st.EndTry(ctx, id, access.Hindered, err.Error()), err)
}

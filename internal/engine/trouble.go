package engine

import (
	"context"
	"duskyharbor/internal/store"
	"duskyharbor/internal/store/coalesce"
	"errors"

	"github.com/jackc/pgx/v5/pgconn"

	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
)

// Ours says whether an error is this product's own, not a device's and no sentence for
// the person: it is tried again, and never told as the device's. A database that kept us
// waiting until our own time limit is ours.
func Ours(err error) bool {
	var de *dial.Error
	var left leftError
	var asks asksError
	return err != nil && !errors.As(err, &de) && !trouble.IsUserError(err) && !errors.As(err, &left) && !errors.As(err,
		&asks) && !errors.As(err, new(PendingError))
}

// overLimit words a step that was cut off by its time limit while it waited for its
// device: trouble of the database keeps its own words.
func overLimit(ctx context.Context, err error) error {
	if !errors.Is(err, context.DeadlineExceeded) || !errors.Is(ctx.Err(), context.DeadlineExceeded) || pgconn.Timeout(err) || !Ours(err) ||
		errors.As(err, new(coalesce.WaitError)) || store.Stalled(ctx) {
		return err
	}
	return trouble.UserError("It wasn't done in time: the device answers too slowly. Try it again by itself.")
}

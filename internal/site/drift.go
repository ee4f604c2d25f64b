package site

import (
	"context"
	"encoding/json"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/store"
)

// driftReadings is over how many readings a drift is fitted at most.
const driftReadings = 48

// FitDrift fits a device's clock that runs by itself over its earlier readings and r.
func FitDrift(ctx context.Context, st *store.Store, device int64, r *clock.Reading) error {
	past, err := st.History(ctx, device, fact.Clock, driftReadings)
	if err != nil {
		return err
	}
	earlier, err := ClockReadings(past)
	if err != nil {
		return err
	}
	if fit, ok := clock.FitDrift(clock.Points(*r, earlier)); ok {
		r.Drift = &fit
	}
	return nil
}

// ClockReadings decodes a clock's history, in its order.
func ClockReadings(past []store.Fact) ([]clock.Reading, error) {
	out := make([]clock.Reading, len(past))
	for i, f := range past {
		if err := json.Unmarshal(f.Value, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

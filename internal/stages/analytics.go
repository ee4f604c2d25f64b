package stages

import (
	"context"
	"errors"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
)

// AnalyticsOf is the analytics configuration that the profiles of a view name; they are
// read where they weren't yet.
func AnalyticsOf(ctx context.Context, c *onvif.Client, profiles []stream.Profile, video string,
	services map[string]string) (string, error) {
	if len(profiles) == 0 {
		var err error
		if profiles, err = c.Profiles(ctx, services); err != nil && !errors.Is(err, dial.ErrNotSupported) {
			return "", err
		}
	}
	own, _ := stream.OfSource(profiles, video)
	for _, p := range own {
		if p.Analytics != "" {
			return p.Analytics, nil
		}
	}
	return "", nil
}

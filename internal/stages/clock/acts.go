package clock

import (
	"context"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/stage"
)

// Acts of the stage.
func (k *Stage) Acts() []act.Any {
	return []act.Any{act.Act[act.Camera]{Name: "clock/watch", About: "read a clock every few seconds for a while", Stage: stage.Clock, Runs: true, Keep: k.watch}}
}

func (k *Stage) watch(ctx context.Context, c *act.Call, x act.Camera) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	until, err := k.Watch(ctx, of, WatchEvery, WatchMost)
	if err != nil {
		return act.Kept{}, err
	}
	zone, err := time.LoadLocation(c.Site.Zone)
	if err != nil {
		zone = time.UTC
	}
	return act.Kept{Says: of.Place + "'s clock is read every few seconds until " + until.In(zone).Format("15:04:05") + ".", Did: "had a clock watched", Detail: of.Place}, nil
}

package clock

import (
	"context"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/stage"
)

// Acts of the stage.
func (k *Stage) Acts() []act.Any {
	return []act.Any{act.Act[Watched]{Name: "clock/watch", About: "read a clock every few seconds for a while", Stage: stage.Clock, Runs: true, More: k.watch, Keep: tellWatched}}
}

// Watched is a camera whose clock is watched.
type Watched struct {
	act.Camera
	place string
	until time.Time
}

// watch begins it: what it keeps and queues is the stage's own, and no act's transaction waits for it.
func (k *Stage) watch(ctx context.Context, c *act.Call, x *Watched) error {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return err
	}
	x.place = of.Place
	x.until, err = k.Watch(ctx, of, WatchEvery, WatchMost)
	return err
}

func tellWatched(_ context.Context, c *act.Call, x Watched) (act.Kept, error) {
	zone, err := time.LoadLocation(c.Site.Zone)
	if err != nil {
		zone = time.UTC
	}
	return act.Kept{Says: x.place + "'s clock is read every few seconds until " + x.until.In(zone).Format("15:04:05") + ".", Did: "had a clock watched", Detail: x.place}, nil
}

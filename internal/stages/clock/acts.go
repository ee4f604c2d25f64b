package clock

import (
	"context"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Acts of the stage.
func (k *Stage) Acts() []act.Any {
	return []act.Any{
		act.Act[Watched]{Name: "clock/watch", About: "read a clock every few seconds for a while", Stage: stage.Clock, Runs: true, More: k.watch, Keep: tellWatched},
		act.Act[stages.Device]{Name: "clock/restart", About: "restart a device, and see whether it keeps its time", Stage: stage.Clock, Plan: planRestart},
		act.Act[Following]{Name: "clock/follow", About: "have clocks follow the site's wish: zone and daylight rule, and where they take their time from", Stage: stage.Clock, Plan: planFollow},
		act.Act[stages.Device]{Name: "clock/recorder", About: "set a recorder's clock", Stage: stage.Clock, Plan: k.planRecorder},
	}
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
	x.until, err = k.Watch(ctx, of, watchEvery, watchMost)
	return err
}

func tellWatched(_ context.Context, c *act.Call, x Watched) (act.Kept, error) {
	zone, err := time.LoadLocation(c.Site.Zone)
	if err != nil {
		zone = time.UTC
	}
	return act.Kept{Says: x.place + "'s clock is read every few seconds until " + x.until.In(zone).Format("15:04:05") + ".", Did: "had a clock watched", Detail: x.place}, nil
}

// planRestart restarts a device that an account opens.
func planRestart(_ time.Time, s *act.Seen, x stages.Device) (act.Planned, error) {
	return x.Opened(s, access.RestartNow())
}

// planRecorder is the first that a recorder's clock needs.
func (k *Stage) planRecorder(now time.Time, s *act.Seen, x stages.Device) (p act.Planned, err error) {
	d, ok := s.Device(x.ID)
	if !ok || d.Kind != identity.Recorder {
		return p, store.ErrNotFound
	}
	all := k.Propose(now, s.Snapshot, d.Whole())
	if len(all) == 0 {
		p.Says = "Nothing of the clock of " + d.Place + " can be set from here, or it is as it should be: read it again."
		return p, nil
	}
	p.Title = d.Place + ": " + all[0].Title
	p.Add(d.Whole(), all[:1])
	return p, nil
}

// Following are cameras whose clocks are to follow the site's wish.
type Following struct{ act.Selection }

// planFollow says what has them follow it, also those that are in step as they are.
func planFollow(now time.Time, s *act.Seen, _ Following) (p act.Planned, err error) {
	for _, of := range s.Of {
		if a, open := facts.Account.Of(s.Snapshot, of.Device.ID); !open || a.Scheme == access.RTSP {
			p.Refuse(of.Place, "no account opens its settings")
			continue
		}
		f, w := facts.ForClock(s.Snapshot, of.Device)
		changes, why := clock.Follow(now, f, w)
		switch {
		case why != "":
			p.Refuse(of.Place, why)
		case len(changes) == 0:
			p.Idle++
		}
		p.Add(of, changes)
	}
	p.Title = "Let " + act.Count(len(p.Of), "clock") + " follow the site's wish"
	return p, nil
}

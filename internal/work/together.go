package work

import (
	"context"
	"slices"
	"time"
)

const (
	gather     = 20 * time.Millisecond // how long devices are gathered that are to be judged
	gatherMost = 128
)

// verdicts judges devices together that different steps of this process touched at
// about the same time: one reading and one writing of the database serve them all.
type verdicts struct {
	ask chan asked
}

type asked struct {
	site    int64
	devices []int64
	done    chan error
}

// judgeSoon has devices judged with others, and waits until they were.
func (o *Office) judgeSoon(ctx context.Context, site int64, devices []int64) error {
	a := asked{site, devices, make(chan error, 1)}
	select {
	case o.verdicts.ask <- a:
	case <-o.stop: // nobody gathers any more
		return o.judge(ctx, site, devices)
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-a.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// judgeTogether gathers what is to be judged and has it judged, until the office stops.
func (o *Office) judgeTogether() {
	defer o.done.Done()
	for {
		var all []asked
		select {
		case <-o.stop:
			return
		case a := <-o.verdicts.ask:
			all = append(all, a)
		}
		limit := time.NewTimer(gather)
		for n, over := len(all[0].devices), false; !over && n < gatherMost; {
			select {
			case a := <-o.verdicts.ask:
				all, n = append(all, a), n+len(a.devices)
			case <-limit.C:
				over = true
			}
		}
		limit.Stop()
		o.done.Add(1)
		go func() { // the next are gathered meanwhile
			defer o.done.Done()
			o.judgeAsked(all)
		}()
	}
}

// judgeAsked judges what was gathered, site by site, and tells who waits for it.
func (o *Office) judgeAsked(all []asked) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	bySite := map[int64][]int64{}
	for _, a := range all {
		bySite[a.site] = append(bySite[a.site], a.devices...)
	}
	said := map[int64]error{}
	for site, devices := range bySite {
		slices.Sort(devices)
		said[site] = o.judge(ctx, site, slices.Compact(devices))
	}
	for _, a := range all {
		a.done <- said[a.site]
	}
}

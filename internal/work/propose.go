package work

import (
	"context"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// Propose lists what a stage's rules would change on these cameras now, a portion
// of them read at a time. Sources that are placed together are given channels of
// their own: each is proposed as if those before it were placed. What is being made
// already is left out and counted.
func (o *Office) Propose(ctx context.Context, site int64, st stage.Stage, devices []int64) (picks []Pick, underWay int, err error) {
	now := time.Now()
	placed := map[int64]*channel.Recorder{}
	for part := range slices.Chunk(devices, portion) {
		v, err := Look(ctx, o.store, site, part)
		if err != nil {
			return nil, 0, err
		}
		open, err := o.store.OpenChanges(ctx, part)
		if err != nil {
			return nil, 0, err
		}
		for _, d := range v.Cameras() {
			p := Pick{Device: d}
			if st == stage.Channels {
				p.Changes = v.placeAfter(now, d, placed)
			} else {
				p.Changes = v.Proposals(now, d, st)
			}
			all := len(p.Changes)
			p.Changes = slices.DeleteFunc(p.Changes, func(c finding.Change) bool {
				return slices.ContainsFunc(open, func(x store.Change) bool { return x.DeviceID == d.ID && x.Key == c.Key })
			})
			underWay += all - len(p.Changes)
			if len(p.Changes) > 0 {
				picks = append(picks, p)
			}
		}
	}
	return picks, underWay, nil
}

// UnderWay is what a person is told who asks for changes that are all being made.
func UnderWay() error { return toldError("That change is under way already.") }

// placeAfter proposes a camera's channel on its recorder as placed has left it, and
// leaves it there.
func (v *View) placeAfter(now time.Time, d store.Device, placed map[int64]*channel.Recorder) []finding.Change {
	f, w := v.Channel(d)
	rec, _, ok := v.HolderOf(d)
	if f.Recorder == nil || !ok {
		return nil
	}
	r := placed[rec.ID]
	if r == nil {
		c := *f.Recorder
		c.Slots = slices.Clone(c.Slots)
		r, placed[rec.ID] = &c, &c
	}
	f.Recorder = r
	changes := channel.Propose(now, f, w)
	for _, c := range changes {
		if n, err := strconv.Atoi(c.Args["channel"]); err == nil {
			r.Slots = append(r.Slots, channel.Slot{Number: n, Address: f.Address, Kbps: float64(w.Kbps)})
		}
	}
	return changes
}

package channels

import (
	"context"
	"sync"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages"
	"duskyharbor/internal/store"
)

// Assign proposes where the views of a site that no recorder holds go, over all recorders that were
// read, as they are planned and locked. Those whose streams aren't known yet are told in unread.
func Assign(s *site.Snapshot) (all []channel.Placing, bins []channel.Bin, a channel.Assignment, unread []site.Source) {
	for _, rec := range s.Recorders() {
		if r, known := site.Recorder.Of(s, rec.ID); known && s.RecorderTrouble(rec.ID) == "" && rec.Cascade == nil && (r.ByHand || !r.Lacks(channel.ActPlace)) {
			bins = append(bins, channel.Bin{ID: rec.ID, Recorder: r})
		}
	}
	for _, of := range s.Sources {
		if _, slot, ok := s.HolderOf(of); ok && slot != nil {
			continue
		}
		p, known := placingOf(s, of, bins)
		if !known {
			unread = append(unread, of)
			continue
		}
		all = append(all, p)
	}
	return all, bins, channel.Assign(all, bins), unread
}

// placingOf is a view as it is to be placed, with how each recorder takes it; known is false where its
// streams weren't read.
func placingOf(s *site.Snapshot, of site.Source, bins []channel.Bin) (p channel.Placing, known bool) {
	sf, _ := facts.ForStreams(s, of)
	if sf.Trouble != "" || len(sf.Profiles) == 0 {
		return p, false
	}
	p = channel.Placing{ID: of.ID, Name: of.Place, Locked: of.Locked, Channel: of.Channel, Together: of.Together, Fits: map[int64]channel.Fit{}}
	if of.RecorderID != nil {
		p.Wish = *of.RecorderID
	}
	camera := cameraOf(s, of)
	for _, b := range bins {
		record, _ := stream.Roles(sf.Profiles, b.Recorder.Limits.Codecs)
		f, ok := channel.Fit{}, false
		var profile stream.Profile
		if record != "" {
			profile, _, ok = sf.Find(record)
		}
		switch choice := b.Recorder.Choose(camera); {
		case !ok:
			f.Refused = "none of its streams is one that it takes"
		case choice.Refused != "":
			f.Refused = choice.Refused
		default:
			f.Way, f.Losses = choice.Way, len(choice.Lost)
			f.Kbps, f.FPS, f.Megapixels = profile.Kbps, profile.FPS, float64(profile.Width*profile.Height)/1e6
		}
		p.Fits[b.ID] = f
	}
	return p, true
}

// factsOn is Facts of a view as if one recorder, and no other, were to hold it.
func factsOn(s *site.Snapshot, of site.Source, rec store.Device) (channel.Facts, channel.Wishes) {
	f, w := Facts(s, of)
	f.Planned, f.Slot, f.Recorder, f.Trouble = rec.Place, nil, nil, s.RecorderTrouble(rec.ID)
	f.Others = s.HeldBeside(of, rec.ID)
	w.Recorder, w.RecorderID = rec.Place, rec.ID
	table, known := site.Recorder.Of(s, rec.ID)
	if !known {
		return f, w
	}
	f.Recorder = &table
	sf, _ := facts.ForStreams(s, of)
	if sf.Trouble == "" && len(sf.Profiles) > 0 {
		w.Stream, w.View = stream.Roles(sf.Profiles, table.Limits.Codecs)
		w.Unfit = w.Stream == ""
		if p, _, ok := sf.Find(w.Stream); ok {
			w.Width, w.Height, w.Kbps, w.FPS = p.Width, p.Height, p.Kbps, p.FPS
		}
	}
	return f, w
}

// Taken is one channel of a recorder that another takes over.
type Taken struct {
	Source  site.Source
	Changes []finding.Change
	Why     string // why it can't be taken over; empty: it can
}

// TakeOver proposes that a recorder takes over the channels of another, numbers and names kept: both
// hold each camera then, until the old one is retired. What it holds already is left alone.
func TakeOver(now time.Time, s *site.Snapshot, from, to store.Device) (out []Taken, err error) {
	if _, known := site.Recorder.Of(s, to.ID); !known {
		return nil, trouble.UserError(to.Place + " wasn't read yet: read it first.")
	}
	table, _ := site.Recorder.Of(s, to.ID)
	var sources []site.Source
	var wishes []int
	for _, of := range s.Sources {
		if old := s.SlotOn(of, from.ID); old != nil && s.SlotOn(of, to.ID) == nil {
			sources, wishes = append(sources, of), append(wishes, old.Number)
		}
	}
	numbers, order := table.Succession(wishes)
	var plan channel.Planner
	for _, i := range order {
		f, w := factsOn(s, sources[i], to)
		w.Channel = numbers[i]
		t := Taken{Source: sources[i]}
		t.Changes, t.Why = channel.Succeeds(plan.Next(now, f, w), f, w, wishes[i], from.Place, to.Place)
		out = append(out, t)
	}
	return out, nil
}

// Somebody waits for the answer while the other recorders are read before one is retired: they have as long as the
// answer has, less what making it takes; whoever asks without a limit gives them as long as any reading.
const (
	answerTakes = 2 * time.Second
	retireReads = 12 * time.Second
)

// readsUntil is the time by which the others are to be read.
func readsUntil(ctx context.Context, now time.Time) time.Time {
	if by, ok := ctx.Deadline(); ok {
		return by.Add(-answerTakes)
	}
	return now.Add(retireReads)
}

// readOthers reads the other recorders of a site just now; it says which of them couldn't be read. Trouble of ours is
// err: none of them is told as silent for it.
func readOthers(ctx context.Context, k stages.Services, siteID, than int64) (silent map[int64]bool, err error) {
	s, err := site.Load(ctx, k.Store, siteID, []int64{})
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	silent = map[int64]bool{}
	ctx, cancel := context.WithDeadline(ctx, readsUntil(ctx, time.Now()))
	defer cancel()
	for _, rec := range s.Recorders() {
		if rec.ID == than {
			continue
		}
		all.Go(func() {
			_, failed := k.Recorders.Read(ctx, rec)
			mu.Lock()
			defer mu.Unlock()
			if failed != nil && engine.Ours(failed) && ctx.Err() == nil { // else there wasn't time for it
				err = failed
			}
			silent[rec.ID] = failed != nil
		})
	}
	all.Wait()
	return silent, err
}

// Retire takes out of a recorder all channels whose cameras another one receives, may record and keeps;
// left says of the others why they stay. The others are to be read just before; silent are those that
// couldn't be.
func Retire(s *site.Snapshot, from store.Device, silent map[int64]bool) (out []finding.Change, left []string) {
	table, _ := site.Recorder.Of(s, from.ID)
	var views []channel.Succession
	for _, of := range s.Sources {
		if held := s.SlotOn(of, from.ID); held != nil {
			views = append(views, channel.Succession{Channel: held.Number, Others: successors(s, of, from.ID, silent)})
		}
	}
	return table.Retire(from.ID, views)
}

// successors are the recorders that hold a view besides one.
func successors(s *site.Snapshot, of site.Source, without int64, silent map[int64]bool) (out []channel.Successor) {
	for _, other := range s.HeldBeside(of, without) {
		x := channel.Successor{Recorder: other.Recorder, Slot: other.Slot, Trouble: s.RecorderTrouble(other.RecorderID)}
		if silent[other.RecorderID] {
			x.Trouble = "it didn't answer in time"
		}
		out = append(out, x)
	}
	return out
}

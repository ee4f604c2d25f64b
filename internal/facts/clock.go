package facts

import (
	"context"
	"encoding/json"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// ForClock is what the rules of clock are asked of a camera, whose first view's recorder is the
// one that its time is held against. What its sign-in window has shown is left to who
// knows its account.
func ForClock(s *site.Snapshot, d store.Device) (clock.Facts, clock.Wishes) {
	x := site.As(s, "for clock", d, func() asked[clock.Facts, clock.Wishes] {
		f, w := forClock(s, d)
		return asked[clock.Facts, clock.Wishes]{f, w}
	})
	return x.f, x.w
}

func forClock(s *site.Snapshot, d store.Device) (clock.Facts, clock.Wishes) {
	var f clock.Facts
	if r, ok := Clock.Of(s, d.ID); ok {
		f.Camera = &r
	}
	holder := clock.Holder{}
	if rec, slot, ok := s.HolderOf(s.Of(d)); ok {
		holder = clock.Holder{ID: rec.ID, Name: rec.Place, Holds: slot != nil}
		if r, read := Clock.Of(s, rec.ID); read {
			holder.Reading = &r
		}
		if serves, _ := ServesNTP.Of(s, rec.ID); serves && rec.Address != nil {
			holder.NTP = rec.Address.String()
		}
		table, _ := site.Recorder.Of(s, rec.ID)
		holder.Dates, holder.Times = table.Dates, table.Times
		f.Reference = clock.ReferenceOf(holder)
		if slot != nil && f.Reference.ID != 0 {
			f.Window = shownWindow(s, d, f, slot)
		}
	} else {
		f.Reference = clock.ReferenceOf(holder)
	}
	w := clock.Wishes{Zone: s.Site.ZonePosix, Source: s.Site.TimeSource}
	if d.Address != nil {
		if n, in := netplan.Of(s.Networks(), *d.Address); in && n.TimeServer.IsValid() {
			w.Source, w.Network = n.TimeServer.String(), n.Name
		}
	}
	return f, w
}

// shownWindow is the sign-in window that a camera has shown to the recorder that
// holds it.
func shownWindow(s *site.Snapshot, d store.Device, f clock.Facts, slot *channel.Slot) time.Duration {
	account, open := Account.Of(s, d.ID)
	if f.Camera == nil || !open {
		return 0
	}
	asked, _ := Attempted.Of(s, d.ID)
	since := slot.Since.Add(-f.Reference.Offset.Mid())
	return clock.ShownWindow(f.Offset(), f.Camera.At, clock.Tried{Since: since, Receives: slot.State == "receiving",
		Refused: slot.State == "refused" && slot.Label == access.Label(account.SetID) && !asked.Locked.After(since)})
}

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

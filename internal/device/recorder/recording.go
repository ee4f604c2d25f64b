package recorder

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/device/dial"
)

const (
	maxModels  = 4000 // of a list
	maxWays    = 8
	maxCounts  = 32 // activities of a channel: by day and night, of each set of causes
	maxBuckets = 64 // of gaps
)

// SetPlan has a channel keep by a plan.
func (c *Client) SetPlan(ctx context.Context, number int, p recording.Plan) error {
	return c.do(ctx, c.signed, http.MethodPut, fmt.Sprintf("/api/channels/%d/plan", number), p, nil, callLimit)
}

// Rename gives a channel another name.
func (c *Client) Rename(ctx context.Context, number int, name string) error {
	return c.do(ctx, c.signed, http.MethodPut, fmt.Sprintf("/api/channels/%d/name", number), map[string]string{"name": name}, nil, callLimit)
}

// SetAge has the recorder delete what is older than so many days; 0: it keeps until it is full.
func (c *Client) SetAge(ctx context.Context, days int) error {
	return c.do(ctx, c.signed, http.MethodPut, "/api/recordings", map[string]int{"days": days}, nil, callLimit)
}

// RenewList installs the newest list of models; its services take it up when they start again.
func (c *Client) RenewList(ctx context.Context) error {
	return c.do(ctx, c.signed, http.MethodPost, "/api/models/renew", nil, nil, callLimit)
}

// RestartServices starts its services again: every channel signs in to its camera anew.
func (c *Client) RestartServices(ctx context.Context) error {
	return c.do(ctx, c.signed, http.MethodPost, "/api/services/restart", nil, nil, callLimit)
}

// AllowOthers has it take models that aren't in its list, or not.
func (c *Client) AllowOthers(ctx context.Context, allow bool) error {
	return c.do(ctx, c.signed, http.MethodPut, "/api/others", map[string]bool{"allow": allow}, nil, callLimit)
}

// amount is a number that a recorder tells, as one that can be reckoned with: not negative, and
// finite.
func amount(v float64) float64 {
	if math.IsNaN(v) || v < 0 {
		return 0
	}
	return min(v, 1e18)
}

func cleanStorage(s recording.Storage) recording.Storage {
	for _, v := range []*float64{&s.Usable, &s.Other, &s.Kept, &s.KeptDays, &s.Oldest} {
		*v = amount(*v)
	}
	for i := range s.KeptWeek {
		s.KeptWeek[i] = min(max(0, s.KeptWeek[i]), 36500)
	}
	s.Buffer, s.Deletes = min(max(0, s.Buffer), 86400), min(max(0, s.Deletes), 36500)
	return s
}

func cleanModels(l *channel.ModelList) *channel.ModelList {
	if l == nil {
		return nil
	}
	out := channel.ModelList{Version: dial.CleanText(l.Version, 32), Loaded: dial.CleanText(l.Loaded, 32), Newer: dial.CleanText(l.Newer, 32)}
	for _, m := range l.Models[:min(len(l.Models), maxModels)] {
		out.Models = append(out.Models, dial.CleanText(m, 128))
	}
	return &out
}

func cleanWays(all []channel.Way) (out []channel.Way) {
	for _, w := range all[:min(len(all), maxWays)] {
		clean := channel.Way{Name: dial.CleanText(w.Name, 16)}
		for _, p := range w.Passes[:min(len(w.Passes), maxWays)] {
			clean.Passes = append(clean.Passes, dial.CleanText(p, 16))
		}
		out = append(out, clean)
	}
	return out
}

// cleanRecording bounds what a channel tells of its recording; a plan that is none isn't told.
func cleanRecording(s recording.Slot) recording.Slot {
	if s.Plan != nil && s.Plan.Check() != nil {
		s.Plan = nil
	}
	s.Now, s.KeptDay = dial.CleanText(s.Now, 16), amount(s.KeptDay)
	known := func(c recording.Cause) bool { return slices.Contains(recording.Causes(), c) }
	s.Hears = slices.DeleteFunc(s.Hears[:min(len(s.Hears), maxCounts)], func(c recording.Cause) bool { return !known(c) })
	s.Activity = slices.DeleteFunc(s.Activity[:min(len(s.Activity), maxCounts)], func(a recording.Activity) bool {
		return !known(a.Cause) || slices.ContainsFunc(a.With, func(c recording.Cause) bool { return !known(c) })
	})
	for _, r := range []*recording.Rate{&s.Rates.Day, &s.Rates.Night, &s.Rates.BusyDay, &s.Rates.BusyNight} {
		r.Record, r.View, r.Keys = amount(r.Record), amount(r.View), amount(r.Keys)
	}
	for i := range s.Activity {
		a := &s.Activity[i]
		a.Seconds, a.Active = amount(a.Seconds), amount(a.Active)
		a.Gaps = a.Gaps[:min(len(a.Gaps), maxBuckets)]
		for k := range a.Gaps {
			g := &a.Gaps[k]
			g.UpTo, g.Count, g.Seconds = amount(g.UpTo), max(0, g.Count), amount(g.Seconds)
		}
	}
	return s
}

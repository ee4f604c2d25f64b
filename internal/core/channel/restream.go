package channel

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stream"
)

// Restream is what becomes of a channel once an encoder of its camera is set otherwise.
type Restream struct {
	Channel int
	As      stream.Encoder // the record stream as it will be set; the zero Encoder: it stays
	Of      recording.Rescale
}

// Join adds what becomes of the same channel by another of its streams.
func (x *Restream) Join(role stream.Role, set stream.Encoder, f stream.Forecast) {
	shift := recording.Shift(f)
	switch role {
	case stream.Record:
		x.As, x.Of.Record = set, &shift
	case stream.View:
		x.Of.View = &shift
	}
}

// With is the recorder once the streams of its channels are set so. What a channel was placed as it goes on counting
// as, where that is more.
func (r Recorder) With(all []Restream) Recorder {
	r.Slots = slices.Clone(r.Slots)
	for _, x := range all {
		i := slices.IndexFunc(r.Slots, func(s Slot) bool { return s.Number == x.Channel })
		if i < 0 || x.As == (stream.Encoder{}) {
			continue
		}
		s := &r.Slots[i]
		s.Width, s.Height, s.FPS = x.As.Width, x.As.Height, x.As.FPS
		then, _ := x.Of.Rate(recording.Rate{Record: s.Kbps, Keys: s.Recording.Rates.Day.Keys})
		s.Kbps = cmp.Or(then.Record, s.Kbps) // as now, where it isn't known
	}
	return r
}

// Makes says what it makes of a recorder when streams of its channels are set otherwise: each limit that is used
// otherwise then, and for how many days it keeps. assume is the part of the time in which something happens where
// nobody counted, 0 to 1.
func Makes(name string, r Recorder, all []Restream, assume float64) string {
	var parts []string
	then := Gauges(r.With(all))
	for _, g := range Gauges(r) {
		i := slices.IndexFunc(then, func(x Gauge) bool {
			return x.Name == g.Name || strings.HasPrefix(x.Name, "Up to ") && strings.HasPrefix(g.Name, "Up to ")
		})
		if i < 0 || then[i].Name == g.Name && math.Abs(then[i].Used-g.Used) < 0.05 {
			continue
		}
		parts = append(parts, gaugeText(g, then[i]))
	}
	if days := daysThen(r, all, assume); days != "" {
		parts = append(parts, days)
	}
	if len(parts) == 0 {
		return name + ": it takes and keeps as much as now."
	}
	return name + ": " + strings.Join(parts, "; ") + "."
}

func gaugeText(now, then Gauge) string {
	if now.Name != then.Name {
		row := func(g Gauge) string { return strings.ToLower(g.Name[:1]) + g.Name[1:] }
		return fmt.Sprintf("counted as %s, %.0f of %.0f channels, instead of %s", row(then), then.Used, then.Most, row(now))
	}
	says := fmt.Sprintf("%s %.1f of %.0f instead of %.1f", now.Name, then.Used, then.Most, now.Used)
	if then.Used > then.Most+0.001 {
		says += ", more than it takes"
	}
	return says
}

// daysThen says for how many days it keeps then, and now.
func daysThen(r Recorder, all []Restream, assume float64) string {
	was := r.Recordings()
	will, without, bounds := slices.Clone(was), slices.Clone(was), map[int]bool{}
	for _, x := range all {
		i := slices.IndexFunc(r.Slots, func(s Slot) bool { return s.Number == x.Channel })
		if i < 0 {
			continue
		}
		will[i], bounds[i] = was[i].Rescaled(x.Of, r.Storage, assume)
		without[i], _ = was[i].Rescaled(x.Of.Silent(), r.Storage, assume)
	}
	now, then := recording.SumOf(r.Storage, was, assume), recording.SumOf(r.Storage, will, assume)
	rest, most := recording.SumOf(r.Storage, without, assume), false
	for i, bound := range bounds { // of what isn't kept a bound is no matter
		most = most || bound && (then.Loads[i].Bytes != rest.Loads[i].Bytes || then.Loads[i].Unknown)
	}
	switch {
	case r.Storage.Usable <= 0, !most && then.Bytes == now.Bytes && then.Unknown == now.Unknown, !most && then.DaysText() == now.DaysText():
		return ""
	case then.Unknown && (most || !now.Unknown):
		return fmt.Sprintf("for how many days it keeps isn't known before it is measured; %s now", now.DaysText())
	case most:
		return fmt.Sprintf("keeps %s or more, %s now: how much less comes isn't known before it is measured", then.DaysText(), now.DaysText())
	}
	return fmt.Sprintf("keeps %s instead of %s", then.DaysText(), now.DaysText())
}

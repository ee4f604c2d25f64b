package recording

import (
	"cmp"
	"math"
	"slices"
)

// Rate is the mean bit rate of what may be kept, in kbit/s of 1,000 bits; 0: not known.
type Rate struct {
	Record float64 `json:"record"`
	View   float64 `json:"view"`
	Keys   float64 `json:"keys"`
}

// of is the rate of what is kept.
func (r Rate) of(k Keep) float64 {
	switch k {
	case Keys:
		return r.Keys
	case View:
		return r.View
	case Record:
		return r.Record
	}
	return 0
}

// Rates are a channel's rates by day and by night, and what they are while something goes on:
// what moves costs more.
type Rates struct {
	Day       Rate `json:"day"`
	Night     Rate `json:"night"`
	BusyDay   Rate `json:"busy_day,omitzero"`
	BusyNight Rate `json:"busy_night,omitzero"`
}

// busy is the rate of what is kept while something goes on; as ever where that isn't known.
func (r Rates) busy(k Keep, night bool) float64 {
	if night {
		return cmp.Or(r.BusyNight.of(k), r.BusyDay.of(k), r.of(k, night))
	}
	return cmp.Or(r.BusyDay.of(k), r.BusyNight.of(k), r.of(k, night))
}

// rest is the rate of what is kept outside the part of the time, 0 to 1, in which something goes on.
func (r Rates) rest(k Keep, night bool, active float64) float64 {
	mean := r.of(k, night)
	if active >= 1 {
		return mean
	}
	return max(0, (mean-active*r.busy(k, night))/(1-active))
}

// of is the rate of what is kept; one that is known of the other half of the day alone is that.
func (r Rates) of(k Keep, night bool) float64 {
	if night {
		return cmp.Or(r.Night.of(k), r.Day.of(k))
	}
	return cmp.Or(r.Day.of(k), r.Night.of(k))
}

// Or fills in what isn't known by what another source says.
func (r Rates) Or(o Rates) Rates {
	for _, x := range []struct{ to, from *float64 }{{&r.Day.Record, &o.Day.Record}, {&r.Day.View, &o.Day.View}, {&r.Day.Keys, &o.Day.Keys},
		{&r.Night.Record, &o.Night.Record}, {&r.Night.View, &o.Night.View}, {&r.Night.Keys, &o.Night.Keys}} {
		*x.to = cmp.Or(*x.to, *x.from)
	}
	return r
}

// Storage is what a recorder keeps on.
type Storage struct {
	Usable float64 `json:"usable"` // bytes, after RAID and reserve; 0: not told
	Other  float64 `json:"other"`  // bytes a day of what isn't on IP channels: analog inputs, sound
	Buffer int     `json:"buffer"` // seconds that are held back before anything happens; 0: not told
	// Deletes is after how many days it deletes what it holds, whatever room there is; 0: it keeps
	// until it is full.
	Deletes int `json:"deletes"`
	// Kept is what it kept a day over its whole days so far, in bytes; 0: no whole day is over.
	Kept     float64 `json:"kept"`
	KeptDays float64 `json:"kept_days"` // that Kept is the mean of
	Oldest   float64 `json:"oldest"`    // age of the oldest it holds, in days
}

// Channel is one channel as the sums see it.
type Channel struct {
	Name     string
	Plan     Plan
	Rates    Rates
	Activity []Activity
	Source   int64 // that it holds; 0: none of the site's
	Silent   bool  // nothing comes of it, and nothing is kept
}

// Load is what a channel makes a day.
type Load struct {
	Bytes   float64
	Event   float64 // of which while something happens
	Duty    float64 // the part of the week in which something does
	Assumed bool    // some of it rests on an assumption of how often something happens
	Unknown bool    // a stream that the plan keeps has no known rate: it is more than told
}

// Load sums a channel's bytes a day: over each half hour of the week what its mode keeps, times
// the part of the time that it does; while something goes on at the rate that it has then. assume stands for how often something happens where nobody
// counted, 0 to 1.
func (c Channel) Load(assume float64) Load {
	type key struct {
		mode  uint8
		night bool
	}
	var l Load
	if c.Silent {
		return l
	}
	seen := map[key][2]float64{} // bytes a second: all, and while something happens
	duties := map[key]float64{}
	for _, day := range c.Plan.Week {
		for half, mode := range day {
			k := key{mode, IsNight(half)}
			per, known := seen[k]
			if !known {
				m := c.Plan.At(0, 0)
				if int(mode) < len(c.Plan.Modes) {
					m = c.Plan.Modes[mode]
				}
				duty, active, assumed := m.duty(c.Activity, k.night, assume)
				idle, event := c.Rates.of(m.Idle, k.night), c.Rates.of(m.Event, k.night)
				l.Assumed = l.Assumed || assumed && idle != event
				l.Unknown = l.Unknown || m.Idle != Nothing && idle == 0 || len(m.Causes) > 0 && m.Event != Nothing && event == 0
				const bytesPerKbit = 125
				something := (duty-active)*c.Rates.rest(m.Event, k.night, active) + active*c.Rates.busy(m.Event, k.night)
				per = [2]float64{bytesPerKbit * ((1-duty)*c.Rates.rest(m.Idle, k.night, active) + something), bytesPerKbit * something}
				seen[k], duties[k] = per, duty
			}
			l.Bytes += per[0] * 1800 / WeekDays
			l.Event += per[1] * 1800 / WeekDays
			l.Duty += duties[k] / (WeekDays * HalfHours)
		}
	}
	return l
}

// Sum is what a recorder's channels make a day, and for how many days it lasts.
type Sum struct {
	Bytes   float64
	Days    float64 // +Inf: nothing is kept; 0: how much it can keep isn't told
	Assumed bool
	Unknown bool
	Loads   []Load // of each channel, in their order
}

// SumOf sums channels on a storage.
func SumOf(s Storage, all []Channel, assume float64) Sum {
	out := Sum{Bytes: s.Other}
	for _, c := range all {
		l := c.Load(assume)
		out.Loads = append(out.Loads, l)
		out.Bytes += l.Bytes
		out.Assumed, out.Unknown = out.Assumed || l.Assumed, out.Unknown || l.Unknown
	}
	switch {
	case s.Usable <= 0:
	case out.Bytes <= 0:
		out.Days = math.Inf(1)
	default:
		out.Days = s.Usable / out.Bytes
	}
	return out
}

// Eaters are the places of channels in a sum, those that make most first; those that make
// nothing aren't among them.
func (s Sum) Eaters() []int {
	var at []int
	for i, l := range s.Loads {
		if l.Bytes > 0 {
			at = append(at, i)
		}
	}
	slices.SortStableFunc(at, func(a, b int) int { return cmp.Compare(s.Loads[b].Bytes, s.Loads[a].Bytes) })
	return at
}

// Term is for how many days a site's recordings are kept. The zero Term asks for nothing.
type Term struct {
	Least int // the contract's; 0: none
	Most  int // the privacy rule's; 0: none
}

// Terms of a recorder against what it will keep.
const (
	Within  = "within"
	TooFew  = "too few"
	TooMany = "too many"
)

// Says is how so many days stand in a term. A recorder that deletes by age keeps no more than
// deletes days, whatever there is room for; 0: it keeps until it is full.
func (t Term) Says(days float64, deletes int) string {
	kept := days
	if deletes > 0 {
		kept = min(kept, float64(deletes))
	}
	switch {
	case days == 0:
		return Within // it isn't told how much it holds: nothing is known
	case t.Least > 0 && math.Floor(kept+1e-9) < float64(t.Least):
		return TooFew
	case t.Most > 0 && kept > float64(t.Most):
		return TooMany
	}
	return Within
}

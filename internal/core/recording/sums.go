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
func (r Rate) of(k Level) float64 {
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
func (r Rates) busy(k Level, night bool) float64 {
	if night {
		return cmp.Or(r.BusyNight.of(k), r.Night.of(k))
	}
	return cmp.Or(r.BusyDay.of(k), r.Day.of(k))
}

// rest is the rate of what is kept outside the part of the time, 0 to 1, in which something goes on.
func (r Rates) rest(k Level, night bool, active float64) float64 {
	mean := r.of(k, night)
	if active >= 1 {
		return mean
	}
	return max(0, (mean-active*r.busy(k, night))/(1-active))
}

// of is the rate of what is kept, by day or by night: each is its own.
func (r Rates) of(k Level, night bool) float64 {
	if night {
		return r.Night.of(k)
	}
	return r.Day.of(k)
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
	// Hours is the same in hours where it isn't whole days; 0: it is. Shortest is after how many days the
	// channel loses its recordings that keeps them shortest, where they differ; 0: they don't.
	Hours    float64 `json:"hours,omitempty"`
	Shortest float64 `json:"shortest,omitempty"`
	// Kept is what it kept a day, in bytes, over the whole days that are over since what it keeps was
	// last changed; 0: no whole day is over.
	Kept     float64 `json:"kept"`
	KeptDays float64 `json:"kept_days"` // that Kept is the mean of
	// KeptWeek is how many of them were a Monday, a Tuesday and so on; all 0: not told.
	KeptWeek [WeekDays]int `json:"kept_week,omitzero"`
	Oldest   float64       `json:"oldest"` // age of the oldest it holds, in days
}

// limits are after how many days recordings are deleted, of the channel that keeps them longest and of the
// one that keeps them shortest; +Inf: they are kept until the disks are full.
func (s Storage) limits() (longest, shortest float64) {
	longest = math.Inf(1)
	switch {
	case s.Hours > 0:
		longest = s.Hours / 24
	case s.Deletes > 0:
		longest = float64(s.Deletes)
	}
	if shortest = longest; s.Shortest > 0 {
		shortest = min(shortest, s.Shortest)
	}
	return longest, shortest
}

// Ages takes in after how long each of a recorder's channels deletes its recordings, in hours; 0: it keeps
// them until it is full. One without a limit hides no other's.
func (s *Storage) Ages(hours []float64) {
	s.Deletes, s.Hours, s.Shortest = 0, 0, 0
	if len(hours) == 0 {
		return
	}
	longest, shortest := 0.0, math.Inf(1)
	for _, h := range hours {
		if h <= 0 {
			h = math.Inf(1)
		}
		longest, shortest = max(longest, h), min(shortest, h)
	}
	if !math.IsInf(longest, 1) {
		s.Deletes = int(math.Ceil(longest / 24))
		if math.Mod(longest, 24) != 0 {
			s.Hours = longest
		}
	}
	if shortest < longest {
		s.Shortest = shortest / 24
	}
}

// Channel is one channel as the sums see it.
type Channel struct {
	Name     string
	Plan     Plan
	Rates    Rates
	Activity []Activity
	Source   int64   // that it holds; 0: none of the site's
	Silent   bool    // nothing comes of it, and nothing is kept
	Hears    []Cause // what can reach it as something that happens; nil: not told
	// Unlicensed says that it is shown and not recorded, NoPlan that what it keeps isn't told.
	Unlicensed, NoPlan bool
	// Kept is what it kept a day, in bytes, over the recorder's kept days, by KeptBy; 0: not told.
	Kept   float64
	KeptBy Plan
}

// Load is what a channel makes a day.
type Load struct {
	Bytes   float64
	Event   float64 // of which while something happens
	Duty    float64 // the part of the week in which something does
	Assumed bool    // some of it rests on an assumption of how often something happens
	Unknown bool    // a stream that the plan keeps has no known rate: it is more than told
	lived   bool    // it rests on what was kept over whole days
}

// part is what a channel makes a second by one mode, by day or by night.
type part struct {
	all, event, duty float64 // bytes, bytes while something happens, share of the time
}

// Load sums a channel's bytes a day: over each half hour of the week what its mode keeps, times
// the part of the time that it does; while something goes on at the rate that it has then. assume stands for how often something happens where nobody
// counted, 0 to 1. What never records, isn't licensed or has no plan makes nothing.
func (c Channel) Load(assume float64) Load { return c.reckon(assume, 0, wholeWeek) }

// wholeWeek has each day of the week as often as a week has it.
var wholeWeek = [WeekDays]int{1, 1, 1, 1, 1, 1, 1}

// load is Load on a storage, brought in line with what the channel really kept over whole days: that
// is the best evidence. By another plan than the one that it kept by it stays an assumption.
func (c Channel) load(s Storage, assume float64, days [WeekDays]int) Load {
	l := c.reckon(assume, s.Buffer, days)
	if c.Silent || c.Unlicensed || s.KeptDays < 1 || c.Kept <= 0 {
		return l
	}
	as := c
	as.Plan, as.NoPlan = c.KeptBy, c.NoPlan
	was, same := as.reckon(assume, s.Buffer, s.days()), c.Plan.Equal(c.KeptBy)
	switch {
	case was.Unknown || was.Bytes <= 0:
		if same {
			l.Bytes, l.Unknown, l.Assumed, l.lived = c.Kept, false, s.KeptDays < WeekDays, true
		}
	default:
		ratio := c.Kept / was.Bytes
		l.Bytes, l.Event = l.Bytes*ratio, l.Event*ratio
		l.Assumed, l.lived = l.Assumed && (!same || s.KeptDays < WeekDays), same
	}
	return l
}

// reckon is Load over days of which so many were a Monday, a Tuesday and so on. buffer is how many
// seconds are held back before anything happens, the most that a lead can be; 0: not told.
func (c Channel) reckon(assume float64, buffer int, days [WeekDays]int) Load {
	var l Load
	if c.Silent || c.Unlicensed || c.NoPlan {
		l.Unknown = c.NoPlan && !c.Silent && !c.Unlicensed
		return l
	}
	total := 0
	for _, n := range days {
		total += n
	}
	if total == 0 {
		return l
	}
	var seen [MostModes][2]struct { // by mode, by day and by night
		part
		known bool
	}
	for d, day := range c.Plan.Week {
		if days[d] == 0 {
			continue
		}
		share := float64(days[d]) / float64(total)
		for half, mode := range day {
			if int(mode) >= min(len(c.Plan.Modes), MostModes) {
				continue // nothing is kept in it
			}
			at, night := 0, IsNight(half)
			if night {
				at = 1
			}
			p := &seen[mode][at]
			if !p.known {
				p.part, p.known = c.part(c.Plan.Modes[mode], night, buffer, assume, &l), true
			}
			l.Bytes += p.all * 1800 * share
			l.Event += p.event * 1800 * share
			l.Duty += p.duty * share / HalfHours
		}
	}
	return l
}

// part reckons one mode, and notes in l what it rests on.
func (c Channel) part(m Mode, night bool, buffer int, assume float64, l *Load) part {
	const bytesPerKbit = 125
	lead := m.Lead
	if buffer > 0 {
		lead = min(lead, buffer)
	}
	causes := m.heard(c.Hears)
	on, active, assumed := duty(causes, float64(lead+m.Tail), c.Activity, night, assume)
	if len(causes) == 0 {
		m.Event = m.Idle
	}
	idle, event := c.Rates.of(m.Idle, night), c.Rates.of(m.Event, night)
	l.Assumed = l.Assumed || assumed && m.Idle != m.Event
	l.Unknown = l.Unknown || m.Idle != Nothing && idle == 0 && on < 1 || on > 0 && m.Event != Nothing && event == 0
	something := (on-active)*c.Rates.rest(m.Event, night, active) + active*c.Rates.busy(m.Event, night)
	return part{bytesPerKbit * ((1-on)*c.Rates.rest(m.Idle, night, active) + something), bytesPerKbit * something, on}
}

// Sum is what a recorder's channels make a day, and for how many days it lasts.
type Sum struct {
	Bytes   float64
	Days    float64 // +Inf: nothing is kept; 0: how much it can keep isn't told
	Assumed bool
	Unknown bool    // Bytes is the least, and Days the most that it may be
	Lived   float64 // whole days over which all of it was really kept; 0: it is a forecast
	Loads   []Load  // of each channel, in their order
}

// SumOf sums channels on a storage.
func SumOf(s Storage, all []Channel, assume float64) Sum { return s.sum(all, assume, wholeWeek) }

func (s Storage) sum(all []Channel, assume float64, days [WeekDays]int) Sum {
	out := Sum{Bytes: s.Other, Lived: s.KeptDays}
	for _, c := range all {
		l := c.load(s, assume, days)
		if l.Unknown || l.Bytes > 0 && !l.lived {
			out.Lived = 0
		}
		out.Loads = append(out.Loads, l)
		out.Bytes += l.Bytes
		out.Assumed, out.Unknown = out.Assumed || l.Assumed, out.Unknown || l.Unknown
	}
	out.last(s)
	return out
}

// last reckons for how many days it lasts.
func (s *Sum) last(on Storage) {
	switch {
	case on.Usable <= 0:
		s.Days = 0
	case s.Bytes <= 0:
		s.Days = math.Inf(1)
	default:
		s.Days = on.Usable / s.Bytes
	}
}

// Forecast sums channels over the days of the week that a recorder's kept days were, without what it
// kept then: what is to be compared with that.
func Forecast(s Storage, all []Channel, assume float64) Sum {
	over := s.days()
	s.KeptDays = 0
	return s.sum(all, assume, over)
}

// days are the days of the week that were kept; each of them alike where that isn't told.
func (s Storage) days() [WeekDays]int {
	if s.KeptWeek == [WeekDays]int{} {
		return wholeWeek
	}
	return s.KeptWeek
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
	Within   = "within"
	tooFew   = "too few"
	TooMany  = "too many"
	notKnown = "not known"
)

// Says is how so many days stand in a term. A recorder that deletes by age keeps no more than
// deletes days, whatever there is room for; 0: it keeps until it is full. days of 0: how much it can
// hold isn't told.
func (t Term) Says(days float64, deletes int) string {
	return t.Of(Sum{Days: days}, Storage{Deletes: deletes})
}

// Of is how a sum stands in a term on a storage. One that is a bound, the most days that there may be, is
// within only where no other number of days wouldn't be.
func (t Term) Of(sum Sum, on Storage) string {
	longest, shortest := on.limits()
	room := sum.Days
	if room <= 0 {
		room = math.Inf(1) // how much it can hold isn't told
	}
	few := t.Least > 0 && math.Floor(min(room, shortest)+1e-9) < float64(t.Least)
	many := t.Most > 0 && min(room, longest) > float64(t.Most)+1e-9
	unsure := sum.Days <= 0 || sum.Unknown
	switch {
	case t.Least <= 0 && t.Most <= 0:
		return Within
	case few:
		return tooFew
	case unsure && (t.Least > 0 || many): // it may keep less than that
		return notKnown
	case many:
		return TooMany
	}
	return Within
}

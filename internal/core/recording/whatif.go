package recording

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
)

// Step is one change of how a recorder keeps that gives days: of a plan in one kind of hours on
// all channels that keep by it, or of one camera's stream.
type Step struct {
	Title  string
	Cost   string // what it costs in picture
	Days   float64
	Gain   float64 // days
	Mode   string  // of the plan; empty: it is of a stream
	Plan   Plan    // as it would be
	Of     Plan    // as it is
	Places []int   // channels that it touches, by their place
	weight int     // what it costs, to compare
}

// cheap lists, by what a person gives up in picture, changes of a mode, the cheapest first.
var cheap = []struct {
	weight int
	does   func(m Mode) (Mode, string, string, bool)
}{
	{1, func(m Mode) (Mode, string, string, bool) {
		was := m.Tail
		m.Tail = was / 2
		return m, fmt.Sprintf("Keep %d s after something, not %d s", m.Tail, was), "ends sooner", len(m.Causes) > 0 && was >= 10 && m.Event != m.Idle
	}},
	{2, func(m Mode) (Mode, string, string, bool) {
		was := m.Idle
		m.Idle = View
		return m, "The view stream when nothing happens", "less detail while nothing happens", was == Record && len(m.Causes) > 0
	}},
	{3, func(m Mode) (Mode, string, string, bool) {
		was := m.Idle
		m.Idle = Keys
		return m, "Key frames alone when nothing happens", "jerky while nothing happens", was == Record && len(m.Causes) > 0
	}},
	{5, func(m Mode) (Mode, string, string, bool) {
		was := m.Idle
		m.Idle = Nothing
		return m, "Nothing when nothing happens", "quiet hours aren't seen again", was != Nothing && len(m.Causes) > 0
	}},
	{6, func(m Mode) (Mode, string, string, bool) {
		was := m.Idle
		m.Event, m.Idle = View, View
		m.Causes = nil
		return m, "The view stream at all times", "less detail of all that happens", was == Record || was == Keys
	}},
	{7, func(m Mode) (Mode, string, string, bool) {
		was := m.Event
		m.Event = View
		return m, "The view stream when something happens", "less detail of what happens", was == Record && (m.Idle == Nothing || m.Idle == View) && len(m.Causes) > 0
	}},
}

// rateStep is how much less an encoder is asked to send, and what that costs to compare.
const (
	rateStep   = 0.75
	rateWeight = 4
	mostSteps  = 6
	mostEaters = 3 // channels whose bit rate is tried
)

// Steps lists single changes that would bring a recorder closer to so many days, at most six:
// first those that get there, what costs least in picture before what costs more; then the
// others, what gives most before what gives less. None where it gets there already.
func Steps(s Storage, all []Channel, assume float64, least int) []Step {
	now := SumOf(s, all, assume)
	if now.Days <= 0 || math.Floor(now.Days+1e-9) >= float64(least) {
		return nil
	}
	out := planSteps(s, all, assume)
	eaters := now.Eaters()
	for _, i := range eaters[:min(len(eaters), mostEaters)] {
		c := all[i]
		for _, r := range []*Rate{&c.Rates.Day, &c.Rates.Night, &c.Rates.BusyDay, &c.Rates.BusyNight} {
			r.Record, r.Keys = r.Record*rateStep, r.Keys*rateStep
		}
		tried := slices.Clone(all)
		tried[i] = c
		out = append(out, Step{Title: "A quarter less bit rate on " + c.Name, Cost: "coarser where much moves", weight: rateWeight,
			Days: SumOf(s, tried, assume).Days, Places: []int{i}})
	}
	for i := range out {
		out[i].Gain = out[i].Days - now.Days
	}
	out = slices.DeleteFunc(out, func(x Step) bool { return x.Gain < 0.05 })
	there := func(x Step) bool { return math.Floor(x.Days+1e-9) >= float64(least) }
	slices.SortStableFunc(out, func(a, b Step) int {
		if x, y := there(a), there(b); x != y {
			if x {
				return -1
			}
			return 1
		} else if x {
			return cmp.Or(cmp.Compare(a.weight*len(a.Places), b.weight*len(b.Places)), cmp.Compare(b.Gain, a.Gain))
		}
		return cmp.Compare(b.Gain, a.Gain)
	})
	return out[:min(len(out), mostSteps)]
}

// planSteps are the changes of plans, each for all channels that keep by it.
func planSteps(s Storage, all []Channel, assume float64) (out []Step) {
	byPlan := map[string][]int{}
	var order []string
	for i, c := range all {
		text := c.Plan.String()
		if byPlan[text] == nil {
			order = append(order, text)
		}
		byPlan[text] = append(byPlan[text], i)
	}
	for _, text := range order {
		places := byPlan[text]
		plan := all[places[0]].Plan
		for at, m := range plan.Modes {
			if plan.painted(at) == 0 {
				continue
			}
			for _, c := range cheap {
				changed, title, cost, ok := c.does(m)
				if !ok {
					continue
				}
				to := Plan{Modes: slices.Clone(plan.Modes), Week: plan.Week}
				to.Modes[at] = changed
				if never(all, places, changed) {
					continue // nothing that happens reaches some of them: they would record nothing
				}
				tried := slices.Clone(all)
				for _, i := range places {
					tried[i].Plan = to
				}
				sum := SumOf(s, tried, assume)
				if to.Check() != nil || sum.Unknown && !SumOf(s, all, assume).Unknown {
					continue // how much it would be isn't known
				}
				if len(plan.Modes) > 1 {
					title += ", " + m.Name
				}
				out = append(out, Step{Title: title + " on " + names(all, places), Cost: cost, weight: c.weight, Days: sum.Days, Mode: m.Name, Plan: to, Of: plan, Places: places})
			}
		}
	}
	return out
}

// never says whether some channel would keep nothing in the hours of a mode: it waits for what can't
// reach it.
func never(all []Channel, places []int, m Mode) bool {
	return m.Idle == Nothing && slices.ContainsFunc(places, func(i int) bool { return len(m.heard(all[i].Hears)) == 0 })
}

func names(all []Channel, places []int) string {
	if len(places) == 1 {
		return all[places[0]].Name
	}
	return fmt.Sprintf("%d channels", len(places))
}

// Title of hours, capitalised.
func Title(name string) string {
	if name == "" {
		return ""
	}
	return strings.ToUpper(name[:1]) + name[1:]
}

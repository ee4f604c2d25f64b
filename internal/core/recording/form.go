package recording

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"duskyharbor/internal/core/trouble"
)

// Form is a plan in the fields that ParseForm reads: of each kind of hours m0_name, m0_idle, m0_event, m0_lead, m0_tail
// (seconds) and m0_cause for every cause, and so on from m1; of each day, Monday first, its hours as Day writes them in d0 to d6.
func (p Plan) Form() url.Values {
	v := url.Values{}
	for i, m := range p.Modes {
		at := func(what string) string { return fmt.Sprintf("m%d_%s", i, what) }
		v.Set(at("name"), m.Name)
		v.Set(at("idle"), string(m.Idle))
		v.Set(at("event"), string(m.Event))
		v.Set(at("lead"), strconv.Itoa(m.Lead))
		v.Set(at("tail"), strconv.Itoa(m.Tail))
		for _, c := range m.Causes {
			v.Add(at("cause"), string(c))
		}
	}
	for d := range WeekDays {
		v.Set(fmt.Sprintf("d%d", d), p.Day(d))
	}
	return v
}

// ParseForm reads a plan's fields, see Form; days are its days as typed. Kinds of hours may be missing between others: they
// move up. A field drop with a kind's number leaves it out, and its hours become those of the first that is left; a field more
// adds one like the last. What can be read of a plan that is wrong is returned too; the error is told to people.
func ParseForm(v url.Values) (p Plan, days [WeekDays]string, err error) {
	var all []string // as the days name them, also one that is dropped
	dropped := -1
	for i := range MostModes {
		if !v.Has(fmt.Sprintf("m%d_name", i)) {
			continue
		}
		m, wrong := parseMode(v, i)
		all = append(all, m.Name)
		if v.Get("drop") == strconv.Itoa(i) {
			dropped = len(all) - 1
			continue
		}
		p.Modes = append(p.Modes, m)
		if err == nil {
			err = wrong
		}
	}
	for d := range days {
		days[d] = v.Get(fmt.Sprintf("d%d", d))
		day, wrong := parseDay(days[d], all)
		if wrong != nil {
			if err == nil && len(p.Modes) > 0 {
				err = trouble.UserErrorf("%s: %s", DayNames[d], wrong)
			}
			continue
		}
		p.Week[d] = without(day, dropped)
		if dropped >= 0 {
			days[d] = p.Day(d)
		}
	}
	if v.Has("more") && len(p.Modes) < MostModes && len(p.Modes) > 0 {
		m := p.Modes[len(p.Modes)-1]
		m.Name = fmt.Sprintf("hours %d", len(p.Modes)+1)
		p.Modes = append(p.Modes, m)
	}
	if err == nil {
		err = p.Check()
	}
	return p, days, err
}

// parseMode reads the kind of hours with that number.
func parseMode(v url.Values, nth int) (m Mode, err error) {
	field := func(what string) string { return strings.TrimSpace(v.Get(fmt.Sprintf("m%d_%s", nth, what))) }
	m = Mode{Name: field("name"), Idle: Level(field("idle")), Event: Level(field("event"))}
	for _, c := range v[fmt.Sprintf("m%d_cause", nth)] {
		m.Causes = append(m.Causes, Cause(c))
	}
	if len(m.Causes) == 0 {
		m.Event = m.Idle
	}
	lead, wrong := strconv.Atoi(field("lead"))
	tail, wrong2 := strconv.Atoi(field("tail"))
	if wrong != nil || wrong2 != nil {
		return m, trouble.UserErrorf("%s: say in whole seconds how much is kept before and after.", m.Name)
	}
	m.Lead, m.Tail = lead, tail
	return m, nil
}

// without is a day in which the hours of a kind that is dropped are those of the first that is left, and kinds after it have
// moved up; −1 drops none.
func without(day [HalfHours]uint8, dropped int) [HalfHours]uint8 {
	for h, m := range day {
		switch {
		case dropped < 0:
		case int(m) == dropped:
			day[h] = 0
		case int(m) > dropped:
			day[h] = m - 1
		}
	}
	return day
}

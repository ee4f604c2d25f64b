package recording

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

// draft is a plan as a person has it in hand: of the site's plans, or a new one, with what was
// changed of it and isn't kept yet.
type draft struct {
	ID    int64 // 0: a new one
	Name  string
	Plan  recording.Plan
	Days  [recording.WeekDays]string // as typed
	Wrong string                     // why it can't be read; empty: it can
	For   int                        // views that it was chosen for
	// Edited says that it was changed in hand and isn't kept yet.
	Edited bool
}

// Key names the draft's plan in a form: its number, or "new".
func (d draft) Key() string {
	if d.ID == 0 {
		return "new"
	}
	return strconv.FormatInt(d.ID, 10)
}

// firstPlan is what a new plan begins with: little by day, more by night.
func firstPlan() recording.Plan {
	p := recording.Plan{Modes: []recording.Mode{
		{Name: "by day", Idle: recording.View, Event: recording.Record, Causes: []recording.Cause{recording.Motion, recording.Camera}, Lead: 5, Tail: 10},
		{Name: "by night", Idle: recording.View, Event: recording.Record, Causes: []recording.Cause{recording.Motion, recording.Camera}, Lead: 5, Tail: 20}}}
	for d := range recording.WeekDays {
		for h := range recording.HalfHours {
			if recording.IsNight(h) {
				p.Week[d][h] = 1
			}
		}
	}
	return p
}

// fields is a plan as its form holds it.
func fields(id int64, name string, p recording.Plan) url.Values {
	v := url.Values{"plan": {"new"}, "name": {name}}
	if id != 0 {
		v.Set("plan", strconv.FormatInt(id, 10))
	}
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
	for d := range recording.WeekDays {
		v.Set(fmt.Sprintf("d%d", d), p.Day(d))
	}
	return v
}

// read reads a draft from a form or an address, of the site's plans; without any it is the first of
// them, or a new one.
func read(v url.Values, plans []store.RecordingPlan) draft {
	d := draft{Name: "Everywhere", Plan: firstPlan()}
	if len(plans) == 0 || v.Get("plan") == "new" {
		for i := 2; slices.ContainsFunc(plans, func(p store.RecordingPlan) bool { return strings.EqualFold(p.Name, d.Name) }); i++ {
			d.Name = fmt.Sprintf("Everywhere %d", i)
		}
	} else {
		id, _ := strconv.ParseInt(v.Get("plan"), 10, 64)
		i := max(0, slices.IndexFunc(plans, func(p store.RecordingPlan) bool { return p.ID == id }))
		d.ID, d.Name, d.Plan, d.For = plans[i].ID, plans[i].Name, plans[i].Plan, plans[i].For
	}
	for day := range d.Days {
		d.Days[day] = d.Plan.Day(day)
	}
	if !v.Has("m0_name") {
		return d
	}
	if v.Has("name") {
		d.Name = strings.TrimSpace(v.Get("name"))
	}
	p, days, err := parse(v)
	d.Days = days
	if err != nil {
		d.Wrong = err.Error()
	}
	if len(p.Modes) > 0 {
		d.Edited = d.ID == 0 || !d.Plan.Equal(p) || d.Plan.String() != p.String()
		d.Plan = p
	}
	return d
}

// parse reads a plan's fields. What can be read of one that is wrong is answered too.
func parse(v url.Values) (p recording.Plan, days [recording.WeekDays]string, err error) {
	var names []string
	for i := range recording.MostModes {
		at := func(what string) string { return fmt.Sprintf("m%d_%s", i, what) }
		if !v.Has(at("name")) || v.Get("drop") == strconv.Itoa(i) {
			continue
		}
		m := recording.Mode{Name: strings.TrimSpace(v.Get(at("name"))), Idle: recording.Level(v.Get(at("idle"))), Event: recording.Level(v.Get(at("event")))}
		for _, c := range v[at("cause")] {
			m.Causes = append(m.Causes, recording.Cause(c))
		}
		var wrong error
		for what, to := range map[string]*int{"lead": &m.Lead, "tail": &m.Tail} {
			if *to, wrong = strconv.Atoi(strings.TrimSpace(v.Get(at(what)))); wrong != nil && err == nil {
				err = trouble.UserErrorf("%s: say in whole seconds how much is kept before and after.", m.Name)
			}
		}
		if len(m.Causes) == 0 {
			m.Event = m.Idle
		}
		p.Modes, names = append(p.Modes, m), append(names, m.Name)
	}
	if v.Has("more") && len(p.Modes) < recording.MostModes && len(p.Modes) > 0 {
		m := p.Modes[len(p.Modes)-1]
		m.Name = fmt.Sprintf("hours %d", len(p.Modes)+1)
		p.Modes, names = append(p.Modes, m), append(names, m.Name)
	}
	for d := range days {
		days[d] = v.Get(fmt.Sprintf("d%d", d))
		if dropped := v.Get("drop"); dropped != "" && len(names) > 0 {
			if gone := strings.TrimSpace(v.Get("m" + dropped + "_name")); gone != "" { // its hours become the first's
				days[d] = strings.ReplaceAll(days[d], gone, names[0])
			}
		}
		day, wrong := recording.ParseDay(days[d], names)
		if wrong != nil && err == nil && len(names) > 0 {
			err = trouble.UserErrorf("%s: %s", recording.DayNames[d], wrong)
		}
		p.Week[d] = day
	}
	if err == nil {
		err = p.Check()
	}
	return p, days, err
}

package recording

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/recording"
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

// fields is the draft as its form holds it.
func (d draft) fields() url.Values {
	v := d.Plan.Form()
	v.Set("plan", d.Key())
	v.Set("name", d.Name)
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
	p, days, err := recording.ParseForm(v)
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

package clock

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"time"
)

//go:embed zones.txt
var zoneNames string

// ZoneNames lists the names of the zone database that a site may keep its time by, sorted.
func ZoneNames() []string {
	var out []string
	for line := range strings.Lines(zoneNames) {
		if name := strings.TrimSpace(line); name != "" && name[0] != '#' {
			out = append(out, name)
		}
	}
	return out
}

// ruleYears is how many years a yearly rule is held against.
const ruleYears = 10

// PosixOf writes a named zone as devices take it (POSIX TZ), by the transitions that it
// makes over the years from now; the later offset of a year's two is its daylight time.
// exact is false for a zone whose transitions follow no yearly rule: then the text is its
// offset now.
func PosixOf(loc *time.Location, now time.Time) (text string, exact bool) {
	now = now.In(loc)
	var starts, ends []time.Time // wall clock just before, held in UTC
	var std, dst time.Time       // a moment of either
	var made []Transition        // over two years
	for at, last := now, now.AddDate(ruleYears, 0, 0); ; {
		_, end := at.ZoneBounds()
		if end.IsZero() || end.After(last) {
			break
		}
		before, after := end.Add(-time.Second), end
		if !end.After(now.AddDate(2, 0, 0)) && offsetAt(after) != offsetAt(before) {
			made = append(made, Transition{end.UTC(), offsetAt(after)})
		}
		wall := end.Add(offsetAt(before)).UTC()
		if offsetAt(after) > offsetAt(before) {
			starts, std, dst = append(starts, wall), before, after
		} else if offsetAt(after) < offsetAt(before) {
			ends, std, dst = append(ends, wall), after, before
		}
		at = end
	}
	if len(starts) == 0 && len(ends) == 0 {
		return zoneName(now) + posixOffset(now), true
	}
	fixed := zoneName(now) + posixOffset(now)
	start, ok := yearly(starts)
	end, also := yearly(ends)
	if !ok || !also {
		return fixed, false
	}
	text = zoneName(std) + posixOffset(std) + zoneName(dst)
	if offsetAt(dst)-offsetAt(std) != time.Hour {
		text += posixOffset(dst)
	}
	text += "," + start + "," + end
	z, err := parseZone(text)
	if err != nil || z.Offset(now) != offsetAt(now) || !slices.EqualFunc(effective(z, now, now.AddDate(2, 0, 0)), made,
		func(a, b Transition) bool { return a.At.Equal(b.At) && a.Offset == b.Offset }) {
		return fixed, false
	}
	return text, true
}

func offsetAt(t time.Time) time.Duration {
	_, s := t.Zone()
	return time.Duration(s) * time.Second
}

// zoneName is a zone's short name as POSIX quotes it.
func zoneName(t time.Time) string {
	name, _ := t.Zone()
	if strings.ContainsFunc(name, func(r rune) bool { return !letter(byte(r)) }) || len(name) < 3 {
		return "<" + name + ">"
	}
	return name
}

// posixOffset is an offset west of UTC, as POSIX counts.
func posixOffset(t time.Time) string {
	d := -offsetAt(t)
	sign := ""
	if d < 0 {
		sign, d = "-", -d
	}
	return sign + hours(d)
}

// hours writes a time of day, or more, as h[:mm[:ss]].
func hours(d time.Duration) string {
	h, m, s := int(d.Hours()), int(d.Minutes())%60, int(d.Seconds())%60
	switch {
	case s != 0:
		return fmt.Sprintf("%d:%02d:%02d", h, m, s)
	case m != 0:
		return fmt.Sprintf("%d:%02d", h, m)
	}
	return fmt.Sprint(h)
}

// yearly finds the rule that some years' moments follow, as "M3.5.0/1": also one that is
// said by another day's weekday, with hours before or beyond that day.
func yearly(walls []time.Time) (string, bool) {
	if len(walls) < ruleYears/2 {
		return "", false
	}
	for _, shift := range []int{0, 1, -1, 2, -2, 3, -3, 4, 5, 6} {
		if rule, ok := shifted(walls, shift); ok {
			return rule, true
		}
	}
	return "", false
}

func shifted(walls []time.Time, shift int) (string, bool) {
	var month, weekday int
	var at time.Duration
	weeks, last := map[int]bool{}, true
	for i, w := range walls {
		midnight := time.Date(w.Year(), w.Month(), w.Day()-shift, 0, 0, 0, 0, time.UTC)
		m, wd, t := int(midnight.Month()), int(midnight.Weekday()), w.Sub(midnight)
		if i > 0 && (m != month || wd != weekday || t != at) {
			return "", false
		}
		month, weekday, at = m, wd, t
		weeks[(midnight.Day()-1)/7+1] = true
		last = last && midnight.AddDate(0, 0, 7).Month() != midnight.Month()
	}
	week := 5
	if !last {
		if len(weeks) != 1 {
			return "", false
		}
		for w := range weeks {
			week = w
		}
	}
	rule := fmt.Sprintf("M%d.%d.%d", month, week, weekday)
	switch {
	case at < 0:
		rule += "/-" + hours(-at)
	case at != 2*time.Hour:
		rule += "/" + hours(at)
	}
	return rule, true
}

// IsZoneName says whether a name is among ZoneNames.
func IsZoneName(name string) bool {
	_, ok := slices.BinarySearch(ZoneNames(), name)
	return ok
}

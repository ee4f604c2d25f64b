// Package recording knows what a recorder's channel is to keep, and when; how many bytes a day
// that makes, and for how many days a recorder's disks hold it.
package recording

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/core/trouble"
)

// Level is what is kept of a camera at a moment.
type Level string

// What may be kept, the least first.
const (
	Nothing Level = "nothing"
	Keys    Level = "keys" // key frames of the record stream alone
	View    Level = "view" // the view stream
	Record  Level = "record"
)

// Levels lists what may be kept, the least first.
func Levels() []Level { return []Level{Nothing, Keys, View, Record} }

// String is what is kept in words.
func (k Level) String() string {
	switch k {
	case Keys:
		return "key frames alone"
	case View:
		return "the view stream"
	case Record:
		return "the record stream"
	}
	return "nothing"
}

// detail orders what is kept by how much is seen in it. Key frames show more of a moment and
// less of what moves than the view stream: neither is better.
func (k Level) detail() int {
	switch k {
	case Keys, View:
		return 1
	case Record:
		return 2
	}
	return 0
}

// Cause is what counts as something that happens.
type Cause string

// Causes of keeping more.
const (
	Motion  Cause = "motion"
	Camera  Cause = "camera" // an event of the camera's analytics
	Contact Cause = "contact"
	Call    Cause = "call"
)

// WaitsFor says whether any of the plan's hours keeps more when a cause comes.
func (p Plan) WaitsFor(c Cause) bool {
	return slices.ContainsFunc(p.Modes, func(m Mode) bool { return slices.Contains(m.Causes, c) && m.Event != m.Idle })
}

// Causes lists all causes in the order in which they are told.
func Causes() []Cause { return []Cause{Motion, Camera, Contact, Call} }

// String is the cause in words, as in "when … comes".
func (c Cause) String() string {
	switch c {
	case Motion:
		return "motion"
	case Camera:
		return "a camera event"
	case Contact:
		return "a contact"
	case Call:
		return "a call"
	}
	return string(c)
}

// Mode answers the two questions for the hours that it holds for.
type Mode struct {
	Name   string  `json:"name"`
	Idle   Level   `json:"idle"`   // when nothing happens
	Event  Level   `json:"event"`  // when something does; as Idle where nothing counts as something
	Causes []Cause `json:"causes"` // what counts as something; none: nothing does
	Lead   int     `json:"lead"`   // seconds before it that are kept as Event, 0 to mostLead
	Tail   int     `json:"tail"`   // seconds after it, 0 to mostTail
}

// Bounds of a plan.
const (
	MostModes = 4
	mostLead  = 60  // s
	mostTail  = 600 // s
	mostName  = 24  // characters
)

// Days of a week and half hours of a day.
const (
	WeekDays  = 7 // Monday is the first
	HalfHours = 48
)

// Week says for each half hour which of a plan's modes holds, by its place from 0.
type Week [WeekDays][HalfHours]uint8

// MarshalJSON writes a week as seven texts of 48 figures, Monday first, each a mode's place.
func (w Week) MarshalJSON() ([]byte, error) {
	b := []byte{'['}
	for i, day := range w {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, '"')
		for _, m := range day {
			b = append(b, '0'+m%10)
		}
		b = append(b, '"')
	}
	return append(b, ']'), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (w *Week) UnmarshalJSON(data []byte) error {
	var days []string
	if err := json.Unmarshal(data, &days); err != nil {
		return err
	}
	if len(days) != WeekDays {
		return fmt.Errorf("recording: a week of %d days", len(days))
	}
	for i, day := range days {
		if len(day) != HalfHours {
			return fmt.Errorf("recording: a day of %d half hours", len(day))
		}
		for h := range HalfHours {
			if day[h] < '0' || day[h] > '9' {
				return fmt.Errorf("recording: %q is no mode's place", day[h])
			}
			w[i][h] = day[h] - '0'
		}
	}
	return nil
}

// Plan is what a channel is to keep over a week, in the recorder's local time.
type Plan struct {
	Modes []Mode `json:"modes"` // 1 to MostModes
	Week  Week   `json:"week"`
}

// Always is the plan of one mode that holds at all hours.
func Always(m Mode) Plan { return Plan{Modes: []Mode{m}} }

// At is the mode that holds in a half hour of a day (0 is Monday).
func (p Plan) At(day, half int) Mode {
	if n := int(p.Week[day][half]); n < len(p.Modes) {
		return p.Modes[n]
	}
	return Mode{Idle: Nothing, Event: Nothing}
}

// Uses says whether a plan keeps k at any hour that is painted.
func (p Plan) Uses(k Level) bool {
	for i, m := range p.Modes {
		if (m.Idle == k || m.Event == k) && p.painted(i) > 0 {
			return true
		}
	}
	return false
}

// painted counts the half hours of a week in which a mode holds.
func (p Plan) painted(mode int) (n int) {
	for _, day := range p.Week {
		for _, m := range day {
			if int(m) == mode {
				n++
			}
		}
	}
	return n
}

// Equal says whether two plans keep the same at each half hour of the week, whatever their hours are
// called and in which order they stand.
func (p Plan) Equal(q Plan) bool {
	for d := range WeekDays {
		for h := range HalfHours {
			if !p.At(d, h).same(q.At(d, h)) {
				return false
			}
		}
	}
	return true
}

// same says whether two modes answer the two questions alike.
func (m Mode) same(o Mode) bool {
	if m.Idle != o.Idle || len(m.Causes) == 0 && len(o.Causes) == 0 {
		return m.Idle == o.Idle
	}
	return m.Event == o.Event && m.Lead == o.Lead && m.Tail == o.Tail && causesText(m.Causes) == causesText(o.Causes)
}

// Check says what is wrong with a plan, as a sentence; nil: nothing is. Its error is told to people.
func (p Plan) Check() error {
	if len(p.Modes) == 0 || len(p.Modes) > MostModes {
		return trouble.UserError(fmt.Sprintf("A plan has 1 to %d kinds of hours.", MostModes))
	}
	names := map[string]bool{}
	for _, m := range p.Modes {
		switch {
		case !validName(m.Name):
			return trouble.UserError(fmt.Sprintf("Hours are named by up to %d letters, figures and blanks, not %q.", mostName, m.Name))
		case names[strings.ToLower(m.Name)]:
			return trouble.UserError(fmt.Sprintf("%q names two kinds of hours.", m.Name))
		case !slices.Contains(Levels(), m.Idle) || !slices.Contains(Levels(), m.Event):
			return trouble.UserError(m.Name + ": choose what is kept.")
		case m.Lead < 0 || m.Lead > mostLead || m.Tail < 0 || m.Tail > mostTail:
			return trouble.UserError(fmt.Sprintf("%s: 0 to %d s before, and 0 to %d s after.", m.Name, mostLead, mostTail))
		case len(m.Causes) == 0 && m.Event != m.Idle:
			return trouble.UserError(m.Name + ": say what counts as something, or keep the same at all times.")
		case m.Event.detail() < m.Idle.detail():
			return trouble.UserError(fmt.Sprintf("%s: it would keep less when something happens (%s) than when nothing does (%s).", m.Name, m.Event, m.Idle))
		case len(m.Causes) > 0 && m.Event == Nothing:
			return trouble.UserError(m.Name + ": something counts, and nothing would be kept of it.")
		}
		for _, c := range m.Causes {
			if !slices.Contains(Causes(), c) {
				return trouble.UserError(fmt.Sprintf("%s: %q is nothing that can happen.", m.Name, c))
			}
		}
		names[strings.ToLower(m.Name)] = true
	}
	for _, day := range p.Week {
		for _, m := range day {
			if int(m) >= len(p.Modes) {
				return trouble.UserError("Some hours are painted with a kind of hours that isn't in the plan.")
			}
		}
	}
	return nil
}

func validName(name string) bool {
	if name == "" || len(name) > mostName || strings.TrimSpace(name) != name || name[0] >= '0' && name[0] <= '9' {
		return false
	}
	for _, r := range name {
		if !(r == ' ' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z') {
			return false
		}
	}
	return true
}

// String is the canonical text of a mode's answers, without its name.
func (m Mode) String() string {
	if len(m.Causes) == 0 {
		return m.Idle.String() + " at all times"
	}
	says := m.Idle.String() + ", and "
	if m.Event == m.Idle {
		says += "the same"
	} else {
		says += m.Event.String()
	}
	return fmt.Sprintf("%s when %s comes, from %d s before to %d s after", says, causesText(m.Causes), m.Lead, m.Tail)
}

func causesText(all []Cause) string {
	var names []string
	for _, c := range Causes() {
		if slices.Contains(all, c) {
			names = append(names, c.String())
		}
	}
	return strings.Join(names, " or ")
}

// order are the places of the modes that hold at any hour, in the order of their names: it doesn't
// matter in which order they stand in a plan.
func (p Plan) order() (out []int) {
	for i := range p.Modes {
		if p.painted(i) > 0 {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int { return strings.Compare(p.Modes[a].Name, p.Modes[b].Name) })
	return out
}

// String is the canonical text of a plan, what a channel reads. A mode that holds at no hour isn't
// told.
func (p Plan) String() string {
	var parts []string
	for _, i := range p.order() {
		m := p.Modes[i]
		if p.painted(i) == WeekDays*HalfHours {
			return m.Name + ": " + m.String()
		}
		parts = append(parts, m.Name+": "+m.String())
	}
	for first := 0; first < WeekDays; {
		last := first
		for last+1 < WeekDays && p.Week[last+1] == p.Week[first] {
			last++
		}
		days := DayNames[first]
		if last > first {
			days += " to " + DayNames[last]
		}
		parts = append(parts, days+" "+p.Day(first))
		first = last + 1
	}
	return strings.Join(parts, "; ")
}

// Short names the modes that a plan is painted with, in the order of a week: "by night, by day".
func (p Plan) Short() string {
	var names []string
	for _, day := range p.Week {
		for _, n := range day {
			if int(n) < len(p.Modes) && !slices.Contains(names, p.Modes[n].Name) {
				names = append(names, p.Modes[n].Name)
			}
		}
	}
	return strings.Join(names, ", ")
}

// DayNames are the days of a week, Monday first.
var DayNames = [WeekDays]string{"Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"}

// Day is one day of a plan as a person types it: "by night 00:00-05:30, by day 05:30-24:00", or
// the name alone where it holds all day. parseDay reads it.
func (p Plan) Day(day int) string {
	var parts []string
	for from := 0; from < HalfHours; {
		to := from
		for to < HalfHours && p.Week[day][to] == p.Week[day][from] {
			to++
		}
		name := p.At(day, from).Name
		if from == 0 && to == HalfHours {
			return name
		}
		parts = append(parts, fmt.Sprintf("%s %s-%s", name, halfText(from), halfText(to)))
		from = to
	}
	return strings.Join(parts, ", ")
}

func halfText(half int) string { return fmt.Sprintf("%02d:%02d", half/2, half%2*30) }

// errDay is why a day can't be read, without what was typed.
var errDay = errors.New("recording: not a day")

// parseDay reads a day as a person types it, with the names of the modes in their order: each
// part is a name, or a number from 1, and from when to when; a name alone is the whole day. Every
// half hour must be painted, none twice. The error is told to people.
func parseDay(text string, names []string) (day [HalfHours]uint8, err error) {
	var painted [HalfHours]bool
	if len(text) > 2000 {
		return day, trouble.UserError("A day is told in fewer words.")
	}
	if len(names) == 0 {
		return day, trouble.UserError("Say first which kinds of hours there are.")
	}
	for part := range strings.SplitSeq(text, ",") {
		mode, from, to, err := parsePart(strings.TrimSpace(part), names)
		if err != nil {
			return day, trouble.UserError(fmt.Sprintf("%q isn't hours of a day: type one of %s, and from when to when by half hours, as %s 06:00-21:00.",
				shorten(part), strings.Join(names, ", "), names[0]))
		}
		for h := from; h < to; h++ {
			if painted[h] {
				return day, trouble.UserError(fmt.Sprintf("%s is told twice in %q.", halfText(h), shorten(text)))
			}
			painted[h], day[h] = true, mode
		}
	}
	if i := slices.Index(painted[:], false); i >= 0 {
		return day, trouble.UserError(fmt.Sprintf("Nothing is said of %s in %q.", halfText(i), shorten(text)))
	}
	return day, nil
}

func shorten(text string) string {
	if r := []rune(strings.TrimSpace(text)); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return strings.TrimSpace(text)
}

func parsePart(part string, names []string) (mode uint8, from, to int, err error) {
	for i, name := range names {
		rest, ok := cutName(part, name)
		if !ok {
			rest, ok = cutName(part, fmt.Sprint(i+1))
		}
		if !ok {
			continue
		}
		if rest == "" {
			return uint8(i), 0, HalfHours, nil
		}
		a, b, ok := strings.Cut(strings.ReplaceAll(rest, "–", "-"), "-")
		from, okFrom := parseHalf(strings.TrimSpace(a))
		to, okTo := parseHalf(strings.TrimSpace(b))
		if ok && okFrom && okTo && from < to {
			return uint8(i), from, to, nil
		}
	}
	return 0, 0, 0, errDay
}

// cutName takes a name off the front of a part, whatever its case; what follows is parted by a
// blank.
func cutName(part, name string) (rest string, ok bool) {
	if len(part) < len(name) || !strings.EqualFold(part[:len(name)], name) {
		return "", false
	}
	rest = part[len(name):]
	if rest != "" && rest[0] != ' ' {
		return "", false
	}
	return strings.TrimSpace(rest), true
}

func parseHalf(text string) (half int, ok bool) {
	for h := range HalfHours + 1 {
		if text == halfText(h) || h%2 == 0 && (text == fmt.Sprint(h/2) || text == fmt.Sprintf("%02d", h/2)) || text == strings.TrimPrefix(halfText(h), "0") {
			return h, true
		}
	}
	return 0, false
}

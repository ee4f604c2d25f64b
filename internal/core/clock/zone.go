package clock

import (
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"
)

// ErrZone is returned for text that is no POSIX time zone (IEEE Std 1003.1,
// section 8.3, TZ).
var ErrZone = errors.New("not a POSIX time zone")

// maxZone is the longest TZ text read from a device, in bytes.
const maxZone = 128

// Zone is a parsed POSIX TZ value: a standard offset and, where there is one, a
// daylight offset with its two yearly dates. Offsets are east of UTC.
type Zone struct {
	Name       string
	Std        time.Duration
	HasDST     bool
	DSTName    string
	DST        time.Duration
	Start, End Date
}

// Date is a yearly moment: month, week and weekday ('M'), Julian day without leap
// days ('J', 1…365) or with them ('D', 0…365), and a local wall-clock time of
// −167 to 167 hours (RFC 8536, section 3.3.1).
type Date struct {
	Kind                     byte
	Month, Week, Weekday, Nr int
	At                       time.Duration
}

// parseZone reads a POSIX TZ value such as "WET0WEST,M3.5.0/1,M10.5.0". Names are
// three or more letters or <+03>. A daylight name without dates takes
// M3.2.0,M11.1.0, as common libraries do.
func parseZone(text string) (Zone, error) {
	p := &zoneText{rest: text}
	if len(text) > maxZone {
		return Zone{}, fmt.Errorf("%w: longer than %d bytes", ErrZone, maxZone)
	}
	var z Zone
	z.Name = p.name()
	std := p.clock(24, true)
	z.Std = -std
	if p.rest != "" && p.err == nil {
		z.HasDST = true
		z.DSTName = p.name()
		z.DST = z.Std + time.Hour
		if p.rest != "" && p.rest[0] != ',' {
			z.DST = -p.clock(24, true)
		}
		z.Start, z.End = Date{'M', 3, 2, 0, 0, 2 * time.Hour}, Date{'M', 11, 1, 0, 0, 2 * time.Hour}
		if p.rest != "" && p.err == nil {
			p.eat(',')
			z.Start = p.date()
			p.eat(',')
			z.End = p.date()
		}
	}
	if p.err == nil && p.rest != "" {
		p.err = ErrZone
	}
	if p.err != nil {
		return Zone{}, fmt.Errorf("%w: %q", ErrZone, text)
	}
	return z, nil
}

type zoneText struct {
	rest string
	err  error
}

func (p *zoneText) fail() { p.err = ErrZone }

func (p *zoneText) eat(c byte) bool {
	if p.err == nil && p.rest != "" && p.rest[0] == c {
		p.rest = p.rest[1:]
		return true
	}
	p.fail()
	return false
}

func (p *zoneText) name() string {
	if p.err != nil || p.rest == "" {
		p.fail()
		return ""
	}
	if p.rest[0] == '<' {
		end := strings.IndexByte(p.rest, '>')
		if end < 4 {
			p.fail()
			return ""
		}
		name := p.rest[1:end]
		for i := range len(name) {
			if !letter(name[i]) && !digit(name[i]) && name[i] != '+' && name[i] != '-' {
				p.fail()
				return ""
			}
		}
		p.rest = p.rest[end+1:]
		return name
	}
	n := 0
	for n < len(p.rest) && letter(p.rest[n]) {
		n++
	}
	if n < 3 {
		p.fail()
		return ""
	}
	name := p.rest[:n]
	p.rest = p.rest[n:]
	return name
}

func letter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }
func digit(c byte) bool  { return c >= '0' && c <= '9' }

func (p *zoneText) number(most int) int {
	n, digits := 0, 0
	for digits < len(p.rest) && digits < 3 && digit(p.rest[digits]) {
		n = n*10 + int(p.rest[digits]-'0')
		digits++
	}
	if p.err != nil || digits == 0 || n > most {
		p.fail()
		return 0
	}
	p.rest = p.rest[digits:]
	return n
}

// clock reads [+|-]hh[:mm[:ss]].
func (p *zoneText) clock(hours int, signed bool) time.Duration {
	sign := time.Duration(1)
	if signed && p.rest != "" && (p.rest[0] == '-' || p.rest[0] == '+') {
		if p.rest[0] == '-' {
			sign = -1
		}
		p.rest = p.rest[1:]
	}
	d := time.Duration(p.number(hours)) * time.Hour
	for _, unit := range []time.Duration{time.Minute, time.Second} {
		if p.err != nil || p.rest == "" || p.rest[0] != ':' {
			break
		}
		p.rest = p.rest[1:]
		d += time.Duration(p.number(59)) * unit
	}
	return sign * d
}

func (p *zoneText) date() Date {
	d := Date{At: 2 * time.Hour}
	switch {
	case p.err != nil || p.rest == "":
		p.fail()
	case p.rest[0] == 'M':
		p.rest = p.rest[1:]
		d.Kind = 'M'
		d.Month = p.number(12)
		p.eat('.')
		d.Week = p.number(5)
		p.eat('.')
		d.Weekday = p.number(6)
		if d.Month < 1 || d.Week < 1 {
			p.fail()
		}
	case p.rest[0] == 'J':
		p.rest = p.rest[1:]
		d.Kind, d.Nr = 'J', p.number(365)
		if d.Nr < 1 {
			p.fail()
		}
	default:
		d.Kind, d.Nr = 'D', p.number(365)
	}
	if p.err == nil && p.rest != "" && p.rest[0] == '/' {
		p.rest = p.rest[1:]
		d.At = p.clock(167, true)
	}
	return d
}

// in gives the moment of d in a year as local wall-clock time, held in UTC.
func (d Date) in(year int) time.Time {
	var day time.Time
	switch d.Kind {
	case 'M':
		first := time.Date(year, time.Month(d.Month), 1, 0, 0, 0, 0, time.UTC)
		shift := (d.Weekday - int(first.Weekday()) + 7) % 7
		day = first.AddDate(0, 0, shift+7*(d.Week-1))
		if day.Month() != time.Month(d.Month) {
			day = day.AddDate(0, 0, -7)
		}
	case 'J':
		day = time.Date(year, 1, d.Nr, 0, 0, 0, 0, time.UTC)
		leap := time.Date(year, 2, 29, 0, 0, 0, 0, time.UTC).Month() == time.February
		if leap && d.Nr >= 60 {
			day = day.AddDate(0, 0, 1)
		}
	default:
		day = time.Date(year, 1, 1+d.Nr, 0, 0, 0, 0, time.UTC)
	}
	return day.Add(d.At)
}

// Transition is a moment (UTC) from which Offset holds, east of UTC.
type Transition struct {
	At     time.Time
	Offset time.Duration
}

// Transitions lists what z changes between from and to, in order.
func (z Zone) Transitions(from, to time.Time) []Transition {
	if !z.HasDST {
		return nil
	}
	var all []Transition
	for year := from.UTC().Year() - 1; year <= to.UTC().Year()+1; year++ {
		all = append(all,
			Transition{z.Start.in(year).Add(-z.Std), z.DST},
			Transition{z.End.in(year).Add(-z.DST), z.Std})
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].At.Before(all[j].At) })
	var out []Transition
	for _, t := range all {
		if t.At.After(from) && !t.At.After(to) {
			out = append(out, t)
		}
	}
	return out
}

// Offset is z's offset east of UTC at a moment.
func (z Zone) Offset(at time.Time) time.Duration {
	if !z.HasDST {
		return z.Std
	}
	past := z.Transitions(at.AddDate(-2, 0, 0), at)
	if len(past) == 0 {
		return z.Std
	}
	return past[len(past)-1].Offset
}

// sameZone says whether two zones keep the same local time over the two years from
// now. Names don't matter; what they do does.
func sameZone(a, b Zone, now time.Time) bool {
	if a.Name, a.DSTName, b.Name, b.DSTName = "", "", "", ""; a == b {
		return true
	}
	if a.Offset(now) != b.Offset(now) {
		return false
	}
	end := now.AddDate(2, 0, 0)
	ta, tb := effective(a, now, end), effective(b, now, end)
	if len(ta) != len(tb) {
		return false
	}
	for i := range ta {
		if !ta[i].At.Equal(tb[i].At) || ta[i].Offset != tb[i].Offset {
			return false
		}
	}
	return true
}

// SameZone says whether a reading keeps the same local time over the two years from now as
// a zone and its daylight switch, however the device spells it.
func (r Reading) SameZone(zone string, daylight bool, now time.Time) bool {
	have, err := parseZone(r.Zone)
	want, err2 := parseZone(zone)
	if err != nil || err2 != nil {
		return r.Zone == zone && r.Daylight == daylight
	}
	if !r.Daylight {
		have = have.WithoutDaylight()
	}
	if !daylight {
		want = want.WithoutDaylight()
	}
	return sameZone(have, want, now)
}

// effective drops transitions that change nothing: those to the offset that held before, and
// those that another follows at the same moment, as where daylight saving lasts all year
// ("EST5EDT,0/0,J365/25", RFC 8536, section 3.3.1).
func effective(z Zone, from, to time.Time) []Transition {
	last := z.Offset(from)
	var out []Transition
	all := z.Transitions(from, to)
	for i, t := range all {
		if i+1 < len(all) && all[i+1].At.Equal(t.At) {
			continue
		}
		if t.Offset != last {
			out = append(out, t)
			last = t.Offset
		}
	}
	return out
}

// WithoutDaylight is z as a device keeps it whose daylight switch is off.
func (z Zone) WithoutDaylight() Zone {
	return Zone{Name: z.Name, Std: z.Std}
}

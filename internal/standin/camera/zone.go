package camera

import (
	"regexp"
	"time"
)

var posix = regexp.MustCompile(`^([A-Za-z]{3,}|<[-+A-Za-z0-9]{3,}>)([-+]?[0-9:]+)(([A-Za-z]{3,}|<[-+A-Za-z0-9]{3,}>)[-+0-9:]*(,[MJ0-9./:+-]+,[MJ0-9./:+-]+)?)?$`)

func zoneLooksRight(z string) bool { return posix.MatchString(z) }

// localAhead is the camera's local time − UTC. This make's firmware knows one
// daylight calendar, the last Sundays of March and October at 01:00 UTC.
func localAhead(m memory, utc time.Time) time.Duration {
	parts := posix.FindStringSubmatch(m.Zone)
	if parts == nil {
		return 0
	}
	t, err := time.Parse("15", padHour(parts[2]))
	std := time.Duration(0)
	if err == nil {
		std = -time.Duration(t.Hour()) * time.Hour
		if parts[2][0] == '-' {
			std = -std
		}
	}
	if !m.Daylight || parts[3] == "" {
		return std
	}
	if utc.Before(lastSunday(utc.Year(), time.March)) || !utc.Before(lastSunday(utc.Year(), time.October)) {
		return std
	}
	return std + time.Hour
}

func padHour(s string) string {
	for s != "" && (s[0] == '-' || s[0] == '+') {
		s = s[1:]
	}
	if len(s) == 1 {
		return "0" + s
	}
	return s
}

func lastSunday(year int, month time.Month) time.Time {
	last := time.Date(year, month+1, 0, 1, 0, 0, 0, time.UTC)
	return last.AddDate(0, 0, -int(last.Weekday()))
}

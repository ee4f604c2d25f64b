// Package localtime is how the stand-ins' firmware reckons local time: by one daylight calendar, the last
// Sundays of March and October at 01:00 UTC, which is Lisbon's.
package localtime

import (
	"regexp"
	"strings"
	"time"
)

var posix = regexp.MustCompile(`^([A-Za-z]{3,}|<[-+A-Za-z0-9]{3,}>)([-+]?[0-9:]+)(([A-Za-z]{3,}|<[-+A-Za-z0-9]{3,}>)[-+0-9:]*(,[MJ0-9./:+-]+,[MJ0-9./:+-]+)?)?$`)

// LooksRight says whether a text has the form of a zone rule (POSIX.1, section 8.3, TZ).
func LooksRight(zone string) bool { return posix.MatchString(zone) }

// Ahead is local time − UTC by a zone rule, in whole hours; 0 where it is none. Without daylight it is
// standard time all the year.
func Ahead(zone string, daylight bool, utc time.Time) time.Duration {
	parts := posix.FindStringSubmatch(zone)
	if parts == nil {
		return 0
	}
	hour := strings.TrimLeft(parts[2], "+-")
	if len(hour) == 1 {
		hour = "0" + hour
	}
	std := time.Duration(0)
	if t, err := time.Parse("15", hour); err == nil {
		std = -time.Duration(t.Hour()) * time.Hour
		if parts[2][0] == '-' {
			std = -std
		}
	}
	if !daylight || parts[3] == "" {
		return std
	}
	if utc.Before(lastSunday(utc.Year(), time.March)) || !utc.Before(lastSunday(utc.Year(), time.October)) {
		return std
	}
	return std + time.Hour
}

func lastSunday(year int, month time.Month) time.Time {
	last := time.Date(year, month+1, 0, 1, 0, 0, 0, time.UTC)
	return last.AddDate(0, 0, -int(last.Weekday()))
}

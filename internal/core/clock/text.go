package clock

import (
	"fmt"
	"math"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
)

// Order is the order of day, month and year that a date format of ONVIF (tt:DateFormat,
// such as "MM/dd/yyyy" or "dddd, MMMM dd, yyyy") writes: "dmy", "mdy" or "ymd"; empty
// where it isn't one of these.
func Order(format string) string {
	var out []byte
	for i := 0; i < len(format); i++ {
		var c byte
		switch format[i] {
		case 'd':
			if strings.HasPrefix(format[i:], "ddd") { // a weekday's name
				for i < len(format) && format[i] == 'd' {
					i++
				}
				i--
				continue
			}
			c = 'd'
		case 'M':
			c = 'm'
		case 'y':
			c = 'y'
		default:
			continue
		}
		for i+1 < len(format) && format[i+1] == format[i] {
			i++
		}
		out = append(out, c)
	}
	switch o := string(out); o {
	case "dmy", "mdy", "ymd":
		return o
	}
	return ""
}

// Hours says whether a time format of ONVIF (tt:TimeFormat) counts to 12 or to 24; 0
// where it says neither.
func Hours(format string) int {
	switch {
	case strings.Contains(format, "H"):
		return 24
	case strings.Contains(format, "h"):
		return 12
	}
	return 0
}

var orderNames = map[string]string{"dmy": "day-month-year", "mdy": "month-day-year", "ymd": "year-month-day"}

// textDiffers says how the text burned in differs from the recorder's, in words.
func textDiffers(f Facts) string {
	var parts []string
	have, want := Order(f.Camera.Dates), Order(f.Reference.Dates)
	if have != "" && want != "" && have != want {
		parts = append(parts, fmt.Sprintf("%s where %s writes %s", orderNames[have], f.Reference.Name, orderNames[want]))
	}
	if a, b := Hours(f.Camera.Times), Hours(f.Reference.Times); a != 0 && b != 0 && a != b {
		parts = append(parts, fmt.Sprintf("%d hours where %s counts %d", a, f.Reference.Name, b))
	}
	return strings.Join(parts, ", and ")
}

func judgeText(f Facts) (finding.Finding, bool) {
	says := textDiffers(f)
	if says == "" {
		return finding.Finding{}, false
	}
	return finding.Finding{Code: "clock.text", Severity: finding.Needs, Words: "date order",
		Sentence: "It burns the time into its picture as " + says + ": the two are misread for each other.",
		WayOut:   "Write the recorder's order into the camera.",
		Evidence: []finding.Evidence{{Name: "Burned in", Value: TextText(f.Camera.Dates, f.Camera.Times),
			Via: "GetOSDs", At: f.Camera.At}}}, true
}

// TextText is the canonical text of a date and time format.
func TextText(dates, times string) string { return strings.TrimSpace(dates + " " + times) }

// textFor proposes the recorder's format.
func textFor(f Facts) (finding.Change, bool) {
	if textDiffers(f) == "" {
		return finding.Change{}, false
	}
	c, r := f.Camera, f.Reference
	dates, times := c.Dates, c.Times
	if Order(r.Dates) != "" {
		dates = r.Dates
	}
	if Hours(r.Times) != 0 {
		times = r.Times
	}
	return finding.Change{Kind: SetText, Key: SetText, Title: "Date burned in", From: TextText(c.Dates, c.Times),
		To: TextText(dates, times), Why: "It is read as " + r.Name + " writes it.", Risk: finding.NoRisk,
		Undo: finding.Undo{Kind: finding.Reversible,
			Note: "Burn it in as before."}, Args: map[string]string{"dates": dates, "times": times, "old_dates": c.Dates, "old_times": c.Times}}, true
}

// JudgeRecorder judges a recorder's own clock against true time, which is this server's, and its
// zone against the site's, where it says what it keeps. zone is POSIX TZ; empty: not judged.
func JudgeRecorder(now time.Time, r Reading, name, zone string) []finding.Finding {
	var out []finding.Finding
	ev := []finding.Evidence{{Name: "Offset", Value: r.Offset.String(), Via: "GET /api/status", At: r.At}}
	if band := BandOf(r.Offset, 0); band != InStep {
		sev := finding.Needs
		if band == Refused {
			sev = finding.Blocks
		}
		way := "ahead of"
		if r.Offset.Mid() < 0 {
			way = "behind"
		}
		out = append(out, finding.Finding{Code: "clock.recorder", Severity: sev, Words: Brief(r.Offset.Mid()), Evidence: ev,
			Sentence: fmt.Sprintf("%s is %s %s true time%s: every camera that follows it is wrong with it, and what it recorded carries the wrong time.",
				upper(name), Length(r.Offset.Mid()), way, ownBecause(r)),
			WayOut: "Set its clock; the cameras that follow it come after."})
	}
	if d := r.Drift; d != nil && d.Sure() {
		f := finding.Finding{Code: "clock.recorder-drift", Severity: finding.Note, Words: "drifts", Evidence: ev,
			Sentence: fmt.Sprintf("%s drifts by %s (%.1f s a day) over %d readings, and what follows it drifts with it.", upper(name), d, math.Abs(d.PPM)*0.0864, d.N),
			WayOut:   "Let it take its time from a time server, on its own screen."}
		if leaves := d.Leaves(now, r.Offset.Mid(), UsableWithin); !leaves.IsZero() {
			f.Sentence += fmt.Sprintf(" It leaves what is usable on %s UTC.", leaves.UTC().Format("2006-01-02 at 15:04"))
			if leaves.Sub(now) < soon {
				f.Severity = finding.Needs
			}
		}
		out = append(out, f)
	}
	want, err := parseZone(zone)
	if have, herr := parseZone(r.Zone); err == nil && zone != "" && herr == nil && r.Zone != "" && !sameZone(have, want, now) {
		out = append(out, finding.Finding{Code: "clock.recorder-zone", Severity: finding.Needs, Words: "zone",
			Sentence: fmt.Sprintf("%s keeps %s now and the site %s, or changes its clocks on other days: its recordings are found under other times than the pictures show.",
				upper(name), eastOf(have.Offset(now)), eastOf(want.Offset(now))),
			WayOut:   "Give it the site's zone rule on its own screen: " + zone + ".",
			Evidence: []finding.Evidence{{Name: "Zone", Value: r.Zone, Via: "GET /api/status", At: r.At}}})
	}
	finding.Sort(out)
	return out
}

// ownBecause words the likely cause of a recorder's offset.
func ownBecause(r Reading) string {
	switch c := CauseOf(Reading{}, r.Offset); c {
	case NeverSet, WrongZone:
		return " (" + strings.TrimPrefix(becauseOf(c, r.Offset), ". ") + ")"
	}
	return ""
}

// SetRecorder is the change kind that sets a recorder's clock once.
const SetRecorder = "clock.recorder"

// ProposeRecorder sets a recorder's clock where it is out of step.
func ProposeRecorder(r Reading) []finding.Change {
	if BandOf(r.Offset, 0) == InStep {
		return nil
	}
	return []finding.Change{{Kind: SetRecorder, Key: SetRecorder, Title: "Recorder's clock",
		From: "off by " + Brief(r.Offset.Mid()), To: inStepText,
		Why: "Cameras follow it, and it stamps what it records.", Risk: finding.Gap, Undo: finding.Undo{Kind: finding.Irreversible, Note: "A wrong time isn't worth putting back."}}}
}

// inStepText is what a clock reads that was set.
const inStepText = "in step with this server"

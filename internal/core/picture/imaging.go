package picture

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
)

// Imaging is how the camera takes its pictures. What is empty isn't told.
type Imaging struct {
	DayNight   string   `json:"day_night,omitempty"` // of the filter of infrared light: "ON", "OFF", "AUTO"
	DayNights  []string `json:"day_nights,omitempty"`
	Exposure   string   `json:"exposure,omitempty"` // "AUTO", "MANUAL"
	Exposures  []string `json:"exposures,omitempty"`
	Time       float64  `json:"time,omitempty"` // of exposure, in µs, where it is by hand
	Times      Range    `json:"times,omitzero"`
	Brightness *float64 `json:"brightness,omitempty"`
	Brights    Range    `json:"brights,omitzero"`
	Focusing   string   `json:"focusing,omitempty"` // "AUTO", "MANUAL"
	Focusings  []string `json:"focusings,omitempty"`
	Focus      *float64 `json:"focus,omitempty"` // in its own units; see Focuses
	Focuses    Range    `json:"focuses,omitzero"`
}

func judgeImaging(i Imaging) (out []finding.Finding) {
	note := func(code, words, sentence, way string) {
		out = append(out, finding.Finding{Code: code, Severity: finding.Note, Words: words, Sentence: sentence, WayOut: way})
	}
	switch i.DayNight {
	case "ON":
		note("view.day-night", "held on day", "Its infrared filter stays in by night: its picture will be dark.", "Let it switch by itself, in its sheet, unless its place is lit all night.")
	case "OFF":
		note("view.day-night", "held on night", "Its infrared filter stays out by day: its picture has no true colours.", "Let it switch by itself, in its sheet, unless that is meant.")
	}
	if i.Exposure == "MANUAL" {
		note("view.exposure", "exposure by hand", fmt.Sprintf("Its exposure is held at %s: what is right by day is wrong by night.", micros(i.Time)), "Let it expose by itself, in its sheet, unless its light never changes.")
	}
	return out
}

// micros words an exposure time given in µs.
func micros(us float64) string {
	switch {
	case us <= 0:
		return "a time that it doesn't tell"
	case us < 1e6:
		return fmt.Sprintf("1/%.0f s", math.Round(1e6/us))
	}
	return fmt.Sprintf("%.1f s", us/1e6)
}

// Property is one property of Imaging.
type Property string

const (
	DayNight   Property = "day and night"
	Exposure   Property = "exposure"
	ExposeFor  Property = "exposure time"
	Brightness Property = "brightness"
	Focusing   Property = "focusing"
	Focus      Property = "focus"
)

// Properties lists those that a camera tells, with what each can be.
func (i Imaging) Properties() (out []Choice) {
	words := func(p Property, now string, all []string) {
		if now != "" && len(all) > 0 {
			out = append(out, Choice{Property: p, Now: now, Words: all})
		}
	}
	number := func(p Property, now *float64, r Range) {
		if now != nil && r.Known() {
			out = append(out, Choice{Property: p, Now: strconv.FormatFloat(*now, 'g', 6, 64), Range: r})
		}
	}
	words(DayNight, i.DayNight, i.DayNights)
	words(Exposure, i.Exposure, i.Exposures)
	if i.Exposure == "MANUAL" {
		number(ExposeFor, &i.Time, i.Times)
	}
	number(Brightness, i.Brightness, i.Brights)
	words(Focusing, i.Focusing, i.Focusings)
	if i.Focusing != "AUTO" {
		number(Focus, i.Focus, i.Focuses)
	}
	return out
}

// Choice is one property with what it is now and what it can be: words, or a number in a range.
type Choice struct {
	Property Property
	Now      string
	Words    []string
	Range    Range
}

// Says words a value of it.
func (c Choice) Says(value string) string { return Says(c.Property, value) }

// Says words a value of a property.
func Says(p Property, value string) string {
	switch {
	case p == DayNight:
		return map[string]string{"ON": "as by day", "OFF": "as by night", "AUTO": "switches by itself"}[value]
	case value == "AUTO":
		return "by itself"
	case value == "MANUAL":
		return "by hand"
	}
	v, err := strconv.ParseFloat(value, 64)
	if err != nil {
		return value
	}
	if p == ExposeFor {
		return micros(v)
	}
	return strconv.FormatFloat(v, 'g', 3, 64)
}

// Value is a property as it is now; ok is false where it isn't told.
func (i Imaging) Value(p Property) (string, bool) {
	for _, c := range i.Properties() {
		if c.Property == p {
			return c.Now, true
		}
	}
	return "", false
}

// By how much cameras bring a value to one of their own: a part of it, and at the least so much.
const (
	valueShare = 0.01
	valueLeast = 0.0005
)

// SameValue says whether two values of a property are the same, as well as cameras keep them.
func SameValue(a, b string) bool {
	x, err := strconv.ParseFloat(a, 64)
	y, err2 := strconv.ParseFloat(b, 64)
	if err != nil || err2 != nil {
		return a == b
	}
	return math.Abs(x-y) <= math.Max(valueShare*math.Max(math.Abs(x), math.Abs(y)), valueLeast)
}

// Set is the change that sets a property.
func (s Setup) Set(p Property, value string) (finding.Change, error) {
	if s.Imaging == nil {
		return finding.Change{}, trouble.UserError("It doesn't tell how it takes its pictures.")
	}
	all := s.Imaging.Properties()
	i := slices.IndexFunc(all, func(c Choice) bool { return c.Property == p })
	if i < 0 {
		return finding.Change{}, trouble.UserError(fmt.Sprintf("Its %s can't be set now.", p))
	}
	c := all[i]
	if c.Range.Known() {
		v, err := strconv.ParseFloat(strings.Replace(strings.TrimSpace(value), ",", ".", 1), 64)
		if err != nil || !c.Range.Holds(v) {
			return finding.Change{}, trouble.UserError(fmt.Sprintf("Its %s goes from %g to %g.", p, c.Range.Min, c.Range.Max))
		}
		value = strconv.FormatFloat(v, 'g', 6, 64)
	} else if !slices.Contains(c.Words, value) {
		return finding.Change{}, trouble.UserError(fmt.Sprintf("Its %s can't be that.", p))
	}
	if SameValue(value, c.Now) {
		return finding.Change{}, trouble.UserError(fmt.Sprintf("Its %s is so already.", p))
	}
	return finding.Change{Kind: SetImaging, Key: SetImaging + "/" + s.Source + "/" + string(p), Title: "Its " + string(p), From: c.Says(c.Now), To: c.Says(value),
		Why: "Asked for.", Risk: finding.NoRisk, Args: map[string]string{"source": s.Source, "property": string(p), "value": value, "old_value": c.Now},
		Undo: finding.Undo{Kind: finding.Reversible, Note: "set it as it was."}}, nil
}

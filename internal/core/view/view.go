// Package view judges how a view's picture is made and what lies over it: the text that is
// burned in, the privacy masks, how the camera takes its pictures (ONVIF Imaging) and where it
// is turned (ONVIF PTZ).
package view

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
)

// Setup is what a device tells of one of its views. A part that is nil isn't told.
type Setup struct {
	Config  string   `json:"config"` // token of its VideoSourceConfiguration
	Source  string   `json:"source"` // token of its video source
	Texts   *Texts   `json:"texts,omitempty"`
	Masks   *Masks   `json:"masks,omitempty"`
	Imaging *Imaging `json:"imaging,omitempty"`
	PTZ     *PTZ     `json:"ptz,omitempty"`
}

// Texts is what is burned into the picture.
type Texts struct {
	All     []Text   `json:"all"`
	Most    int      `json:"most"`    // how many there may be; 0: not told
	Corners []string `json:"corners"` // where one may stand
	Plain   bool     `json:"plain"`   // words of one's own may be burned in
}

// Text is one of them.
type Text struct {
	Token  string `json:"token"`
	Kind   Kind   `json:"kind"`
	Words  string `json:"words,omitempty"`
	Dates  string `json:"dates,omitempty"` // tt:DateFormat, of a Time
	Times  string `json:"times,omitempty"` // tt:TimeFormat
	Corner string `json:"corner"`          // tt:OSDPosConfiguration's type: "UpperLeft"
}

// Kind says what a text tells.
type Kind string

const (
	Name Kind = "name" // words: tt:OSDTextConfiguration "Plain"
	Time Kind = "time" // "Date", "Time", "DateAndTime"
)

// MaxName is how many characters of a name are burned in at most.
const MaxName = 64

// Masks are the parts of the picture that are hidden.
type Masks struct {
	All       []Mask `json:"all"`
	Most      int    `json:"most"`      // how many there may be; 0: not told
	Corners   int    `json:"corners"`   // how many one may have; 0: not told
	Rectangle bool   `json:"rectangle"` // nothing but rectangles
}

// Mask is one of them, in ONVIF's normalised frame: −1 to 1, y up.
type Mask struct {
	Token string        `json:"token,omitempty"`
	Area  scene.Polygon `json:"area"`
	On    bool          `json:"on"`
}

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

// Range is from the least to the most; both 0: there is none.
type Range struct {
	Min float64 `json:"min"`
	Max float64 `json:"max"`
}

// Known says whether there is one.
func (r Range) Known() bool { return r.Min < r.Max }

// Holds says whether v is in it.
func (r Range) Holds(v float64) bool { return v >= r.Min && v <= r.Max }

// PTZ is where the camera is turned.
type PTZ struct {
	Profile string   `json:"profile"` // by which it is moved
	At      *Aim     `json:"at"`      // nil: it doesn't tell where it looks
	Pans    Range    `json:"pans"`    // in the generic position spaces; unknown: it can't be sent to a place
	Tilts   Range    `json:"tilts"`
	Zooms   Range    `json:"zooms"`
	Presets []Preset `json:"presets"`
	Most    int      `json:"most"` // presets
}

// Axes names the axes on which it can be sent to a place.
func (p PTZ) Axes() (out []Axis) {
	for _, a := range []Axis{Pan, Tilt, Zoom} {
		if p.rangeOf(a).Known() {
			out = append(out, a)
		}
	}
	return out
}

func (p PTZ) rangeOf(a Axis) Range {
	return map[Axis]Range{Pan: p.Pans, Tilt: p.Tilts, Zoom: p.Zooms}[a]
}

// Limits words how far each axis goes.
func (p PTZ) Limits() string {
	var parts []string
	for _, a := range p.Axes() {
		r := p.rangeOf(a)
		parts = append(parts, fmt.Sprintf("%s %s to %s", a, figure(r.Min), figure(r.Max)))
	}
	if p.Most > 0 {
		parts = append(parts, fmt.Sprintf("%d presets at the most", p.Most))
	}
	return strings.Join(parts, ", ")
}

// Axis is one way in which a camera is moved.
type Axis string

const (
	Pan  Axis = "pan"
	Tilt Axis = "tilt"
	Zoom Axis = "zoom"
)

// Aim is where a camera looks, in ONVIF's generic position spaces: pan and tilt −1 to 1, right
// and up positive, zoom 0 to 1.
type Aim struct {
	Pan  float64 `json:"pan"`
	Tilt float64 `json:"tilt"`
	Zoom float64 `json:"zoom"`
}

// Near says whether two aims are the same, as well as cameras keep and tell them.
func (a Aim) Near(b Aim) bool {
	const near = 0.005
	return math.Abs(a.Pan-b.Pan) <= near && math.Abs(a.Tilt-b.Tilt) <= near && math.Abs(a.Zoom-b.Zoom) <= near
}

// Text words an aim.
func (a Aim) Text() string {
	return fmt.Sprintf("pan %s, tilt %s, zoom %s", figure(a.Pan), figure(a.Tilt), figure(a.Zoom))
}

// figure writes a number with two digits, never −0.00.
func figure(v float64) string {
	s := fmt.Sprintf("%.2f", v)
	if s == "-0.00" {
		return "0.00"
	}
	return strings.Replace(s, "-", "−", 1)
}

// Preset is an aim that a camera remembers.
type Preset struct {
	Token string `json:"token"`
	Name  string `json:"name"`
	At    *Aim   `json:"at,omitempty"` // nil: it doesn't tell
}

// Tried is how a camera moved when each axis was nudged.
type Tried struct {
	At   time.Time `json:"at"`
	Axes []Nudge   `json:"axes"`
}

// Text words how each axis moved.
func (t Tried) Text() string {
	parts := make([]string, len(t.Axes))
	for i, n := range t.Axes {
		switch {
		case !n.Back:
			parts[i] = string(n.Axis) + " didn't come back"
		case n.Moved:
			parts[i] = string(n.Axis) + " moved and came back"
		default:
			parts[i] = string(n.Axis) + " didn't move the picture"
		}
	}
	return strings.Join(parts, ", ")
}

// Nudge is one axis's.
type Nudge struct {
	Axis  Axis `json:"axis"`
	Moved bool `json:"moved"` // the picture did
	Back  bool `json:"back"`  // it looks again where it did
}

// NudgeBy is how far an axis is moved to try it, in its generic position space.
const NudgeBy = 0.1

// Nudged is the aim to which an axis is nudged: away from the end that is near.
func (p PTZ) Nudged(from Aim, a Axis) Aim {
	r, v := p.rangeOf(a), map[Axis]*float64{Pan: &from.Pan, Tilt: &from.Tilt, Zoom: &from.Zoom}[a]
	by := math.Min(NudgeBy, (r.Max-r.Min)/2)
	if *v+by > r.Max {
		by = -by
	}
	*v += by
	return from
}

// Stands is the likeness below which two stills say that the view moved between them; see
// stream.Print.
const Stands = 0.9

// Wishes is what a view is held against.
type Wishes struct {
	Place    string
	Recorder string   // that holds it, or is planned
	Burns    []string // what the recorder burns in itself: "name", "time"
	Dates    string   // how it writes dates, as tt:DateFormat; empty: not told
	Times    string
	Tried    *Tried // nil: nobody tried its movement
}

// Judge says what of the text, the masks and the movement needs a person.
func Judge(s Setup, w Wishes) (out []finding.Finding) {
	if s.Texts != nil {
		out = append(out, judgeTexts(*s.Texts, w)...)
	}
	if s.Masks != nil {
		for i, m := range s.Masks.All {
			if !m.On {
				out = append(out, finding.Finding{Code: "view.mask-off", Severity: finding.Note, Words: "mask off",
					Sentence: fmt.Sprintf("Mask %d of its picture is switched off: what it is to hide is seen.", i+1),
					WayOut:   "See whether it is to hide that; draw the masks anew in its sheet."})
			}
		}
	}
	if s.Imaging != nil {
		out = append(out, judgeImaging(*s.Imaging)...)
	}
	if s.PTZ != nil {
		out = append(out, judgePTZ(*s.PTZ, w)...)
	}
	return out
}

func judgeTexts(t Texts, w Wishes) (out []finding.Finding) {
	names, times := t.of(Name), t.of(Time)
	if len(names) == 1 && !sameName(names[0].Words, w.Place) {
		out = append(out, finding.Finding{Code: "view.name", Severity: finding.Needs, Words: "other name",
			Sentence: fmt.Sprintf("Its picture says “%s”, and this is %s.", names[0].Words, w.Place),
			WayOut:   "Burn in the name that it has here, as is proposed."})
	}
	twice := func(what, how string) {
		out = append(out, finding.Finding{Code: "view.twice", Severity: finding.Needs, Words: what + " twice",
			Sentence: fmt.Sprintf("The %s stands in its picture twice: %s.", what, how), WayOut: "Take one of them out, as is proposed."})
	}
	for _, of := range []struct {
		kind Kind
		has  []Text
	}{{Name, names}, {Time, times}} {
		switch {
		case len(of.has) > 1 && of.kind == Time || distinctTwice(of.has):
			twice(string(of.kind), fmt.Sprintf("the camera burns it in %d times", len(of.has)))
		case len(of.has) > 0 && slices.Contains(w.Burns, string(of.kind)):
			twice(string(of.kind), "the camera burns it in, and so does "+w.Recorder)
		}
	}
	return out
}

// distinctTwice says whether the same words stand more than once.
func distinctTwice(all []Text) bool {
	for i, t := range all {
		if slices.ContainsFunc(all[:i], func(o Text) bool { return sameName(o.Words, t.Words) }) {
			return true
		}
	}
	return false
}

func sameName(a, b string) bool {
	return strings.EqualFold(strings.Join(strings.Fields(a), " "), strings.Join(strings.Fields(b), " "))
}

func (t Texts) of(k Kind) (out []Text) {
	for _, x := range t.All {
		if x.Kind == k {
			out = append(out, x)
		}
	}
	return out
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

func judgePTZ(p PTZ, w Wishes) (out []finding.Finding) {
	if w.Tried == nil {
		if len(p.Axes()) > 0 && p.At != nil {
			out = append(out, finding.Finding{Code: "view.untried", Severity: finding.Note, Words: "not moved yet",
				Sentence: "It can be turned (" + axesText(p.Axes()) + "), and nobody tried that from here.",
				WayOut:   "Nudge it in its sheet: each axis is moved a little, seen to move, and put back."})
		}
		return out
	}
	for _, n := range w.Tried.Axes {
		switch {
		case !n.Back:
			out = append(out, finding.Finding{Code: "view.left", Severity: finding.Needs, Words: "left turned",
				Sentence: fmt.Sprintf("Its %s was nudged and didn't come back to where it was.", n.Axis),
				WayOut:   "Send it back by a preset or on its own page, and nudge it again."})
		case !n.Moved:
			out = append(out, finding.Finding{Code: "view.stuck", Severity: finding.Needs, Words: string(n.Axis) + " stuck",
				Sentence: fmt.Sprintf("Its %s was nudged: it says that it moved, and its picture stayed.", n.Axis),
				WayOut:   "See on the spot whether something holds it; nudge it again."})
		}
	}
	return out
}

func axesText(all []Axis) string {
	parts := make([]string, len(all))
	for i, a := range all {
		parts[i] = string(a)
	}
	return strings.Join(parts, ", ")
}

package picture

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
)

// PTZ is where the camera is turned.
type PTZ struct {
	Profile string `json:"profile"`          // by which it is moved
	Config  string `json:"config,omitempty"` // token of that profile's PTZConfiguration
	At      *Aim   `json:"at"`               // nil: it doesn't tell where it looks
	Pans    Range  `json:"pans"`             // in the generic position spaces; unknown: it can't be sent to a place
	Tilts   Range  `json:"tilts"`
	Zooms   Range  `json:"zooms"`
	// In the generic velocity spaces, and in the translation space that goes by what it sees; unknown: it isn't moved so.
	PanSpeeds  Range    `json:"pan_speeds,omitzero"`
	TiltSpeeds Range    `json:"tilt_speeds,omitzero"`
	ZoomSpeeds Range    `json:"zoom_speeds,omitzero"`
	AcrossX    Range    `json:"across_x,omitzero"`
	AcrossY    Range    `json:"across_y,omitzero"`
	Presets    []Preset `json:"presets"`
	Most       int      `json:"most"` // presets
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

// nudgeBy is how far an axis is moved to try it, in its generic position space.
const nudgeBy = 0.1

// Nudged is the aim to which an axis is nudged: away from the end that is near.
func (p PTZ) Nudged(from Aim, a Axis) Aim {
	r, v := p.rangeOf(a), map[Axis]*float64{Pan: &from.Pan, Tilt: &from.Tilt, Zoom: &from.Zoom}[a]
	by := math.Min(nudgeBy, (r.Max-r.Min)/2)
	if *v+by > r.Max {
		by = -by
	}
	*v += by
	return from
}

// Stands is the likeness below which two stills say that the view moved between them; see
// stream.Print.
const Stands = 0.9

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

// Turn is the change that sends the camera to an aim, by a preset where that is one.
func (s Setup) Turn(to Aim, preset Preset) (finding.Change, error) {
	p := s.PTZ
	switch {
	case p == nil || p.At == nil || len(p.Axes()) == 0:
		return finding.Change{}, trouble.UserError("It can't be sent to a place from here.")
	case p.At.Near(to):
		return finding.Change{}, trouble.UserError("It looks there already.")
	}
	for _, a := range []struct {
		axis Axis
		v    float64
	}{{Pan, to.Pan}, {Tilt, to.Tilt}, {Zoom, to.Zoom}} {
		if r := p.rangeOf(a.axis); r.Known() && !r.Holds(a.v) {
			return finding.Change{}, trouble.UserError(fmt.Sprintf("Its %s goes from %s to %s.", a.axis, figure(r.Min), figure(r.Max)))
		}
	}
	why := "Asked for."
	if preset.Token != "" {
		why = "Its preset “" + preset.Name + "”."
	}
	return finding.Change{Kind: SetAim, Key: SetAim + "/" + p.Profile, Title: "Where it looks", From: p.At.Text(), To: to.Text(), Why: why, Risk: finding.NoRisk,
		Args: map[string]string{"profile": p.Profile, "ptz": p.Config, "aim": aimArg(to), "old_aim": aimArg(*p.At), "preset": preset.Token, "old_preset": ""}, Undo: finding.Undo{Kind: finding.Reversible, Note: "send it back to where it looked."}}, nil
}

// Recall is the change that sends the camera to one of its presets, by its token.
func (s Setup) Recall(token string) (finding.Change, error) {
	if s.PTZ == nil {
		return finding.Change{}, trouble.UserError("It can't be sent to a place from here.")
	}
	i := slices.IndexFunc(s.PTZ.Presets, func(p Preset) bool { return p.Token == token })
	switch {
	case i < 0:
		return finding.Change{}, trouble.UserError("It remembers no such place any more: read the streams again.")
	case s.PTZ.Presets[i].At == nil:
		return finding.Change{}, trouble.UserError("It doesn't tell where that preset looks, so it couldn't be seen whether it went there: call it on its own page.")
	}
	return s.Turn(*s.PTZ.Presets[i].At, s.PTZ.Presets[i])
}

func aimArg(a Aim) string {
	raw, err := json.Marshal(a)
	if err != nil {
		return ""
	}
	return string(raw)
}

// AimOf is the aim that a change sends it to.
func AimOf(text string) (a Aim, err error) {
	if json.Unmarshal([]byte(text), &a) != nil {
		return a, trouble.UserError("That is no place to look at.")
	}
	return a, nil
}

// PresetState words what a camera remembers by a name.
func (p PTZ) PresetState(name string) string {
	for _, x := range p.Presets {
		if x.Name == name {
			if x.At == nil {
				return "“" + name + "”"
			}
			return "“" + name + "”: " + x.At.Text()
		}
	}
	return "no preset “" + name + "”"
}

// maxPreset is how long a preset's name may be, in characters.
const maxPreset = 32

// Remember is the change that saves where the camera looks by a name.
func (s Setup) Remember(name string) (finding.Change, error) {
	name = strings.Join(strings.Fields(name), " ")
	p := s.PTZ
	switch {
	case p == nil || p.At == nil:
		return finding.Change{}, trouble.UserError("It remembers no places, as far as it tells.")
	case name == "" || utf8.RuneCountInString(name) > maxPreset:
		return finding.Change{}, trouble.UserError(fmt.Sprintf("A preset has a name of 1 to %d characters.", maxPreset))
	}
	had := slices.IndexFunc(p.Presets, func(x Preset) bool { return x.Name == name })
	if had < 0 && p.Most > 0 && len(p.Presets) >= p.Most {
		return finding.Change{}, trouble.UserError(fmt.Sprintf("It remembers %d places at the most: forget one first.", p.Most))
	}
	undo := finding.Undo{Kind: finding.Reversible, Note: "forget it again."}
	c := finding.Change{Kind: SetPreset, Key: SetPreset + "/" + p.Profile + "/" + name, Title: "Preset “" + name + "”", From: p.PresetState(name),
		Why: "Asked for.", Risk: finding.NoRisk, Args: map[string]string{"profile": p.Profile, "ptz": p.Config, "name": name, "do": "save", "old_do": "forget"}}
	if had >= 0 {
		if p.Presets[had].At != nil && p.Presets[had].At.Near(*p.At) {
			return finding.Change{}, trouble.UserError("It looks there already.")
		}
		undo = finding.Undo{Kind: finding.Irreversible, Note: "where it looked before is forgotten."}
	}
	c.To, c.Undo = "“"+name+"”: "+p.At.Text(), undo
	return c, nil
}

// Forget is the change that has it forget a preset.
func (s Setup) Forget(name string) (finding.Change, error) {
	p := s.PTZ
	if p == nil || !slices.ContainsFunc(p.Presets, func(x Preset) bool { return x.Name == name }) {
		return finding.Change{}, trouble.UserError("It remembers no place by that name.")
	}
	none := PTZ{}
	return finding.Change{Kind: SetPreset, Key: SetPreset + "/" + p.Profile + "/" + name, Title: "Preset “" + name + "”", From: p.PresetState(name), To: none.PresetState(name),
		Why: "Asked for.", Risk: finding.NoRisk, Args: map[string]string{"profile": p.Profile, "ptz": p.Config, "name": name, "do": "forget"},
		Undo: finding.Undo{Kind: finding.Irreversible, Note: "a preset is saved where the camera looks: send it there and save it anew."}}, nil
}

// Try is the change that nudges each axis and puts it back, so that it is seen to move.
func (s Setup) Try(now time.Time) (finding.Change, error) {
	p := s.PTZ
	if p == nil || p.At == nil || len(p.Axes()) == 0 {
		return finding.Change{}, trouble.UserError("It can't be sent to a place from here, and so not be put back: move it on its own page.")
	}
	return finding.Change{Kind: TryPTZ, Key: TryPTZ + "/" + p.Profile, Title: "Nudge " + axesText(p.Axes()), From: p.At.Text(),
		To: "the same, each axis nudged", Why: "It is seen whether the picture moves.", Risk: finding.NoRisk,
		Args: map[string]string{"profile": p.Profile, "ptz": p.Config, "aim": aimArg(*p.At), "since": now.UTC().Format(time.RFC3339Nano)},
		Undo: finding.Undo{Kind: finding.Irreversible, Note: "it is put back by itself."}}, nil
}

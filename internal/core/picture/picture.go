// Package view judges how a view's picture is made and what lies over it: the text that is
// burned in, the privacy masks, how the camera takes its pictures (ONVIF Imaging) and where it
// is turned (ONVIF PTZ).
package picture

import (
	"fmt"
	"slices"

	"duskyharbor/internal/core/finding"
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

// AimText is where the camera looks, in words that marks on its picture are kept with; empty where it can't be turned.
func (s *Setup) AimText() string {
	if s == nil || s.PTZ == nil || s.PTZ.At == nil {
		return ""
	}
	return s.PTZ.At.Text()
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

// Kinds of change.
const (
	SetText    = "view.text"    // what of a kind is burned in
	SetMasks   = "view.masks"   // all that is hidden
	SetImaging = "view.imaging" // one property
	SetAim     = "view.aim"     // where it looks
	SetPreset  = "view.preset"  // what it remembers by a name
	TryPTZ     = "view.try"     // nudges each axis and puts it back
)

// Propose lists what mends the text of a view.
func Propose(s Setup, w Wishes) (out []finding.Change) {
	if s.Texts == nil {
		return nil
	}
	add := func(c finding.Change, ok bool) {
		if ok {
			out = append(out, c)
		}
	}
	names, times := s.Texts.of(Name), s.Texts.of(Time)
	switch {
	case len(names) > 0 && slices.Contains(w.Burns, string(Name)):
		add(s.change(Name, Text{}, w.Recorder+" burns it in itself."))
	case distinctTwice(names), len(names) == 1 && !sameName(names[0].Words, w.Place):
		want := names[0]
		want.Words = w.Place
		add(s.change(Name, want, "One name everywhere."))
	}
	switch {
	case len(times) > 0 && slices.Contains(w.Burns, string(Time)):
		add(s.change(Time, Text{}, w.Recorder+" burns it in itself."))
	case len(times) > 1:
		add(s.change(Time, times[0], "Once is enough."))
	}
	return out
}

package channel

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/core/finding"
)

// Ways in by which a recorder takes a camera.
const (
	Native = "native" // it knows the model, and speaks as its maker does
	ONVIF  = "onvif"
	RTSP   = "rtsp" // the address of a stream
)

// What a way in may pass.
const (
	PassVideo    = "video"
	PassSound    = "sound"
	PassPTZ      = "ptz"
	PassEvents   = "events"
	PassInputs   = "inputs" // contacts and relays
	PassMetadata = "metadata"
)

// passNames are what a way passes, in words and in the order in which they are told.
var passNames = []struct{ pass, says string }{{PassVideo, "video"}, {PassSound, "sound"}, {PassPTZ, "PTZ"}, {PassEvents, "camera events"},
	{PassInputs, "contacts and relays"}, {PassMetadata, "object metadata"}}

// PassText words what is passed, or lost.
func PassText(passes []string) string {
	var out []string
	for _, n := range passNames {
		if slices.Contains(passes, n.pass) {
			out = append(out, n.says)
		}
	}
	if len(out) == 0 {
		return "nothing"
	}
	return listed(out, "and")
}

// listed words a list, with and or or before its last.
func listed(all []string, last string) string {
	if len(all) < 2 {
		return strings.Join(all, "")
	}
	return strings.Join(all[:len(all)-1], ", ") + " " + last + " " + all[len(all)-1]
}

// WayName is a way in, in words.
func WayName(way string) string {
	switch way {
	case Native:
		return "as its model"
	case ONVIF:
		return "ONVIF"
	case RTSP:
		return "RTSP"
	}
	return way
}

// WaySays says how a camera is taken.
func WaySays(way string) string {
	switch way {
	case Native:
		return "As a model of its list"
	case RTSP:
		return "By the address of its stream"
	}
	return "By " + WayName(way)
}

// Way is a way in that a recorder has, with what it passes.
type Way struct {
	Name   string   `json:"name"`
	Passes []string `json:"passes"`
}

// ModelList is the list of makes and models that a recorder knows.
type ModelList struct {
	Version string   `json:"version"` // that is installed
	Loaded  string   `json:"loaded"`  // by which its services run, until they start again
	Newer   string   `json:"newer"`   // that can be had; empty: none
	Models  []string `json:"models"`  // of Loaded: "Make model", or "Make *" for all of a make
}

// Has says whether the list names a model.
func (l ModelList) Has(brand, model string) bool {
	return brand != "" && slices.ContainsFunc(l.Models, func(m string) bool { return m == brand+" "+model || m == brand+" *" })
}

// Camera is what is to be taken, as its way in is chosen.
type Camera struct {
	Make, Model string
	RTSPAlone   bool
	Needs       []string // what the site needs of it, as a way's passes
}

// Choice is the way in that a camera is taken by.
type Choice struct {
	Way  string
	Lost []string // of what the site needs
	// Refused says why there is none, and Unlisted that its model isn't in the recorder's list.
	Refused  string
	Unlisted bool
}

// Choose is the way in of a camera: of those that the recorder has for it the one that loses least
// of what is needed, of equals native before ONVIF before RTSP. A recorder that doesn't tell its
// ways takes it by ONVIF where it speaks that.
func (r Recorder) Choose(c Camera) Choice {
	listed := r.Models == nil || r.Models.Has(c.Make, c.Model)
	if len(r.Limits.Ways) == 0 && (listed || !r.Limits.NoOthers) {
		return Choice{Way: map[bool]string{true: RTSP, false: ONVIF}[c.RTSPAlone]}
	}
	var best *Choice
	why := Choice{Unlisted: !listed}
	for _, name := range []string{Native, ONVIF, RTSP} {
		i := slices.IndexFunc(r.Limits.Ways, func(w Way) bool { return w.Name == name })
		switch {
		case i < 0:
			continue
		case name == ONVIF && c.RTSPAlone, name == Native && c.RTSPAlone && r.Models == nil: // whether it knows the model isn't told
			continue
		case name == Native && !listed:
			continue
		case name != Native && r.Limits.NoOthers && !listed:
			continue
		}
		lost := slices.DeleteFunc(slices.Clone(c.Needs), func(n string) bool { return slices.Contains(r.Limits.Ways[i].Passes, n) })
		if best == nil || len(lost) < len(best.Lost) {
			best = &Choice{Way: name, Lost: lost}
		}
	}
	if best != nil {
		return *best
	}
	model := strings.TrimSpace(c.Make + " " + c.Model)
	switch {
	case !listed && r.Limits.NoOthers:
		why.Refused = fmt.Sprintf("%s isn't in its list of models%s, and it takes no other makes", cmp.Or(model, "its model"), r.listSays())
	case !listed:
		why.Refused = fmt.Sprintf("%s isn't in its list of models%s", cmp.Or(model, "its model"), r.listSays())
	default:
		why.Refused = "it has no way in for a camera that speaks " + map[bool]string{true: "RTSP alone", false: "ONVIF"}[c.RTSPAlone]
	}
	return why
}

// drops is what a way in loses of what is needed; nothing where it isn't told what it passes.
func (r Recorder) drops(way string, needs []string) []string {
	i := slices.IndexFunc(r.Limits.Ways, func(w Way) bool { return w.Name == way })
	if i < 0 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(needs), func(n string) bool { return slices.Contains(r.Limits.Ways[i].Passes, n) })
}

func (r Recorder) listSays() string {
	if r.Models == nil || r.Models.Loaded == "" {
		return ""
	}
	return " (" + r.Models.Loaded + ")"
}

// Kinds of change of what a recorder takes.
const (
	RenewList       = "channel.models"
	RestartServices = "channel.services"
	AllowOthers     = "channel.others"
)

// Texts of whether a recorder takes other makes.
const (
	OthersRefused = "refused"
	OthersAllowed = "allowed"
)

// TakeOut is the change kind that frees a channel, whatever holds it.
const TakeOut = "channel.remove"

// Out is the change that takes what holds a channel off it; ok is false where the channel is free.
// It says what goes with it.
func (r Recorder) Out(recorder int64, number int) (c finding.Change, ok bool) {
	i := slices.IndexFunc(r.Slots, func(s Slot) bool { return s.Number == number })
	if i < 0 {
		return finding.Change{}, false
	}
	s := r.Slots[i]
	why := "Its name, its plan and what is pegged to its inputs go; " + r.footage() + "."
	if r.Limits.Licences > 0 {
		why += " A licence is free again."
	}
	if s.State == Receiving {
		why += " It receives now: from then on nothing of it is recorded here."
	} else {
		why += " Nothing comes of it now (" + s.State + ")."
	}
	return finding.Change{Kind: TakeOut, Key: fmt.Sprintf("%s/%d", TakeOut, number), Title: fmt.Sprintf("Channel %d of %s", number, r.Name),
		From: SlotText(s.Name, s.Address), To: Empty, Why: why, Risk: finding.Gap, Removes: true,
		Undo: finding.Undo{Kind: finding.Irreversible, Note: r.outNote()},
		Args: map[string]string{"recorder": fmt.Sprint(recorder), "channel": fmt.Sprint(number)}}, true
}

// Footage says whether what a recorder recorded of a channel goes with the channel, and whether that is
// known.
func (r Recorder) Footage() (goes, known bool) {
	switch r.Speech {
	case OverONVIF:
		return true, true // DeleteRecording removes what it holds (ONVIF Recording Control, 5.3.4)
	case BySheet:
		return false, false
	}
	return false, true // see remove of the recorder interface
}

// footage says what becomes of it, as part of a sentence.
func (r Recorder) footage() string {
	switch goes, known := r.Footage(); {
	case goes:
		return "what was recorded of it is deleted with it, at once and for good"
	case !known:
		return "whether what was recorded of it stays isn't known: see its papers"
	}
	return "what was recorded of it stays until it is written over"
}

// outNote says why taking a channel out can't be undone.
func (r Recorder) outNote() string {
	if goes, known := r.Footage(); goes || !known {
		return "Placed again it is another channel: its recordings, its plan and its pegs don't come back by themselves."
	}
	return "Placed again it is another channel: its plan and its pegs don't come back by themselves."
}

// OthersText is the canonical text of whether other makes than those of its list are taken.
func (r Recorder) OthersText() string {
	if r.Limits.NoOthers {
		return OthersRefused
	}
	return OthersAllowed
}

// Renew is what makes a recorder know newer models: the newer list where there is one, and its
// services started again, which every channel notices for a moment. Nothing where its services run
// by the newest list already.
func (r Recorder) Renew(recorder int64) (out []finding.Change) {
	if r.Models == nil {
		return nil
	}
	newest := r.Models.Version
	args := map[string]string{"recorder": fmt.Sprint(recorder)}
	if r.Models.Newer != "" && r.Models.Newer != newest {
		newest = r.Models.Newer
		out = append(out, finding.Change{Kind: RenewList, Key: RenewList, Title: "List of models of " + r.Name, From: r.Models.Version, To: newest,
			Why: "It knows models that came out since. What it took stays.", Risk: finding.NoRisk, Args: args,
			Undo: finding.Undo{Kind: finding.Irreversible, Note: "it takes no older list."}})
	}
	if r.Models.Loaded != newest {
		out = append(out, finding.Change{Kind: RestartServices, Key: RestartServices, Title: "Services of " + r.Name, From: "run by " + r.Models.Loaded, To: "run by " + newest,
			Why:  fmt.Sprintf("They take up the list when they start again: %s nothing for some seconds.", recordNothing(len(r.Slots))),
			Risk: finding.Gap, Args: args, Undo: finding.Undo{Kind: finding.Irreversible, Note: "a start can't be taken back."}})
	}
	return out
}

// ServicesText is the canonical text of the list by which a recorder's services run.
func (r Recorder) ServicesText() string {
	if r.Models == nil {
		return ""
	}
	return "run by " + r.Models.Loaded
}

// ListText is the canonical text of which list of models is installed.
func (r Recorder) ListText() string {
	if r.Models == nil {
		return ""
	}
	return r.Models.Version
}

// Others is the change by which a recorder takes other makes than those of its list, or doesn't.
func (r Recorder) Others(recorder int64, allow bool) (finding.Change, bool) {
	if r.Limits.NoOthers != allow {
		return finding.Change{}, false
	}
	to := OthersRefused
	if allow {
		to = OthersAllowed
	}
	return finding.Change{Kind: AllowOthers, Key: AllowOthers, Title: "Other makes on " + r.Name, From: r.OthersText(), To: to,
		Why: "Models that aren't in its list are taken by ONVIF or RTSP.", Risk: finding.NoRisk,
		Args: map[string]string{"recorder": fmt.Sprint(recorder), "allow": fmt.Sprint(allow), "old_allow": fmt.Sprint(!allow)},
		Undo: finding.Undo{Kind: finding.Reversible, Note: "Refuse them again; what was taken stays."}}, true
}

// refusedFinding says that a recorder has no way in for a camera.
func (r Recorder) refusedFinding(c Choice) finding.Finding {
	says := fmt.Sprintf("%s doesn't take it: %s.", r.Name, c.Refused)
	if !c.Unlisted {
		return finding.Finding{Code: "channel.no-way", Severity: finding.Blocks, Words: "no way in", Sentence: says, WayOut: "Plan another recorder."}
	}
	f := finding.Finding{Code: "channel.model", Severity: finding.Blocks, Words: "not listed", Sentence: says,
		WayOut: "Let it take other makes, on its channel face, or plan another recorder."}
	if m := r.Models; m != nil && (m.Newer != "" && m.Newer != m.Version || m.Loaded != m.Version) {
		f.WayOut = "Renew its list of models and start its services again, on its channel face; or let it take other makes."
	}
	return f
}

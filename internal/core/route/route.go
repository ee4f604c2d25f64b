// Package route pegs camera topics to recorder inputs and judges whether each
// happening that matters has a way into the recorder.
package route

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/topic"
)

// Peg joins one topic of a camera to one input of the recorder's channel.
type Peg struct {
	Topic string `json:"topic"`
	Input string `json:"input"`
}

// String is the peg's canonical text.
func (p Peg) String() string { return p.Topic + " → " + p.Input }

// Inputs is what a recorder's channel can hear and what is pegged to it.
type Inputs struct {
	Names  []string `json:"names"`
	Pegs   []Peg    `json:"pegs"`
	Events string   `json:"events"` // how the recorder's subscription stands, see Facts
}

// Ground is what a channel hears, in words and exactly, in whatever order it is told.
func (in Inputs) Ground() (words, exact string) {
	parts := make([]string, len(in.Pegs))
	for i, g := range in.Pegs {
		parts[i] = g.String()
	}
	slices.Sort(parts)
	if len(parts) == 0 {
		return "none", "none"
	}
	words = parts[0]
	if len(parts) > 1 {
		words = fmt.Sprintf("%d routes", len(parts))
	}
	return words, strings.Join(parts, "\n")
}

// Facts is what the judge of one source's routes knows.
type Facts struct {
	LookedAt time.Time
	Topics   []topic.Description // what the camera offers or was heard to say
	Inputs   []string            // what the recorder's channel can hear
	Pegs     []Peg               // as the recorder reads them
	Channel  int
	Recorder string
	Events   string // how the recorder's subscription stands: "listening", "not asked", or why not
	Trouble  string
	Motion   bool // the plan by which its channel keeps waits for motion
}

// Read says whether what the stage is about is known: what its mark may be ready by.
func (f Facts) Read() bool { return len(f.Pegs) > 0 }

// Wishes is what the site wants routed; empty: what Suggest says.
type Wishes struct{}

// PegInput is the change kind that pegs a topic to an input.
const PegInput = "route.peg"

// Text is the canonical text of all that an input hears.
func Text(pegs []Peg, input string) string {
	var t []string
	for _, p := range pegs {
		if p.Input == input {
			t = append(t, p.Topic)
		}
	}
	if len(t) == 0 {
		return "nothing"
	}
	slices.Sort(t)
	return strings.Join(t, ", ")
}

// Hears is how the recorder's subscription stands: as its channel table says, which is
// newer than what was read with the inputs, where anything is pegged at all.
func Hears(f Facts, channel string) string {
	if channel != "" && len(f.Pegs) > 0 {
		return channel
	}
	return f.Events
}

// NotAsked is how a subscription stands that no input asked for so far.
const NotAsked = "not asked"

// Subscribing says whether inputs are pegged and the recorder hasn't subscribed yet.
func Subscribing(f Facts) bool { return len(f.Pegs) > 0 && f.Events == NotAsked }

// Walks are the routes that a walk test can take, in the order in which they are walked: a line, an
// area.
func Walks(f Facts) (out []Peg) {
	for _, kind := range []string{"line", "area"} {
		for _, p := range f.Pegs {
			if p.Input == kind {
				out = append(out, p)
			}
		}
	}
	return out
}

// Walked is the route that the next walk test takes: the first that isn't proven, else the first; ok
// is false where none can be walked. The page names the same one.
func Walked(f Facts, proven func(Peg) bool) (p Peg, ok bool) {
	all := Walks(f)
	if len(all) == 0 {
		return Peg{}, false
	}
	if i := slices.IndexFunc(all, func(p Peg) bool { return !proven(p) }); i >= 0 {
		return all[i], true
	}
	return all[0], true
}

// Judge says which happenings have no way.
func Judge(_ time.Time, f Facts, _ Wishes) []finding.Finding {
	if f.Trouble != "" {
		return []finding.Finding{{Code: "route.unread", Severity: finding.Blocks, Words: "not read",
			Sentence: f.Trouble, WayOut: "See Sign-in and Streams of this camera, then read its topics again."}}
	}
	if f.LookedAt.IsZero() {
		return nil
	}
	ev := []finding.Evidence{{Name: "Topics", Value: fmt.Sprint(len(f.Topics)), Via: "GetEventProperties", At: f.LookedAt}}
	if len(f.Topics) == 0 {
		return []finding.Finding{{Code: "route.no-topics", Severity: finding.Needs, Words: "no topics",
			Sentence: "It offers no event topic.",
			WayOut:   "Draw a rule on the camera, then read its topics again.", Evidence: ev}}
	}
	var open []string
	for _, s := range topic.Suggest(f.Topics, f.Inputs, f.Motion) {
		if !slices.Contains(f.Pegs, Peg{s.Topic, s.Input}) {
			open = append(open, topic.Title(s.Topic))
		}
	}
	var out []finding.Finding
	switch {
	case len(f.Pegs) == 0 && f.Channel > 0:
		out = append(out, finding.Finding{Code: "route.none", Severity: finding.Needs, Words: "no route",
			Sentence: fmt.Sprintf("Nothing it reports reaches channel %d of %s: no topic is pegged to an input.", f.Channel, f.Recorder),
			WayOut:   "Peg what is suggested.", Evidence: ev})
	case len(open) > 0 && f.Channel > 0:
		out = append(out, finding.Finding{Code: "route.open", Severity: finding.Note, Words: "open",
			Sentence: "Pegged to nothing though an input would take it: " + strings.Join(open, ", ") + ".",
			WayOut:   "Peg it, or leave it.", Evidence: ev})
	}
	if len(f.Pegs) > 0 && f.Events != "" && f.Events != "listening" {
		out = append(out, finding.Finding{Code: "route.deaf", Severity: finding.Blocks, Words: "hears nothing",
			Sentence: fmt.Sprintf("%s has inputs pegged and doesn't hear the camera: %s", f.Recorder, f.Events),
			WayOut:   "See the camera's clock and account; the recorder tries again by itself.", Evidence: ev})
	}
	return out
}

// Propose pegs what Suggest says and isn't pegged, one change an input.
func Propose(_ time.Time, f Facts, _ Wishes) []finding.Change {
	if f.Trouble != "" || f.Channel == 0 {
		return nil
	}
	var out []finding.Change
	for _, s := range topic.Suggest(f.Topics, f.Inputs, f.Motion) {
		if slices.Contains(f.Pegs, Peg{s.Topic, s.Input}) {
			continue
		}
		out = append(out, Change(f, s.Topic, s.Input, s.Reason, true))
	}
	return out
}

// Change pegs a topic to an input, or pulls the peg.
func Change(f Facts, topicName, input, why string, on bool) finding.Change {
	after := slices.DeleteFunc(slices.Clone(f.Pegs), func(p Peg) bool { return p.Topic == topicName && p.Input == input })
	title, undo := "Peg "+topic.Title(topicName)+" to "+input, "Pull the peg."
	if on {
		after = append(after, Peg{topicName, input})
	} else {
		title, undo = "Pull "+topic.Title(topicName)+" from "+input, "Peg it again."
	}
	return finding.Change{
		Kind: PegInput, Key: PegInput + "/" + input, Title: title,
		From: Text(f.Pegs, input), To: Text(after, input), Why: why, Risk: finding.NoRisk,
		Undo: finding.Undo{Kind: finding.Reversible, Note: undo},
		Args: map[string]string{"input": input, "channel": fmt.Sprint(f.Channel), "topics": Text(after, input),
			"old_topics": Text(f.Pegs, input)},
	}
}

// Turn puts a peg where there is none, and takes it out where it is, as a person asks; ok is false where the view has
// no channel, or topic or input isn't one of those that were read. A peg of a topic that isn't told any more can
// still be taken out.
func Turn(f Facts, p Peg) (c finding.Change, ok bool) {
	known := slices.ContainsFunc(f.Topics, func(t topic.Description) bool { return t.Topic == p.Topic }) ||
		slices.ContainsFunc(f.Pegs, func(o Peg) bool { return o.Topic == p.Topic })
	if f.Channel == 0 || !slices.Contains(f.Inputs, p.Input) || !known {
		return c, false
	}
	return Change(f, p.Topic, p.Input, "A person pegged it.", !slices.Contains(f.Pegs, p)), true
}

// Topics reads Text back into a list.
func Topics(text string) []string {
	if text == "nothing" || text == "" {
		return []string{}
	}
	return strings.Split(text, ", ")
}

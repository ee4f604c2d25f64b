// Package topic reads ONVIF event topics: their canonical names, what they mean
// for a recorder, and when a property event is a beginning or an end.
package topic

import (
	"slices"
	"strings"
)

// Namespace of the standard's topics; canonical names write it tns1.
const Namespace = "http://www.onvif.org/ver10/topics"

// Description is one topic a device offers.
type Description struct {
	Topic    string   `json:"topic"` // canonical: "tns1:RuleEngine/LineDetector/Crossed"
	Property bool     `json:"property"`
	Sources  []string `json:"sources"` // item names
	Data     []string `json:"data"`
	Heard    bool     `json:"heard"` // it was heard to say it, whatever its TopicSet offers
}

// Canonical writes a topic path with its root's namespace: tns1 for the
// standard's, {uri} for a maker's own. Inner prefixes are dropped: they repeat the
// root's in practice and don't make two topics of one.
func Canonical(namespace string, path []string) string {
	clean := make([]string, len(path))
	for i, p := range path {
		_, local, ok := strings.Cut(p, ":")
		if !ok {
			local = p
		}
		clean[i] = local
	}
	joined := strings.Join(clean, "/")
	switch namespace {
	case Namespace:
		return "tns1:" + joined
	case "":
		return joined
	}
	return "{" + namespace + "}" + joined
}

// Short is the topic without its namespace, as shown in tables.
func Short(topic string) string {
	if i := strings.LastIndexByte(topic, '}'); i >= 0 {
		return topic[i+1:]
	}
	return strings.TrimPrefix(topic, "tns1:")
}

// Title names a topic in words: the standard's by meaning, others by their last step.
func Title(topic string) string {
	if m, ok := meanings[topic]; ok {
		return m.title
	}
	short := Short(topic)
	return short[strings.LastIndexByte(short, '/')+1:]
}

type meaning struct {
	title  string
	input  string
	reason string
}

// meanings of the standard's topics (ONVIF Analytics Service Specification, Annex
// A; Imaging Service Specification, section 6) for recorder inputs.
var meanings = map[string]meaning{
	"tns1:RuleEngine/LineDetector/Crossed":                {"Line crossed", "line", "the standard's line crossing"},
	"tns1:RuleEngine/FieldDetector/ObjectsInside":         {"Inside an area", "area", "the standard's object in an area"},
	"tns1:RuleEngine/LoiteringDetector/ObjectIsLoitering": {"Stays in an area", "loitering", "the standard's loitering"},
	"tns1:VideoSource/MotionAlarm":                        {"Motion", "motion", "the standard's motion alarm"},
	"tns1:RuleEngine/CellMotionDetector/Motion":           {"Motion in cells", "motion", "the standard's cell motion"},
	"tns1:VideoSource/ImageTooDark/ImagingService":        {"Picture too dark", "tamper", "a picture that can't be seen is a tamper"},
	"tns1:VideoSource/GlobalSceneChange/ImagingService":   {"View changed", "tamper", "a view that changed as a whole is a tamper"},
	"tns1:Device/Trigger/DigitalInput":                    {"Digital input", "contact", "the standard's digital input"},
}

// Suggestion pegs a topic to a recorder input, with the reason.
type Suggestion struct {
	Topic, Input, Reason string
}

// Suggest proposes an input of inputs for each topic whose meaning is known and
// for which an input exists. Motion would drown the rest: it is suggested only where it is awaited.
func Suggest(topics []Description, inputs []string, awaited bool) []Suggestion {
	var out []Suggestion
	for _, t := range topics {
		m, ok := meanings[t.Topic]
		if ok && (m.input != "motion" || awaited) && slices.Contains(inputs, m.input) {
			out = append(out, Suggestion{t.Topic, m.input, "It is " + m.reason + "."})
		}
	}
	return out
}

// Operation is a property event's own word for what happened (ONVIF Core, section
// 9.4.2: PropertyOperation).
type Operation string

const (
	Initialized Operation = "Initialized"
	Changed     Operation = "Changed"
	Deleted     Operation = "Deleted"
)

// Phase is what a message means.
type Phase string

const (
	Once   Phase = "once"
	Begins Phase = "begins"
	Ends   Phase = "ends"
	Stands Phase = "stands" // how things are, no alarm
	Repeat Phase = "repeat" // a true that was true already
)

// State of one property between messages. The zero State knows nothing.
type State struct {
	Known bool
	True  bool
}

// Next reads one message of a property. blind says that messages may have been
// lost since the last: a true then that was held false is a beginning that was
// missed.
func Next(s State, op Operation, value, blind bool) (State, Phase) {
	if op == Deleted {
		if s.Known && s.True {
			return State{}, Ends
		}
		return State{}, Stands
	}
	next := State{Known: true, True: value}
	if op == Initialized {
		if blind && s.Known && !s.True && value {
			return next, Begins
		}
		return next, Stands
	}
	switch {
	case value && s.True:
		return next, Repeat
	case value:
		return next, Begins
	case s.Known && !s.True:
		return next, Stands
	}
	return next, Ends
}

// Package stage knows the ten stages of the work, their order, what waits for
// what, and how a source's mark in a stage follows from its findings.
package stage

import (
	"cmp"
	"slices"
	"time"

	"duskyharbor/internal/core/finding"
)

// Stage numbers the work from 1 (Find) to 10 (Handover).
type Stage int

const (
	Find Stage = iota + 1
	SignIn
	Clock
	Streams
	Channels
	Recording
	Analytics
	Routes
	Prove
	Handover
)

// RulesVersion is kept with every derived mark; a mark made by another version is
// derived again.
const RulesVersion = 15

// descriptor is all that a stage is, besides its rules: a row of the table.
type descriptor struct {
	slug, name, question string
	ofDevice             bool // it is about the device itself
	waits                []Wait
	requires             []Requirement
	reads                Act  // what moves a mark on that was never read, or is stale
	many                 bool // it is read of many cameras at once, on the Board
}

// table has a row a stage. Nothing else says what a stage is.
var table = [...]descriptor{
	Find: {slug: "find", name: "Find", question: "What is on these networks?", ofDevice: true, reads: Read},
	SignIn: {slug: "sign-in", name: "Sign-in", question: "Which account opens which device?", ofDevice: true, reads: Read, many: true,
		waits: []Wait{{Find, "there is no device to sign in to until one answers"}}, requires: []Requirement{Speaks, Certain}},
	Clock: {slug: "clock", name: "Clock", question: "Whose time is wrong, and why?", ofDevice: true, reads: Read, many: true,
		waits: []Wait{{Find, "there is no clock to read until the device answers"}}, requires: []Requirement{SpeaksONVIF}},
	Streams: {slug: "streams", name: "Streams", question: "Does each stream deliver what it declares?", reads: Read, many: true,
		waits: []Wait{{SignIn, "profiles are read with an account"}}, requires: []Requirement{Seen, Opened}},
	Channels: {slug: "channels", name: "Channels", question: "What goes where, and does it fit?", reads: Read, many: true,
		waits: []Wait{{Streams, "a recorder is given a stream that was read"}}},
	Recording: {slug: "recording", name: "Recording", question: "What will be kept, how long?", reads: Read, many: true,
		waits: []Wait{{Channels, "a recorder keeps what is on its channels"}}},
	Analytics: {slug: "analytics", name: "Analytics", question: "What will fire, and on what?", reads: Read, many: true,
		waits: []Wait{{SignIn, "rules are read with an account"}}, requires: []Requirement{SpeaksONVIF, Opened}},
	Routes: {slug: "routes", name: "Routes", question: "Where does each event go?", reads: Read, many: true,
		waits:    []Wait{{SignIn, "topics are read with an account"}, {Channels, "events land on a recorder's channel"}},
		requires: []Requirement{Seen, Opened}},
	Prove: {slug: "prove", name: "Prove", question: "Did it arrive?", reads: Walk,
		waits: []Wait{{Routes, "there is no route to prove"}}},
	Handover: {slug: "handover", name: "Handover", question: "What do we leave behind?", reads: Read},
}

// Goal is the stage whose readiness means that a view is done.
const Goal = Prove

// row of a stage; of what is none, an empty one.
func (s Stage) row() descriptor {
	if !s.Valid() {
		return descriptor{}
	}
	return table[s]
}

// All lists the stages in working order.
func All() []Stage {
	return []Stage{Find, SignIn, Clock, Streams, Channels, Recording, Analytics, Routes, Prove, Handover}
}

// Valid says whether s is one of the ten.
func (s Stage) Valid() bool { return s >= Find && s <= Handover }

// OfDevice says whether the stage is about the device itself, and so the same for all its
// views. The others are about one view.
func (s Stage) OfDevice() bool { return s.row().ofDevice }

// Slug is the stage's name in addresses and in the filter box ("sign-in").
func (s Stage) Slug() string { return s.row().slug }

// String is the stage's name on the screen.
func (s Stage) String() string { return cmp.Or(s.row().name, "?") }

// Question is the one question the stage's page answers.
func (s Stage) Question() string { return s.row().question }

// Many says whether the stage is read of many cameras at once, as the Board offers it.
func (s Stage) Many() bool { return s.row().many }

// Parse finds a stage by its slug.
func Parse(slug string) (Stage, bool) {
	for _, s := range All() {
		if s.Slug() == slug {
			return s, true
		}
	}
	return 0, false
}

// Wait is an earlier stage that the wire makes this one wait for, and why.
type Wait struct {
	For    Stage
	Reason string
}

// Waits lists what s waits for. Only what the wire forces is here: a wrong clock,
// for one, doesn't keep streams from being read.
func (s Stage) Waits() []Wait { return s.row().waits }

// State is how a source stands in a stage.
type State string

const (
	Ready   State = "ready"
	Needs   State = "needs"
	Blocked State = "blocked"
	NotYet  State = "notyet"
	Working State = "working"
	NotHere State = "na"
	Stale   State = "stale"
)

// Urgency orders marks worst first, in every list: what is blocked, what needs a person, what
// isn't known any more, what is under way, what wasn't looked at, what is well, what doesn't
// apply. Less is more urgent.
func (s State) Urgency() int {
	if i := slices.Index(worstFirst, s); i >= 0 {
		return i
	}
	return slices.Index(worstFirst, NotYet)
}

var worstFirst = []State{Blocked, Needs, Stale, Working, NotYet, Ready, NotHere}

// Label is the state in words, as the legend and screen readers say it.
func (s State) Label() string {
	switch s {
	case Ready:
		return "ready"
	case Needs:
		return "needs you"
	case Blocked:
		return "blocked"
	case Working:
		return "working"
	case NotHere:
		return "doesn't apply"
	case Stale:
		return "stale"
	}
	return "not yet"
}

// Mark is one cell of the Board.
type Mark struct {
	State    State  `json:"state"`
	Words    string `json:"words"`
	Sentence string `json:"sentence"`
}

// Verdict is what a stage's rules say of one source: whether the stage's facts were
// read, what is wrong, and whether what was read is older than something it rests on.
type Verdict struct {
	Later      bool // this version doesn't do the stage
	Read       bool
	Findings   []finding.Finding
	Stale      string    // why what was read no longer counts; empty when it does
	Done       string    // the sentence of a ready mark
	NotHere    string    // why the stage doesn't apply; empty when it does
	Asks       string    // what a person must say before a reading tells anything; empty: nothing
	ValidUntil time.Time // after which it must be asked again; zero: until its inputs change
}

// Derive makes the mark of stage s. before gives the marks of earlier stages. A
// stage that has no facts and whose way is barred says which stage it waits for.
func Derive(s Stage, v Verdict, before func(Stage) State) Mark {
	if v.Later {
		return Mark{State: NotYet, Sentence: s.String() + " is still to come in this version."}
	}
	if v.NotHere != "" {
		return Mark{State: NotHere, Sentence: v.NotHere}
	}
	if worst, ok := finding.Worst(v.Findings); ok && worst.Severity > finding.Note {
		state := Needs
		if worst.Severity == finding.Blocks {
			state = Blocked
		}
		return Mark{State: state, Words: worst.Words, Sentence: worst.Sentence}
	}
	if !v.Read {
		for _, w := range s.Waits() {
			if st := before(w.For); st != Ready && st != Stale && st != NotHere {
				return Mark{State: NotYet, Sentence: "Waits for " + w.For.String() + ": " + w.Reason + "."}
			}
		}
		return Mark{State: NotYet, Sentence: cmp.Or(v.Asks, "Not read yet.")}
	}
	if v.Stale != "" {
		return Mark{State: Stale, Words: "stale", Sentence: v.Stale}
	}
	done := v.Done
	if done == "" {
		done = "Nothing stands in the way."
	}
	return Mark{State: Ready, Sentence: done}
}

// Package stage knows the ten stages of the work, their order, what waits for
// what, and how a source's mark in a stage follows from its findings.
package stage

import (
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
const RulesVersion = 9

var table = [...]struct{ slug, name, question string }{
	Find:      {"find", "Find", "What is on these networks?"},
	SignIn:    {"sign-in", "Sign-in", "Which account opens which device?"},
	Clock:     {"clock", "Clock", "Whose time is wrong, and why?"},
	Streams:   {"streams", "Streams", "Does each stream deliver what it declares?"},
	Channels:  {"channels", "Channels", "What goes where, and does it fit?"},
	Recording: {"recording", "Recording", "What will be kept, how long?"},
	Analytics: {"analytics", "Analytics", "What will fire, and on what?"},
	Routes:    {"routes", "Routes", "Where does each event go?"},
	Prove:     {"prove", "Prove", "Did it arrive?"},
	Handover:  {"handover", "Handover", "What do we leave behind?"},
}

// All lists the stages in working order.
func All() []Stage {
	return []Stage{Find, SignIn, Clock, Streams, Channels, Recording, Analytics, Routes, Prove, Handover}
}

// Valid says whether s is one of the ten.
func (s Stage) Valid() bool { return s >= Find && s <= Handover }

// OfDevice says whether the stage is about the device itself, and so the same for all its
// views. The others are about one view.
func (s Stage) OfDevice() bool { return s >= Find && s <= Clock }

// Slug is the stage's name in addresses and in the filter box ("sign-in").
func (s Stage) Slug() string {
	if !s.Valid() {
		return ""
	}
	return table[s].slug
}

// String is the stage's name on the screen.
func (s Stage) String() string {
	if !s.Valid() {
		return "?"
	}
	return table[s].name
}

// Question is the one question the stage's page answers.
func (s Stage) Question() string {
	if !s.Valid() {
		return ""
	}
	return table[s].question
}

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
func (s Stage) Waits() []Wait {
	switch s {
	case SignIn:
		return []Wait{{Find, "there is no device to sign in to until one answers"}}
	case Clock:
		return []Wait{{Find, "there is no clock to read until the device answers"}}
	case Streams:
		return []Wait{{SignIn, "profiles are read with an account"}}
	case Channels:
		return []Wait{{Streams, "a recorder is given a stream that was read"}}
	case Recording:
		return []Wait{{Channels, "a recorder keeps what is on its channels"}}
	case Routes:
		return []Wait{{SignIn, "topics are read with an account"}, {Channels, "events land on a recorder's channel"}}
	case Prove:
		return []Wait{{Routes, "there is no route to prove"}}
	}
	return nil
}

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
		return Mark{State: NotYet, Sentence: "Not read yet."}
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

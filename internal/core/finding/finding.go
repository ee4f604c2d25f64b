// Package finding is the language every stage speaks: what a rule says of the
// facts (Finding) and what it would have written to a device (Change).
package finding

import (
	"fmt"
	"sort"
	"time"
)

// Severity orders findings by what they keep from happening.
type Severity int

const (
	// Note is worth knowing and stops nothing.
	Note Severity = iota
	// Needs asks a person to decide or to press a button.
	Needs
	// Blocks keeps this stage from being done.
	Blocks
)

// String returns the word stored with a finding: note, needs or blocks.
func (s Severity) String() string {
	switch s {
	case Needs:
		return "needs"
	case Blocks:
		return "blocks"
	}
	return "note"
}

// ParseSeverity is the inverse of String; an unknown word is a Note.
func ParseSeverity(word string) Severity {
	switch word {
	case "needs":
		return Needs
	case "blocks":
		return Blocks
	}
	return Note
}

// Evidence is one fact a finding rests on: its name, its value as a technician
// reads it, the call that read it, and when (UTC).
type Evidence struct {
	Name  string    `json:"name"`
	Value string    `json:"value"`
	Via   string    `json:"via"`
	At    time.Time `json:"at"`
}

// Finding is one sentence a technician understands, with what it is known by and
// the way out. Code is stable ("clock.refused"); Words are the at most two words
// a mark carries.
type Finding struct {
	Code     string     `json:"code"`
	Severity Severity   `json:"-"`
	Words    string     `json:"words"`
	Sentence string     `json:"sentence"`
	WayOut   string     `json:"way_out"`
	Evidence []Evidence `json:"evidence"`
	Accepted bool       `json:"accepted,omitempty"` // a person lives with it
}

// Worst returns the finding with the highest severity, the first of equals, and
// false when there is none.
func Worst(all []Finding) (Finding, bool) {
	if len(all) == 0 {
		return Finding{}, false
	}
	worst := all[0]
	for _, f := range all[1:] {
		if f.Severity > worst.Severity {
			worst = f
		}
	}
	return worst, true
}

// Acceptance is a person's word that a finding stands and is lived with.
type Acceptance struct {
	Who string
	At  time.Time // UTC
}

// Accept turns the findings that a person accepted into notes that say so; the others
// stay as they are.
func Accept(all []Finding, accepted map[string]Acceptance) []Finding {
	for i, f := range all {
		if a, ok := accepted[f.Code]; ok && f.Severity > Note {
			all[i].Severity = Note
			all[i].Sentence = fmt.Sprintf("%s Accepted by %s, %s UTC.", f.Sentence, a.Who, a.At.UTC().Format("2006-01-02 15:04"))
			all[i].Accepted = true
		}
	}
	Sort(all)
	return all
}

// Sort puts the worst findings first and keeps the order of equals.
func Sort(all []Finding) {
	sort.SliceStable(all, func(i, j int) bool { return all[i].Severity > all[j].Severity })
}

// Risk says what a change may cost while it is made.
type Risk string

const (
	// NoRisk changes a setting and nothing else.
	NoRisk Risk = "none"
	// Restart makes a device start again.
	Restart Risk = "restart"
	// Gap leaves a hole in a recording.
	Gap Risk = "gap"
	// Address may leave a device at another address.
	Address Risk = "address"
)

// UndoKind tells how a change is taken back.
type UndoKind string

const (
	// Reversible is undone by writing From again.
	Reversible UndoKind = "reversible"
	// Compensating is undone by a named second act.
	Compensating UndoKind = "compensating"
	// Irreversible can't be undone; the reason is said beforehand.
	Irreversible UndoKind = "none"
)

// Undo is how a change is taken back, with the sentence a person reads first.
type Undo struct {
	Kind UndoKind `json:"kind"`
	Note string   `json:"note"`
	// The named second act of a compensating change: its kind, what the device reads
	// after it, and what it needs.
	Act  string            `json:"act,omitempty"`
	To   string            `json:"to,omitempty"`
	Args map[string]string `json:"args,omitempty"`
}

// Change is one write to a device, shown before it is made. Key is the natural
// key: two changes with one key on one device are the same change. From and To
// are in the canonical text that reading the device gives.
type Change struct {
	Kind  string            `json:"kind"`
	Key   string            `json:"key"`
	Title string            `json:"title"`
	From  string            `json:"from"`
	To    string            `json:"to"`
	Why   string            `json:"why"`
	Risk  Risk              `json:"risk"`
	Undo  Undo              `json:"undo"`
	Args  map[string]string `json:"args,omitempty"`
	// Later lists when, after the first read-back, the device is read again.
	Later []time.Duration `json:"later,omitempty"`
	// Account is the account that it makes or changes, with its level; empty: none.
	Account string `json:"account,omitempty"`
	// Removes says that it takes something away for good: it asks once more.
	Removes bool `json:"removes,omitempty"`
}

// Settlement is what to do with a change whose outcome isn't known (law 4).
type Settlement string

const (
	// Verified: the device reads To; nothing is sent.
	Verified Settlement = "verified"
	// Send: the device reads From; the write is (re)sent.
	Send Settlement = "send"
	// Ask: the device reads neither; a person decides.
	Ask Settlement = "ask"
)

// Settle decides from what the device reads now. It is used before every write,
// so a change that was made before a crash is never made twice.
func Settle(c Change, reads string) Settlement {
	switch reads {
	case c.To:
		return Verified
	case c.From:
		return Send
	}
	return Ask
}

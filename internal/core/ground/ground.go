// Package ground says what a proof or an accepted picture rests on, and what of it is otherwise now. Each stage says
// it of its own facts; whoever keeps a proof keeps it beside.
package ground

import (
	"fmt"
	"strings"
)

// Ground is one thing that a stage's facts say of a view. The zero Is and Exact say that it isn't known.
type Ground struct {
	Of    string `json:"of"`              // whose it is, for people and for comparing: "channel", "masks"
	Is    string `json:"is"`              // for people: "Terminal recorder 3"
	Exact string `json:"exact,omitempty"` // what is compared; empty: Is
	Under Under  `json:"-"`
}

// Under is what rests on a ground.
type Under int

// What rests on grounds.
const (
	Proof   Under = 1 << iota // a walk test
	Picture                   // a picture that a person accepted
)

// For are the grounds that something rests on.
func For(u Under, all []Ground) (out []Ground) {
	for _, g := range all {
		if g.Under&u != 0 {
			out = append(out, g)
		}
	}
	return out
}

func (g Ground) exact() string {
	if g.Exact == "" {
		return g.Is
	}
	return g.Exact
}

// Difference is a ground that is otherwise now.
type Difference struct {
	Of, Was string
	Is      string // empty: it isn't known any more
}

// String is the difference in words: "its channel changed from 3 to 5".
func (d Difference) String() string {
	switch {
	case d.Is == "":
		return fmt.Sprintf("its %s (%s then) can't be told now", d.Of, d.Was)
	case d.Is == d.Was:
		return fmt.Sprintf("its %s changed (still called %s)", d.Of, d.Is)
	}
	return fmt.Sprintf("its %s changed from %s to %s", d.Of, d.Was, d.Is)
}

// Changed lists what is otherwise than it was, in the order in which it was kept. What wasn't known then, or wasn't
// asked for then or isn't now (a stage that came, or went), isn't held against it.
func Changed(then, now []Ground) (out []Difference) {
	is := make(map[string]Ground, len(now))
	for _, g := range now {
		is[g.Of] = g
	}
	for _, was := range then {
		g, asked := is[was.Of]
		if asked && was.exact() != "" && was.exact() != g.exact() {
			out = append(out, Difference{was.Of, was.Is, g.Is})
		}
	}
	return out
}

// Words are some differences as the rest of a sentence.
func Words(all []Difference) string {
	parts := make([]string, len(all))
	for i, d := range all {
		parts[i] = d.String()
	}
	return strings.Join(parts, "; ")
}

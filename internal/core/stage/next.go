package stage

import (
	"fmt"
	"strings"
)

// Row is one source for Next: its marks and how many changes each stage proposes.
type Row struct {
	Place     string
	Marks     map[Stage]Mark
	Proposals map[Stage]int
}

// Suggestion is the next thing to do: on which stage, for how many sources, why.
type Suggestion struct {
	Stage    Stage
	Count    int
	Sentence string
	Button   string
}

// Next picks one act: first a change that unblocks, then the earliest reading that
// is possible, then the earliest change that waits, then a walk. ok is false when
// nothing is left that can be done from here.
func Next(rows []Row) (s Suggestion, ok bool) {
	if len(rows) > 0 && count(rows, func(r Row) bool { return r.state(Find) != NotYet }) == 0 {
		return Suggestion{Find, len(rows), fmt.Sprintf("Nothing was looked for yet; %s on the list.", cameras(len(rows), "is", "are")), "Open Find"}, true
	}
	for _, st := range All() {
		blocked := func(r Row) bool { return r.state(st) == Blocked && r.Proposals[st] > 0 }
		if n := count(rows, blocked); n > 0 {
			r := first(rows, blocked)
			return Suggestion{st, n, fmt.Sprintf("%s: %s %s", r.Place, opening(r.Marks[st].Sentence), changes(r.Proposals[st])), "Open " + st.String()}, true
		}
	}
	for _, st := range All() {
		if st == Find || !st.Built() {
			continue
		}
		waiting := func(r Row) bool { return r.Proposals[st] > 0 && r.state(st) != Ready }
		unread := func(r Row) bool {
			return r.state(st) == NotYet && r.state(Find) != Blocked && r.state(Find) != NotYet && r.free(st)
		}
		if n := count(rows, waiting); n > 0 {
			return Suggestion{st, n, fmt.Sprintf("%s: %s for %s.", st, changesOf(rows, st), cameras(n, "", "")), "Open " + st.String()}, true
		}
		if n := count(rows, unread); n > 0 {
			return Suggestion{st, n, fmt.Sprintf("%s: nothing stands in the way for %s.", st, cameras(n, "", "")), "Open " + st.String()}, true
		}
		if n := count(rows, func(r Row) bool { return r.state(st) == Stale }); n > 0 {
			return Suggestion{st, n, fmt.Sprintf("%s is stale for %s: what it rests on changed.", st, cameras(n, "", "")), "Open " + st.String()}, true
		}
	}
	return Suggestion{}, false
}

func (r Row) state(s Stage) State {
	if m, ok := r.Marks[s]; ok {
		return m.State
	}
	return NotYet
}

// free says whether nothing that the wire makes s wait for is still open.
func (r Row) free(s Stage) bool {
	for _, w := range s.Waits() {
		if st := r.state(w.For); st != Ready && st != Stale && !(w.For == Find && st == Needs) {
			return false
		}
	}
	return true
}

func count(rows []Row, is func(Row) bool) int {
	n := 0
	for _, r := range rows {
		if is(r) {
			n++
		}
	}
	return n
}

func first(rows []Row, is func(Row) bool) Row {
	for _, r := range rows {
		if is(r) {
			return r
		}
	}
	return Row{}
}

func cameras(n int, one, many string) string {
	if n == 1 {
		return trim("1 camera " + one)
	}
	return trim(fmt.Sprintf("%d cameras %s", n, many))
}

// opening is the first sentence of a text; the sheet tells the rest.
func opening(s string) string {
	if i := strings.Index(s, ". "); i > 0 {
		return s[:i+1]
	}
	return s
}

func trim(s string) string {
	for s != "" && s[len(s)-1] == ' ' {
		s = s[:len(s)-1]
	}
	return s
}

func changes(n int) string {
	if n == 1 {
		return "One change mends it."
	}
	return fmt.Sprintf("%d changes mend it.", n)
}

func changesOf(rows []Row, st Stage) string {
	n := 0
	for _, r := range rows {
		n += r.Proposals[st]
	}
	if n == 1 {
		return "1 change is proposed"
	}
	return fmt.Sprintf("%d changes are proposed", n)
}

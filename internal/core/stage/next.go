package stage

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Group is how many sources of a site stand alike: in one stage, in one state, with
// one act that would move them on.
type Group struct {
	Stage   Stage
	State   State
	Act     Act
	Count   int // sources
	Changes int // proposed for them
}

// Suggestion is the next thing to do: one act in one stage, for how many sources,
// and why that one.
type Suggestion struct {
	Group
	Others  int   // sources that the next best act would move on
	Instead Stage // where that would be; 0 where nothing else can be done
}

// Next picks the act that unblocks most sources; where none is blocked by what an
// act can mend, the act that moves most sources on. Equals go by the order of the
// work. Looking comes first where nothing was looked for, or no camera is known at all;
// looking again is nobody's next thing, what Find proposes to write is. ok is false when
// nothing is left that can be done from here.
func Next(total int, groups []Group) (s Suggestion, ok bool) {
	looked := 0
	acts := map[[2]any]Group{}
	for _, g := range groups {
		if g.Stage == Find && g.State != NotYet {
			looked += g.Count
		}
		if g.Count == 0 || g.Act == Shared || g.Act == NoAct && (g.State != Blocked || g.Stage == Find) {
			continue
		}
		// Blocked ones are told apart: they outweigh whatever merely waits.
		k := [2]any{g.Stage, [2]any{g.Act, g.State == Blocked}}
		have := acts[k]
		g.Count, g.Changes = g.Count+have.Count, g.Changes+have.Changes
		acts[k] = g
	}
	if total == 0 || looked == 0 {
		return Suggestion{Group: Group{Stage: Find, State: NotYet, Act: Read, Count: total}}, true
	}
	var all []Group
	for _, g := range acts {
		if g.Stage != Find || g.Act == Apply {
			all = append(all, g)
		}
	}
	if len(all) == 0 {
		return Suggestion{}, false
	}
	slices.SortFunc(all, func(a, b Group) int {
		return cmp.Or(-cmp.Compare(rank(a), rank(b)), -cmp.Compare(weight(a), weight(b)), cmp.Compare(a.Stage, b.Stage),
			cmp.Compare(a.Act, b.Act))
	})
	s.Group = all[0]
	if len(all) > 1 {
		s.Others, s.Instead = all[1].Count, all[1].Stage
	}
	return s, true
}

// rank is what comes before all that weighs less or more: what an act unblocks, then what a press does or somebody must
// look at, then what a press merely opens the page of.
func rank(g Group) int {
	switch {
	case g.State == Blocked && g.Act != NoAct:
		return 2
	case g.Act == NoAct || (Suggestion{Group: g}).Does():
		return 1
	}
	return 0
}

// blockedWeighs is how many cameras that merely need something one weighs that is blocked and that no
// act mends: somebody must look, though a rename could be made at once.
const blockedWeighs = 3

func weight(g Group) int {
	if g.State == Blocked && g.Act == NoAct {
		return blockedWeighs * g.Count
	}
	return g.Count
}

// Looks says whether the suggestion is to look at the networks.
func (s Suggestion) Looks() bool { return s.Stage == Find && s.Act == Read }

// Button is the label of the suggestion's button: what a press does. What is to be written is shown by it first.
func (s Suggestion) Button() string {
	switch {
	case s.Looks():
		return "Look, and read on"
	case s.Act == Read:
		return "Read " + s.Stage.String()
	case s.Act == Apply && s.Changes == 1:
		return "Show the change"
	case s.Act == Apply && s.Changes > 1:
		return "Show " + Thousands(s.Changes) + " changes"
	}
	return "Open " + s.Stage.String()
}

// Does says whether a press of the button does it; else there is only a page to open.
func (s Suggestion) Does() bool { return s.Act == Read || s.Act == Apply && s.Changes > 0 }

// Sentence words the suggestion. place and sentence are those of its first source,
// which a suggestion for one source names.
func (s Suggestion) Sentence(place, sentence string) string {
	switch {
	case s.Looks() && s.Count == 0:
		return "No camera is known yet: look what is on the networks, or put the cameras on the expected list."
	case s.Looks():
		return fmt.Sprintf("Nothing was looked for yet; %s on the list.", cameras(s.Count, "is", "are"))
	case s.Act == NoAct && s.Count == 1:
		return fmt.Sprintf("%s: %s", place, opening(sentence))
	case s.Act == NoAct:
		return fmt.Sprintf("%s: %s blocked, and each has its own way out.", s.Stage, cameras(s.Count, "is", "are"))
	case s.Act == Apply && s.Count == 1 && s.State == Blocked:
		return fmt.Sprintf("%s: %s %s", place, opening(sentence), mends(s.Changes))
	case s.Act == Apply && s.State == Blocked:
		return fmt.Sprintf("%s: %s blocked; %s", s.Stage, cameras(s.Count, "is", "are"), strings.ToLower(mends(s.Changes)))
	case s.Act == Apply:
		return fmt.Sprintf("%s: %s for %s.", s.Stage, proposed(s.Changes), cameras(s.Count, "", ""))
	case s.State == Stale:
		return fmt.Sprintf("%s is stale for %s: what it rests on changed.", s.Stage, cameras(s.Count, "", ""))
	}
	return fmt.Sprintf("%s: nothing stands in the way for %s.", s.Stage, cameras(s.Count, "", ""))
}

// Reason says why this act comes first.
func (s Suggestion) Reason() string {
	moves := fmt.Sprintf("One act moves %s on", cameras(s.Count, "", ""))
	if s.State == Blocked {
		moves = fmt.Sprintf("One act unblocks %s", cameras(s.Count, "", ""))
	}
	switch {
	case s.Act == NoAct:
		return "It is blocked, and no change can be proposed from here: see the way out in its sheet."
	case s.Looks():
		return "Every other stage waits for it."
	case s.Instead == 0:
		return moves + "; nothing else can be done from here now."
	}
	return fmt.Sprintf("%s; the next best, %s, moves %s.", moves, s.Instead, Thousands(s.Others))
}

func cameras(n int, one, many string) string {
	if n == 1 {
		return strings.TrimSpace("1 camera " + one)
	}
	return strings.TrimSpace(fmt.Sprintf("%s cameras %s", Thousands(n), many))
}

// opening is the first sentence of a text; the sheet tells the rest.
func opening(s string) string {
	if i := strings.Index(s, ". "); i > 0 {
		return s[:i+1]
	}
	return s
}

func mends(n int) string {
	if n == 1 {
		return "One change mends it."
	}
	return Thousands(n) + " changes mend it."
}

func proposed(n int) string {
	if n == 1 {
		return "1 change is proposed"
	}
	return Thousands(n) + " changes are proposed"
}

// Thousands writes a count as people read it: 3,000.
func Thousands(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Finished says whether nothing of a stage waits for anyone, of so many sources: each is ready, or it doesn't apply.
func Finished(s Stage, total int, groups []Group) bool {
	done := 0
	for _, g := range groups {
		if g.Stage == s && (g.State == Ready || g.State == NotHere) {
			done += g.Count
		}
	}
	return total > 0 && done >= total
}

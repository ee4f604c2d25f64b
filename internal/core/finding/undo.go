package finding

import (
	"cmp"
	"maps"
	"slices"
	"strings"
)

// Inverse is the change that takes c back. A reversible one is its own kind with
// From and To exchanged, and with them each argument "x" that has an "old_x"; a
// compensating one is the named act. ok is false where nothing takes it back.
func (c Change) Inverse() (Change, bool) {
	back := Change{Kind: c.Kind, Key: c.Key, Title: "Undo: " + c.Title, From: c.To, To: c.From, Why: c.Undo.Note,
		Risk: c.Risk, Args: exchanged(c.Args)}
	switch c.Undo.Kind {
	case Reversible:
		back.Undo = Undo{Kind: Reversible, Note: "Make the change again."}
		return back, true
	case Compensating:
		if c.Undo.Act == "" {
			return Change{}, false
		}
		back.Kind, back.To, back.Args = c.Undo.Act, c.Undo.To, c.Undo.Args
		back.Undo = Undo{Kind: Irreversible, Note: "It takes a change back; make that change again instead."}
		return back, true
	}
	return Change{}, false
}

// exchanged swaps each argument "x" with its "old_x".
func exchanged(args map[string]string) map[string]string {
	out := maps.Clone(args)
	for k, v := range args {
		if name, ok := strings.CutPrefix(k, "old_"); ok {
			out[name], out[k] = v, args[name]
		}
	}
	return out
}

// weight orders risks by what a failure would cost the changes after it.
func (r Risk) weight() int { return slices.Index([]Risk{NoRisk, Gap, Restart, Address}, r) }

// Arrange puts one device's changes in a safe order: settings first, then what
// leaves a gap, then restarts, and last what may leave the device at another
// address, after which nothing could be written to it. Equals keep their order.
func Arrange(all []Change) []Change {
	out := slices.Clone(all)
	slices.SortStableFunc(out, func(a, b Change) int { return cmp.Compare(a.Risk.weight(), b.Risk.weight()) })
	return out
}

// Turn is a device's place in a set that is changed: 0 goes first. Devices whose
// changes risk nothing go before those that restart or move, so that what is still
// needed to reach others is touched last.
func Turn(all []Change) int {
	turn := 0
	for _, c := range all {
		turn = max(turn, c.Risk.weight())
	}
	return turn
}

// Standing is how a change stands that may be taken back.
type Standing struct {
	Made     bool // the device reads as it wanted
	Latest   bool // the same thing wasn't changed again since
	Enrolled bool // the view that it was made for still is
	Gone     bool // its device, or the recorder that it was written to, is off the site
}

// TakeBack is the change that takes c back, or why it can't be taken back. The pages offer an
// undo where why is empty, and nowhere else.
func TakeBack(c Change, is Standing) (back Change, why string) {
	back, ok := c.Inverse()
	switch {
	case is.Gone:
		return Change{}, "What it was written to was taken off this site: there is nothing to write to."
	case !is.Enrolled:
		return Change{}, "The view that it was made for isn't one of the site's any more."
	case !is.Made:
		return Change{}, "That change doesn't stand: there is nothing to take back."
	case !ok:
		return Change{}, "It can't be taken back: " + c.Undo.Note
	case !is.Latest:
		return Change{}, "The same thing was changed again since: take that one back first."
	}
	return back, ""
}

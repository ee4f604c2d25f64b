package stage

// Act is what a person can have done about a mark from here.
type Act string

const (
	NoAct Act = ""
	Read  Act = "read"  // read its facts
	Apply Act = "apply" // make the proposed changes
	Walk  Act = "walk"  // walk the test
	// Shared is the act of a device's further views in a stage that is the device's: what
	// can be done is offered once, at its first view.
	Shared Act = "shared"
)

// ActOf says what would move a mark on: its proposed changes where there are any,
// else a reading (a walk in Prove) where nothing was read and the way is free, or
// where what was read is stale. free says whether everything the wire makes s wait
// for is done.
func ActOf(s Stage, m Mark, proposals int, free bool) Act {
	switch {
	case proposals > 0 && m.State != Ready:
		return Apply
	case m.State == Stale, m.State == NotYet && free:
		return s.row().reads
	}
	return NoAct
}

// OfSource is the act of a device's nth view, from 1, in a stage whose act at the first is a.
func (a Act) OfSource(s Stage, nth int) Act {
	if a != NoAct && s.OfDevice() && nth > 1 {
		return Shared
	}
	return a
}

// Free says whether nothing that the wire makes s wait for is still open. A source
// that answered and needs a person in Find can be spoken to all the same.
func Free(s Stage, before func(Stage) State) bool {
	for _, w := range s.Waits() {
		if st := before(w.For); st != Ready && st != Stale && st != NotHere && !(w.For == Find && st == Needs) {
			return false
		}
	}
	return true
}

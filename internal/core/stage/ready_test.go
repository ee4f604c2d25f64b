package stage

import (
	"slices"
	"testing"
)

func TestWhatAStageRequires(t *testing.T) {
	for s, want := range map[Stage][]Requirement{Find: nil, SignIn: {Speaks, Certain}, Clock: {SpeaksONVIF},
		Streams: {Seen, Opened}, Channels: nil, Analytics: {SpeaksONVIF, Opened}, Routes: {Seen, Opened}, Prove: nil} {
		if got := s.Requires(); !slices.Equal(got, want) {
			t.Errorf("%v requires %v, want %v", s, got, want)
		}
	}
}

// Every state has its place in the order, and a letter of its own.
func TestUrgency(t *testing.T) {
	seen := map[string]State{}
	for _, s := range []State{Ready, Needs, Blocked, NotYet, Working, NotHere, Stale} {
		if !slices.Contains(Urgency(), s) {
			t.Errorf("%s has no place", s)
		}
		if other, taken := seen[s.Letter()]; taken || len(s.Letter()) != 1 {
			t.Errorf("%s and %s share the letter %q", s, other, s.Letter())
		}
		seen[s.Letter()] = s
	}
	u := Urgency()
	if len(u) != 7 || u[0] != Blocked || u[1] != Needs || u[2] != Stale || slices.Index(u, Ready) < slices.Index(u, NotYet) {
		t.Errorf("the order: %v", u)
	}
}

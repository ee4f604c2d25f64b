package shell

import (
	"slices"
	"testing"
)

func TestWhatDiffersIsShown(t *testing.T) {
	for _, x := range []struct{ from, to, cutFrom, cutTo string }{
		{"a, b, c", "a, d, c", "b", "d"},
		{"a, b, c", "d, b, e", "a, c", "d, e"},
		{"a, b", "c, d", "a, b", "c, d"},       // nothing is shared
		{"a, b", "a, b, c", "a, b", "a, b, c"}, // not of one length
		{"a, b", "a, b", "a, b", "a, b"},
		{"", "a", "", "a"},
	} {
		if got := differing(x.from, x.to); got != (fromTo{x.cutFrom, x.cutTo}) {
			t.Errorf("%q → %q is %+v", x.from, x.to, got)
		}
	}
}

func TestWhatIsSaidOfSeveralIsSaidOnce(t *testing.T) {
	got := together([]string{"Slipway: no account.", "Crew mess: its sizes are 2.", "Gangway: no account.", "And that is all.", "Ice plant: A: no account."})
	want := []string{"Slipway, Gangway: no account.", "Crew mess: its sizes are 2.", "And that is all.", "Ice plant: A: no account."}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if got := together(nil); len(got) != 0 {
		t.Errorf("%q", got)
	}
}

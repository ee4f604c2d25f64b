package finding

import (
	"slices"
	"testing"
)

func TestWhatFollowsWhenOneOfAWholeFails(t *testing.T) {
	back, none := Change{Undo: Undo{Kind: Reversible}}, Change{Undo: Undo{Kind: Irreversible, Note: "gone"}}
	made := Standing{Change: back, Made: true, Wrote: true}
	for _, tc := range []struct {
		name   string
		all    []Standing
		failed int
		want   []Fate
	}{
		{"the first", []Standing{{Change: back}, {Change: back, Asked: true}, {Change: none, Asked: true}}, 0, []Fate{Untouched, NotSent, NotSent}},
		{"the last", []Standing{made, {Change: none, Made: true, Wrote: true}, {Change: back}}, 2, []Fate{TakenBack, Stands, Untouched}},
		{"found so already", []Standing{{Change: back, Made: true}, {Change: back}}, 1, []Fate{Untouched, Untouched}},
		{"failed before it was sent", []Standing{made, {Change: back, Asked: true}}, 1, []Fate{TakenBack, Untouched}},
		{"what takes back is left alone", []Standing{made, {Change: back, Made: true, Wrote: true, TakesBack: true}, {Change: back}}, 2, []Fate{TakenBack, Untouched, Untouched}},
	} {
		if got := Fallout(tc.all, tc.failed, true); !slices.Equal(got, tc.want) {
			t.Errorf("%s: %v, want %v", tc.name, got, tc.want)
		}
	}
}

// A guard isn't lifted while it isn't known how what it guards ended, nor by what was
// to lift it.
func TestAGuardStays(t *testing.T) {
	guard := Standing{Change: Change{Kind: "pause", Args: map[string]string{Guards: "password"}, Undo: Undo{Kind: Reversible}}, Made: true, Wrote: true}
	other := Standing{Change: Change{Kind: "zone", Undo: Undo{Kind: Reversible}}, Made: true, Wrote: true}
	password := Standing{Change: Change{Kind: "password", Undo: Undo{Kind: Reversible}}, Wrote: true}
	all := []Standing{guard, other, password, {Change: Change{Kind: "hold"}, Asked: true}}
	for known, want := range map[bool][]Fate{false: {Stays, TakenBack, Untouched, NotSent}, true: {TakenBack, TakenBack, Untouched, NotSent}} {
		if got := Fallout(all, 2, known); !slices.Equal(got, want) {
			t.Errorf("known %v: %v, want %v", known, got, want)
		}
	}
	lifts, undoes := guard, password // both are being taken back
	lifts.Made, lifts.Wrote, lifts.TakesBack, lifts.Asked = false, false, true, true
	undoes.TakesBack = true
	for known, want := range map[bool][]Fate{false: {Untouched, NotSent}, true: {Untouched, Untouched}} {
		if got := Fallout([]Standing{undoes, lifts}, 0, known); !slices.Equal(got, want) {
			t.Errorf("taking back, known %v: %v, want %v", known, got, want)
		}
	}
}

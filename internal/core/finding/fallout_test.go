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
		if got := Fallout(tc.all, tc.failed); !slices.Equal(got, tc.want) {
			t.Errorf("%s: %v, want %v", tc.name, got, tc.want)
		}
	}
}

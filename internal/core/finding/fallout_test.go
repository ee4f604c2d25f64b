package finding

import (
	"slices"
	"testing"
)

func TestWhatFollowsWhenOneOfAWholeFails(t *testing.T) {
	back, none := Change{Undo: Undo{Kind: Reversible}}, Change{Undo: Undo{Kind: Irreversible, Note: "gone"}}
	made := Entry{Change: back, Made: true, Wrote: true}
	for _, tc := range []struct {
		name   string
		all    []Entry
		failed int
		want   []Fate
	}{
		{"the first", []Entry{{Change: back}, {Change: back, Asked: true}, {Change: none, Asked: true}}, 0,
			[]Fate{Untouched, NotSent, NotSent}},
		{"the last", []Entry{made, {Change: none, Made: true, Wrote: true}, {Change: back}}, 2, []Fate{TakenBack, Stands, Untouched}},
		{"found so already", []Entry{{Change: back, Made: true}, {Change: back}}, 1, []Fate{Untouched, Untouched}},
		{"failed before it was sent", []Entry{made, {Change: back, Asked: true}}, 1, []Fate{TakenBack, Untouched}},
		{"what takes back is left alone", []Entry{made, {Change: back, Made: true, Wrote: true, TakesBack: true},
			{Change: back}}, 2, []Fate{TakenBack, Untouched, Untouched}},
	} {
		if got := Fallout(tc.all, tc.failed, true); !slices.Equal(got, tc.want) {
			t.Errorf("%s: %v, want %v", tc.name, got, tc.want)
		}
	}
}

// A guard isn't lifted while it isn't known how what it guards ended, nor by what was
// to lift it.
func TestAGuardStays(t *testing.T) {
	guard := Entry{Change: Change{Kind: "pause", Args: map[string]string{Guards: "password"},
		Undo: Undo{Kind: Reversible}}, Made: true, Wrote: true}
	other := Entry{Change: Change{Kind: "zone", Undo: Undo{Kind: Reversible}}, Made: true, Wrote: true}
	password := Entry{Change: Change{Kind: "password", Undo: Undo{Kind: Reversible}}, Wrote: true}
	all := []Entry{guard, other, password, {Change: Change{Kind: "hold"}, Asked: true}}
	for known, want := range map[bool][]Fate{false: {Stays, TakenBack, Untouched, NotSent},
		true: {TakenBack, TakenBack, Untouched, NotSent}} {
		if got := Fallout(all, 2, known); !slices.Equal(got, want) {
			t.Errorf("known %v: %v, want %v", known, got, want)
		}
	}
	lifts, undoes := guard, password // both are being taken back
	lifts.Made, lifts.Wrote, lifts.TakesBack, lifts.Asked = false, false, true, true
	undoes.TakesBack = true
	for _, known := range []bool{false, true} { // either way the camera may have the new password
		if got := Fallout([]Entry{undoes, lifts}, 0, known); !slices.Equal(got, []Fate{Untouched, NotSent}) {
			t.Errorf("taking back, known %v: %v", known, got)
		}
	}
	if got := Fallout([]Entry{{Change: other.Change, TakesBack: true}, lifts}, 0, true); !slices.Equal(got, []Fate{Untouched, Untouched}) {
		t.Errorf("taking back what it doesn't guard: %v", got)
	}
}

// Lifting a guard that failed half-way, or nobody knows how, is taken back first; where
// that fails nothing else is taken back.
func TestAGuardIsPutBackFirst(t *testing.T) {
	args := map[string]string{Guards: "password"}
	made := Entry{Change: Change{Kind: "password", Undo: Undo{Kind: Reversible}}, Made: true, Wrote: true}
	lift := Entry{Change: Change{Kind: "resume", Args: args, Undo: Undo{Kind: Reversible}}, Wrote: true}
	left := lift
	left.Left = true
	unsent := lift
	unsent.Wrote = false
	for _, tc := range []struct {
		name  string
		last  Entry
		known bool
		want  []Fate
	}{
		{"half-way", left, true, []Fate{TakenBack, TakenBack}},
		{"nobody knows", lift, false, []Fate{TakenBack, TakenBack}},
		{"it reads as it was", lift, true, []Fate{TakenBack, Untouched}},
		{"never sent", unsent, false, []Fate{TakenBack, Untouched}},
	} {
		if got := Fallout([]Entry{made, tc.last}, 1, tc.known); !slices.Equal(got, tc.want) {
			t.Errorf("%s: %v, want %v", tc.name, got, tc.want)
		}
	}
	plain := Entry{Change: Change{Kind: "zone", Undo: Undo{Kind: Reversible}}, Wrote: true}
	for known, want := range map[bool]Fate{true: Untouched, false: Untouched} {
		if got := Fallout([]Entry{plain}, 0, known); got[0] != want {
			t.Errorf("a plain one, known %v: %v", known, got)
		}
	}
	plain.Left = true
	if got := Fallout([]Entry{plain}, 0, true); got[0] != TakenBack {
		t.Errorf("a plain one that was left half-way: %v", got)
	}
	back := func(s Entry) Entry {
		return Entry{Change: s.Change, TakesBack: true, Asked: true}
	}
	all := []Entry{made, lift, back(lift), back(made), back(plain)}
	if got := Fallout(all, 2, true); got[3] != NotSent || got[4] != NotSent {
		t.Errorf("the guard wasn't put back: %v", got)
	}
}

// What others follow from is taken back before them; where it still reads as it was made, they stay, and
// what guards it is lifted.
func TestWhatFollowsStaysWithWhatItFollows(t *testing.T) {
	of := func(kind string, args map[string]string) Entry {
		return Entry{Change: Change{Kind: kind, Args: args, Undo: Undo{Kind: Reversible}}, Made: true, Wrote: true}
	}
	guards, follows := map[string]string{Guards: "password"}, map[string]string{Follows: "password"}
	all := []Entry{of("pause", guards), of("password", nil), of("hold", follows), of("hold", follows), of("resume", guards), of("resume", guards)}
	all[5].Made, all[5].Left = false, true
	fates := Fallout(all, 5, true)
	if got := BackOrder(all, fates); !slices.Equal(got, []int{5, 4, 1, 3, 2, 0}) {
		t.Errorf("taken back in the order %v", got)
	}
	var back []Entry
	for _, i := range []int{1, 3, 2, 0} {
		back = append(back, Entry{Change: all[i].Change, TakesBack: true, Asked: true})
	}
	back[0].Asked = false
	for _, x := range []struct {
		kept, known bool
		want        []Fate
	}{
		{true, true, []Fate{Untouched, NotSent, NotSent, Untouched}},    // the new password is held, and channels are resumed
		{false, true, []Fate{Untouched, Untouched, Untouched, NotSent}}, // it reads neither
		{false, false, []Fate{Untouched, Untouched, Untouched, NotSent}},
	} {
		b := slices.Clone(back)
		b[0].Kept = x.kept
		if got := Fallout(b, 0, x.known); !slices.Equal(got, x.want) {
			t.Errorf("kept %t, known %t: %v, want %v", x.kept, x.known, got, x.want)
		}
	}
}

// Where a guard can't be put back nothing else is taken back, also where it is known that it stands.
func TestAGuardThatIsNotPutBackStopsAll(t *testing.T) {
	back := func(kind string, args map[string]string) Entry {
		return Entry{Change: Change{Kind: kind, Args: args, Undo: Undo{Kind: Reversible}}, TakesBack: true, Asked: true}
	}
	guards, follows := map[string]string{Guards: "password"}, map[string]string{Follows: "password"}
	all := []Entry{back("resume", guards), back("password", nil), back("hold", follows), back("pause", guards)}
	all[0].Asked, all[0].Kept = false, true
	for _, known := range []bool{false, true} {
		if got := Fallout(all, 0, known); !slices.Equal(got, []Fate{Untouched, NotSent, NotSent, NotSent}) {
			t.Errorf("known %t: %v", known, got)
		}
	}
}

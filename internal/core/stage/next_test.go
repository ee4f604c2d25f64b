package stage

import (
	"strings"
	"testing"
)

func row(place string, states ...State) Row {
	r := Row{Place: place, Marks: map[Stage]Mark{}, Proposals: map[Stage]int{}}
	for i, s := range states {
		r.Marks[Stage(i+1)] = Mark{State: s, Sentence: "It is so."}
	}
	return r
}

func TestNext(t *testing.T) {
	blocked := row("Ramp", Ready, Ready, Blocked, Ready)
	blocked.Proposals[Clock] = 2
	unplaced := row("Slip", Ready, Ready, Ready, Ready, Needs)
	unplaced.Proposals[Channels] = 1
	for _, tc := range []struct {
		name string
		rows []Row
		want Stage
		part string
	}{
		{"nothing looked for", []Row{{Place: "a"}, {Place: "b"}}, Find, "2 cameras are on the list"},
		{"found, not signed in", []Row{row("a", Ready, NotYet), row("b", Blocked)}, SignIn, "1 camera"},
		{"what unblocks goes first", []Row{row("a", Ready, NotYet), blocked}, Clock, "Ramp: It is so. 2 changes"},
		{"clock before streams", []Row{row("a", Ready, Ready)}, Clock, ""},
		{"placing", []Row{unplaced}, Channels, "1 change is proposed for 1 camera"},
		{"a stale proof", []Row{row("a", Ready, Ready, Ready, Ready, Ready, NotYet, NotYet, Ready, Stale)}, Prove, "stale"},
	} {
		s, ok := Next(tc.rows)
		if !ok || s.Stage != tc.want || !strings.Contains(s.Sentence, tc.part) || s.Button == "" {
			t.Errorf("%s: %+v, %v; want %v with %q", tc.name, s, ok, tc.want, tc.part)
		}
	}
	done := row("a", Ready, Ready, Ready, Ready, Ready, NotYet, NotYet, Ready, Ready)
	if s, ok := Next([]Row{done, row("b", Blocked)}); ok {
		t.Errorf("something is left to do: %+v", s)
	}
	if _, ok := Next(nil); ok {
		t.Error("an empty site has something to do")
	}
}

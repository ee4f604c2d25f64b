package stage

import (
	"math/rand"
	"strings"
	"testing"
)

func TestNext(t *testing.T) {
	blocked := Group{Clock, Blocked, Apply, 1, 2}
	for _, tc := range []struct {
		name   string
		groups []Group
		want   Stage
		part   string
		reason string
	}{
		{"nothing looked for", []Group{{Find, NotYet, Read, 2, 0}}, Find, "2 cameras are on the list", "waits for it"},
		{"found, not signed in", []Group{{Find, Ready, NoAct, 1, 0}, {Find, Blocked, NoAct, 1, 0},
			{SignIn, NotYet, Read, 1, 0}}, SignIn, "1 camera", "nothing else"},
		{"what unblocks goes first", []Group{{Find, Ready, NoAct, 40, 0}, {SignIn, NotYet, Read, 40, 0}, blocked},
			Clock, "Ramp: It is so. 2 changes", "unblocks 1 camera"},
		{"the most unblocked", []Group{{Find, Ready, NoAct, 40, 0}, blocked, {Channels, Blocked, Apply, 12, 12}},
			Channels, "12 cameras are blocked; 12 changes mend it", "unblocks 12 cameras; the next best, Clock, moves 1."},
		{"equals by the order of the work", []Group{{Find, Ready, NoAct, 2, 0}, {Streams, NotYet, Read, 2, 0},
			{Clock, NotYet, Read, 2, 0}}, Clock, "2 cameras", "Streams"},
		{"what Find proposes", []Group{{Find, Needs, Apply, 2, 2}, {Find, Ready, NoAct, 9, 0}, {Find, Blocked, Read, 3, 0}, {Streams, NotYet, Read, 1, 0}},
			Find, "Find: 2 changes are proposed for 2 cameras.", "moves 2 cameras on; the next best, Streams"},
		{"looking again is no next thing", []Group{{Find, Ready, NoAct, 9, 0}, {Find, Blocked, Read, 3, 0}, {Streams, NotYet, Read, 1, 0}}, Streams, "1 camera", ""},
		{"placing", []Group{{Find, Ready, NoAct, 1, 0}, {Channels, Needs, Apply, 1, 1}}, Channels, "1 change is proposed for 1 camera", ""},
		{"further views of a device", []Group{{Find, Ready, NoAct, 3, 0}, {Clock, Blocked, Shared, 2, 0},
			{Clock, Blocked, Apply, 1, 2}}, Clock, "2 changes", "unblocks 1 camera"},
		{"what is blocked before as many renames", []Group{{Find, Ready, NoAct, 9, 0}, {Channels, Blocked, NoAct, 1, 0}, {Channels, Needs, Apply, 2, 2}}, Channels, "Ramp: It is so.", "It is blocked"},
		{"but not before what moves many on", []Group{{Find, Ready, NoAct, 9, 0}, {Channels, Blocked, NoAct, 1, 0}, {Channels, Needs, Apply, 12, 12}}, Channels, "12 changes are proposed", "moves 12"},
		{"what an act unblocks before both", []Group{{Find, Ready, NoAct, 9, 0}, {Channels, Blocked, NoAct, 9, 0}, blocked}, Clock, "2 changes", "unblocks 1"},
		{"a walk after what a press does", []Group{{Find, Ready, NoAct, 9, 0}, {Prove, NotYet, Walk, 9, 0}, {Streams, NotYet, Read, 1, 0}}, Streams, "1 camera", "the next best, Prove"},
		{"a walk before what is proposed no more", []Group{{Find, Ready, NoAct, 9, 0}, {Prove, NotYet, Walk, 9, 0}, {Streams, Needs, Apply, 1, 0}}, Prove, "9 cameras", ""},
		{"a walk after what somebody must look at", []Group{{Find, Ready, NoAct, 9, 0}, {Prove, NotYet, Walk, 9, 0}, {Channels, Blocked, NoAct, 1, 0}}, Channels, "Ramp: It is so.", "It is blocked"},
		{"a stale proof", []Group{{Find, Ready, NoAct, 1, 0}, {Prove, Stale, Walk, 1, 0}}, Prove, "stale", ""},
	} {
		s, ok := Next(2, tc.groups)
		words := s.Sentence("Ramp", "It is so. And more.")
		if !ok || s.Stage != tc.want || !strings.Contains(words, tc.part) || !strings.Contains(s.Reason(), tc.reason) || s.Button() == "" {
			t.Errorf("%s: %v %q %q, %v; want %v with %q", tc.name, s.Stage, words, s.Reason(), ok, tc.want, tc.part)
		}
	}
	if s, ok := Next(2, []Group{{Find, Ready, NoAct, 1, 0}, {Find, Blocked, NoAct, 1, 0}, {Clock, Ready, NoAct, 1, 0}}); ok {
		t.Errorf("something is left to do: %+v", s)
	}
	if s, ok := Next(0, nil); !ok || s.Stage != Find || s.Act != Read || !strings.HasPrefix(s.Sentence("", ""), "No camera is known yet: look") || s.Button() != "Look, and read on" || !s.Does() {
		t.Errorf("on an empty site: %+v %v %q", s, ok, s.Sentence("", ""))
	}
}

// Whatever the groups, nothing that could be done unblocks more than the suggestion,
// and the order in which they are given doesn't matter.
func TestNextUnblocksMost(t *testing.T) {
	states := []State{Ready, Needs, Blocked, NotYet, Stale}
	acts := []Act{NoAct, Read, Apply, Walk}
	for range 500 {
		groups := []Group{{Find, Ready, NoAct, 9, 0}}
		for range rand.Intn(12) {
			groups = append(groups, Group{Stage(1 + rand.Intn(9)), states[rand.Intn(5)], acts[rand.Intn(4)], 1 + rand.Intn(50), 1})
		}
		s, ok := Next(9, groups)
		for _, g := range groups {
			if g.Act == NoAct && g.State != Blocked || g.Stage == Find && g.Act != Apply {
				continue
			}
			if !ok || rank(g) > rank(s.Group) || rank(g) == rank(s.Group) && weight(g) > weight(s.Group) {
				t.Fatalf("%+v was picked before %+v (%v)", s, g, ok)
			}
		}
		rand.Shuffle(len(groups), func(i, j int) { groups[i], groups[j] = groups[j], groups[i] })
		if again, _ := Next(9, groups); again.Stage != s.Stage || again.Count != s.Count || again.Act != s.Act {
			t.Fatalf("%+v, in another order %+v", s, again)
		}
	}
}

func TestActOf(t *testing.T) {
	for _, tc := range []struct {
		s         Stage
		state     State
		proposals int
		free      bool
		want      Act
	}{
		{Clock, Blocked, 2, true, Apply}, {Clock, Ready, 1, true, NoAct}, {Clock, Blocked, 0, true, NoAct}, {Clock, NotYet, 0, true, Read},
		{Clock, NotYet, 0, false, NoAct}, {Prove, Stale, 0, true, Walk}, {Prove, NotYet, 0, true, Walk}, {Streams, Stale, 0, true, Read},
	} {
		if got := ActOf(tc.s, Mark{State: tc.state}, tc.proposals, tc.free); got != tc.want {
			t.Errorf("%v %s with %d proposals: %q, want %q", tc.s, tc.state, tc.proposals, got, tc.want)
		}
	}
	if Free(Streams, func(Stage) State { return NotYet }) || !Free(SignIn, func(Stage) State { return Needs }) || Free(Streams, func(Stage) State { return Needs }) || !Free(Find, nil) {
		t.Error("what is free")
	}
}

func TestActOfView(t *testing.T) {
	for _, tc := range []struct {
		act  Act
		s    Stage
		nth  int
		want Act
	}{
		{Apply, Clock, 1, Apply}, {Apply, Clock, 2, Shared}, {Read, Find, 3, Shared}, {NoAct, Clock, 2, NoAct}, {Apply,
			Channels, 2, Apply}, {Walk, Prove, 2, Walk},
	} {
		if got := tc.act.OfSource(tc.s, tc.nth); got != tc.want {
			t.Errorf("%q of view %d in %v: %q, want %q", tc.act, tc.nth, tc.s, got, tc.want)
		}
	}
}

// A button says what a press of it does.
func TestWhatTheNextButtonDoes(t *testing.T) {
	for _, x := range []struct {
		of   Group
		says string
		does bool
	}{
		{Group{Find, NotYet, Read, 0, 0}, "Look, and read on", true},
		{Group{Find, NotYet, Read, 15, 0}, "Look, and read on", true},
		{Group{Clock, NotYet, Read, 3, 0}, "Read Clock", true},
		{Group{Clock, Stale, Read, 1, 0}, "Read Clock", true},
		{Group{Clock, Blocked, Apply, 1, 1}, "Show the change", true},
		{Group{Routes, Needs, Apply, 11, 1022}, "Show 1,022 changes", true},
		{Group{Routes, Needs, Apply, 11, 0}, "Open Routes", false}, // its changes are gone meanwhile
		{Group{Find, Blocked, NoAct, 1, 0}, "Open Find", false},
	} {
		s := Suggestion{Group: x.of}
		if s.Button() != x.says || s.Does() != x.does {
			t.Errorf("%+v: %q, does it %t", x.of, s.Button(), s.Does())
		}
	}
}

func TestFinished(t *testing.T) {
	for _, tc := range []struct {
		name   string
		total  int
		groups []Group
		want   bool
	}{
		{"no camera", 0, nil, false},
		{"nothing is known", 3, nil, false},
		{"all ready", 3, []Group{{Clock, Ready, NoAct, 3, 0}}, true},
		{"one doesn't apply", 3, []Group{{Clock, Ready, NoAct, 2, 0}, {Clock, NotHere, NoAct, 1, 0}}, true},
		{"one needs a person", 3, []Group{{Clock, Ready, NoAct, 2, 0}, {Clock, Needs, Apply, 1, 1}}, false},
		{"one is stale", 3, []Group{{Clock, Ready, NoAct, 2, 0}, {Clock, Stale, Read, 1, 0}}, false},
		{"another stage's", 3, []Group{{Find, Ready, NoAct, 3, 0}, {Clock, Ready, NoAct, 2, 0}}, false},
		{"in two groups", 3, []Group{{Clock, Ready, NoAct, 2, 0}, {Clock, Ready, Apply, 1, 1}}, true},
	} {
		if got := Finished(Clock, tc.total, tc.groups); got != tc.want {
			t.Errorf("%s: %t", tc.name, got)
		}
	}
}

package topic

import (
	"math/rand/v2"
	"slices"
	"testing"
)

func TestCanonical(t *testing.T) {
	for _, tc := range []struct {
		ns   string
		path []string
		want string
	}{
		{Namespace, []string{"RuleEngine", "tns1:LineDetector", "Crossed"}, "tns1:RuleEngine/LineDetector/Crossed"},
		{"urn:pnd", []string{"Gate", "Strain"}, "{urn:pnd}Gate/Strain"},
		{"", []string{"Odd"}, "Odd"},
	} {
		if got := Canonical(tc.ns, tc.path); got != tc.want {
			t.Errorf("Canonical(%q, %v) = %q, want %q", tc.ns, tc.path, got, tc.want)
		}
	}
	if Short("{urn:a/b}Gate/Strain") != "Gate/Strain" || Short("tns1:A/B") != "A/B" {
		t.Error("Short keeps the namespace")
	}
	if Title("{urn:pnd}Gate/Strain") != "Strain" || Title("tns1:VideoSource/MotionAlarm") != "Motion" {
		t.Error("titles")
	}
}

func TestSuggest(t *testing.T) {
	topics := []Description{{Topic: "tns1:RuleEngine/LineDetector/Crossed"}, {Topic: "tns1:VideoSource/MotionAlarm"},
		{Topic: "{urn:x}Own"}, {Topic: "tns1:RuleEngine/FieldDetector/ObjectsInside"}}
	if got := Suggest(topics, []string{"line", "motion"}, true); !slices.ContainsFunc(got, func(s Suggestion) bool { return s.Input == "motion" }) {
		t.Errorf("a plan that waits for motion: %+v", got)
	}
	got := Suggest(topics, []string{"line", "motion"}, false)
	if len(got) != 1 || got[0].Input != "line" || got[0].Reason == "" {
		t.Errorf("%+v", got)
	}
}

func TestNext(t *testing.T) {
	for _, tc := range []struct {
		name  string
		s     State
		op    Operation
		value bool
		blind bool
		want  Phase
	}{
		{"how things stand", State{}, Initialized, true, false, Stands},
		{"a beginning", State{Known: true}, Changed, true, false, Begins},
		{"a beginning from nothing known", State{}, Changed, true, false, Begins},
		{"true again", State{true, true}, Changed, true, false, Repeat},
		{"an end", State{true, true}, Changed, false, false, Ends},
		{"false again", State{true, false}, Changed, false, false, Stands},
		{"missed while blind", State{true, false}, Initialized, true, true, Begins},
		{"still true after blindness", State{true, true}, Initialized, true, true, Stands},
		{"deleted while true", State{true, true}, Deleted, false, false, Ends},
		{"deleted while false", State{true, false}, Deleted, false, false, Stands},
	} {
		if _, got := Next(tc.s, tc.op, tc.value, tc.blind); got != tc.want {
			t.Errorf("%s: %s, want %s", tc.name, got, tc.want)
		}
	}
}

// Whatever is said, without blindness beginnings and ends alternate.
func TestBeginningsAndEndsAlternate(t *testing.T) {
	rnd := rand.New(rand.NewPCG(2, 6))
	ops := []Operation{Initialized, Changed, Changed, Changed, Deleted}
	for range 300 {
		var s State
		open := false
		for range 100 {
			op, value := ops[rnd.IntN(len(ops))], rnd.IntN(2) == 0
			var p Phase
			before := s
			s, p = Next(s, op, value, false)
			switch p {
			case Begins:
				if open {
					t.Fatalf("began twice (%v, %v)", op, value)
				}
				open = true
			case Ends:
				if before.Known && !before.True {
					t.Fatal("ended what hadn't begun")
				}
				open = false
			case Stands:
				open = s.True && s.Known
			}
		}
	}
}

package route

import (
	"slices"
	"testing"

	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/testbed/moment"
)

const (
	line   = "tns1:RuleEngine/LineDetector/Crossed"
	area   = "tns1:RuleEngine/FieldDetector/ObjectsInside"
	motion = "tns1:VideoSource/MotionAlarm"
)

func facts(pegs ...Peg) Facts {
	return Facts{LookedAt: moment.Now(), Topics: []topic.Description{{Topic: line}, {Topic: area, Property: true},
		{Topic: motion, Property: true}},
		Inputs: []string{"line", "area", "motion"}, Pegs: pegs, Channel: 2, Recorder: "Terminal recorder", Events: "listening"}
}

func TestProposeThenNothingLeft(t *testing.T) {
	f := facts()
	if got := Judge(moment.Now(), f, Wishes{}); len(got) != 1 || got[0].Code != "route.none" {
		t.Errorf("%+v", got)
	}
	changes := Propose(moment.Now(), f, Wishes{})
	if len(changes) != 2 {
		t.Fatalf("%+v", changes)
	}
	for _, c := range changes {
		if c.From != "nothing" || c.Key != PegInput+"/"+c.Args["input"] {
			t.Errorf("%+v", c)
		}
		for _, name := range Topics(c.To) {
			f.Pegs = append(f.Pegs, Peg{name, c.Args["input"]})
		}
	}
	if again := Propose(moment.Now(), f, Wishes{}); len(again) != 0 {
		t.Errorf("a second run proposes %+v", again)
	}
	if got := Judge(moment.Now(), f, Wishes{}); len(got) != 0 {
		t.Errorf("%+v", got)
	}
}

func TestJudge(t *testing.T) {
	deaf := facts(Peg{line, "line"}, Peg{area, "area"})
	deaf.Events = "the camera answered ter:NotAuthorized"
	none := facts()
	none.Topics = nil
	for name, tc := range map[string]struct {
		f    Facts
		code string
	}{
		"deaf":      {deaf, "route.deaf"},
		"no topics": {none, "route.no-topics"},
		"open":      {facts(Peg{line, "line"}), "route.open"},
		"unread":    {Facts{Trouble: "No answer."}, "route.unread"},
	} {
		if got := Judge(moment.Now(), tc.f, Wishes{}); len(got) != 1 || got[0].Code != tc.code {
			t.Errorf("%s: %+v, want %s", name, got, tc.code)
		}
	}
	if got := Judge(moment.Now(), Facts{}, Wishes{}); got != nil {
		t.Errorf("not read, and judged: %+v", got)
	}
}

func TestPegAndPullAreInverse(t *testing.T) {
	f := facts(Peg{line, "line"})
	on := Change(f, motion, "line", "", true)
	if !slices.Equal(Topics(on.To), []string{line, motion}) {
		t.Errorf("to %q", on.To)
	}
	g := facts(Peg{line, "line"}, Peg{motion, "line"})
	off := Change(g, motion, "line", "", false)
	if off.From != on.To || off.To != on.From {
		t.Errorf("%q → %q isn't the inverse of %q → %q", off.From, off.To, on.From, on.To)
	}
	if len(Topics(Text(nil, "line"))) != 0 {
		t.Error("an input that hears nothing hears something")
	}
}

// What a person asks of a peg: put where there is none, taken out where it is, refused where it can't be known.
func TestTurn(t *testing.T) {
	crossed, gone := "tns1:RuleEngine/LineDetector/Crossed", "tns1:Device/Trigger/DigitalInput"
	whole := Facts{Channel: 3, Inputs: []string{"line", "motion"}, Topics: []topic.Description{{Topic: crossed}}}
	for _, tc := range []struct {
		name   string
		change func(*Facts)
		peg    Peg
		ok, on bool
	}{
		{"there is none", func(*Facts) {}, Peg{crossed, "line"}, true, true},
		{"it is there", func(f *Facts) { f.Pegs = []Peg{{crossed, "line"}} }, Peg{crossed, "line"}, true, false},
		{"the topic is pegged to another input", func(f *Facts) { f.Pegs = []Peg{{crossed, "motion"}} }, Peg{crossed, "line"}, true, true},
		{"another topic is pegged to the input", func(f *Facts) { f.Pegs = []Peg{{gone, "line"}} }, Peg{crossed, "line"}, true, true},
		{"its topic isn't told any more", func(f *Facts) { f.Pegs, f.Topics = []Peg{{gone, "line"}}, nil }, Peg{gone, "line"}, true, false},
		{"nobody knows the topic", func(*Facts) {}, Peg{gone, "line"}, false, false},
		{"there is no such input", func(*Facts) {}, Peg{crossed, "glass"}, false, false},
		{"nothing is said", func(*Facts) {}, Peg{}, false, false},
		{"it has no channel", func(f *Facts) { f.Channel = 0 }, Peg{crossed, "line"}, false, false},
		{"nothing was read", func(f *Facts) { *f = Facts{} }, Peg{crossed, "line"}, false, false},
	} {
		f := whole
		tc.change(&f)
		c, ok := Turn(f, tc.peg)
		if ok != tc.ok || ok && slices.Contains(Topics(c.Args["topics"]), tc.peg.Topic) != tc.on {
			t.Errorf("%s: %v, %+v", tc.name, ok, c)
		}
	}
}

// What a channel hears is the same in whatever order it is told; none at all is known too.
func TestTheGroundOfInputs(t *testing.T) {
	a, b := Peg{"line", "1"}, Peg{"area", "2"}
	ground := func(all ...Peg) string { _, e := Inputs{Pegs: all}.Ground(); return e }
	if ground(a, b) != ground(b, a) || ground(a) == ground(a, b) || ground(a) == ground(Peg{"line", "2"}) || ground() == "" {
		t.Errorf("%q %q %q", ground(a, b), ground(b, a), ground())
	}
}

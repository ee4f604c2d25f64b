package access

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
)

// Whatever rule can be held within the length that devices take, what is made holds it.
func TestWhatIsGeneratedHoldsTheRule(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 9))
	seen := map[string]bool{}
	for range 3000 {
		r := Rule{Length: rnd.IntN(20), Upper: rnd.IntN(4), Digits: rnd.IntN(4), Signs: rnd.IntN(4), NotName: rnd.IntN(2) == 0}
		if rnd.IntN(3) == 0 {
			r.Longest = 12 + rnd.IntN(16)
			r.Length = min(r.Length, r.Longest)
		}
		chance := make([]byte, Entropy)
		for i := range chance {
			chance[i] = byte(rnd.UintN(256))
		}
		got, err := r.Generate("otter", chance)
		if err != nil {
			t.Fatalf("%+v: %v", r, err)
		}
		again, _ := r.Generate("otter", chance)
		if says := r.Breaks("otter", got); says != "" || got != again || len(got) > longest || len(got) < 12 || seen[got] {
			t.Fatalf("%+v: %q (%s), again %q", r, got, says, again)
		}
		if strings.ContainsAny(got, "0O1lI\"'<>&%:@/ ") {
			t.Fatalf("%q is read out wrongly or wants escaping", got)
		}
		seen[got] = true
	}
}

func TestRulesThatCannotBeHeld(t *testing.T) {
	chance := make([]byte, Entropy)
	for _, r := range []Rule{{Length: 40}, {Upper: 20, Digits: 20}, {Longest: 4, Upper: 2, Digits: 2, Signs: 2}} {
		if got, err := r.Generate("otter", chance); err == nil {
			t.Errorf("%+v: %q", r, got)
		}
	}
	if _, err := (Rule{}).Generate("otter", chance[:8]); err == nil {
		t.Error("eight random bytes are enough")
	}
	for password, says := range map[string]string{"short": "at least 8", "alllowercase": "capital",
		"NoDigitsHere": "digits", "NoSign1234": "signs", "Otter-12345": "user name", "Fine-123456": ""} {
		got := (Rule{Length: 8, Upper: 1, Digits: 1, Signs: 1, NotName: true}).Breaks("otter", password)
		if says == "" && got != "" || !strings.Contains(got, says) {
			t.Errorf("%q: %q, want %q", password, got, says)
		}
	}
	if (Rule{}).String() != "none told" || !strings.Contains((Rule{Length: 10, Upper: 1, Digits: 2,
		NotName: true}).String(), "at least 10 characters, a capital letter, 2 digits, not the user name") {
		t.Error("words of a rule")
	}
}

func TestSetsOfOneDeviceAndOfNetworks(t *testing.T) {
	sets := []Set{{ID: 1, Name: "rest"}, {ID: 2, Name: "own, old", Device: 7}, {ID: 3, Name: "own, new", Device: 7},
		{ID: 4, Name: "another's", Device: 8}, {ID: 5, Name: "quay", Network: 2}, {ID: 6, Name: "terminal", Network: 3}}
	var got []int64
	for _, s := range Order(now, Device{ID: 7, Network: 2}, sets, nil, false, 0) {
		got = append(got, s.ID)
	}
	if !slices.Equal(got, []int64{3, 2, 5, 1, 6}) {
		t.Errorf("%v", got)
	}
	// A set that was wrong is tried again once it opened: it was created since.
	tries := []Try{{At: now.Add(-2 * time.Minute), SetID: 1, Outcome: Wrong, Scheme: Digest},
		{At: now.Add(-time.Minute), SetID: 1, Outcome: Opened, Scheme: Digest}, {At: now, SetID: 5, Outcome: Wrong, Scheme: Web}}
	if all := Order(now, Device{ID: 9}, sets, tries,
		false, 0); !slices.ContainsFunc(all, func(s Set) bool { return s.ID == 1 }) || !slices.ContainsFunc(all, func(s Set) bool { return s.ID == 5 }) {
		t.Errorf("%v", all)
	}
}

// Recorders that knock spend of the same budget.
func TestKnocksCountAgainstTheBudget(t *testing.T) {
	f := Facts{AuthFailures: []AuthFailure{{Times: 9, At: now.Add(-time.Minute)}}}
	if left, until := f.Left(now); left != 0 || !until.Equal(now.Add(Period)) {
		t.Errorf("%d left until %v", left, until)
	}
	f.AuthFailures[0].Times = 1
	f.Tries = []Try{{At: now.Add(-2 * time.Minute), Outcome: Locked}}
	if left, _ := f.Left(now); left != 1 {
		t.Errorf("%d left: a try that a lock answered is none", left)
	}
	// What opens it may be asked all the same where recorders alone spent it, and no other set.
	knocked := Facts{AuthFailures: []AuthFailure{{Times: 9, At: now.Add(-time.Minute)}}, Account: &Account{SetID: 4}}
	if may, _ := knocked.MayTry(now, 4); !may {
		t.Error("what opens it isn't asked while a recorder knocks")
	}
	if may, until := knocked.MayTry(now, 5); may || until.IsZero() {
		t.Error("another set is tried while a recorder knocks")
	}
	knocked.Tries = []Try{{At: now.Add(-time.Minute), SetID: 5, Scheme: Digest, Outcome: Wrong}}
	if may, _ := knocked.MayTry(now, 4); may {
		t.Error("a wrong try of ours, a recorder that knocks, and one more")
	}
	f.AuthFailures[0].At, f.AuthFailures[0].Paused = now.Add(-time.Hour), true
	if left, _ := f.Left(now); left != Budget {
		t.Errorf("%d left an hour after it was paused", left)
	}
}

func TestJudgeHowADeviceIsOpenOrClosed(t *testing.T) {
	open := &Account{Set: "house", Username: "otter", Level: Administrator, RTSP: SameAccount}
	with := func(f func(a *Account)) *Account { a := *open; f(&a); return &a }
	for _, tc := range []struct {
		name string
		f    Facts
		w    Wishes
		code string
		sev  finding.Severity
	}{
		{"new in the box", Facts{NoPassword: true, Rule: &Rule{Length: 10}}, Wishes{}, "access.first-password", finding.Needs},
		{"web alone", Facts{Web: open}, Wishes{}, "access.onvif-account", finding.Blocks},
		{"locked", Facts{LockedTo: now.Add(time.Minute)}, Wishes{}, "access.locked", finding.Blocks},
		{"was locked", Facts{LockedTo: now.Add(-time.Minute)}, Wishes{}, "access.closed", finding.Blocks},
		{"Basic alone", Facts{Basic: true}, Wishes{}, "access.basic", finding.Blocks},
		{"Basic, allowed and wrong", Facts{Basic: true}, Wishes{AllowBasic: true}, "access.closed", finding.Blocks},
		{"in clear, as allowed", Facts{Account: with(func(a *Account) { a.Scheme = Basic })}, Wishes{AllowBasic: true},
			"access.clear", finding.Note},
		{"another certificate", Facts{Pinned: "aaaaaaaaaa", Shown: "bbbbbbbbbb", Trouble: "It shows another."},
			Wishes{}, "access.certificate", finding.Blocks},
		{"the same certificate", Facts{Pinned: "aaaaaaaaaa", Shown: "aaaaaaaaaa", Account: open}, Wishes{}, "", 0},
		{"factory default", Facts{Account: open, Factory: true}, Wishes{}, "access.factory", finding.Needs},
		{"left by others", Facts{Account: open, Former: true}, Wishes{}, "access.former", finding.Needs},
		{"an operator where nothing is written", Facts{Account: with(func(a *Account) { a.Level = Operator })}, Wishes{}, "", 0},
		{"an operator where something is", Facts{Account: with(func(a *Account) { a.Level = Operator })},
			Wishes{Writes: true}, "access.level", finding.Needs},
		{"a user", Facts{Account: with(func(a *Account) { a.Level = "User" })}, Wishes{}, "access.level", finding.Needs},
		{"RTSP takes another set", Facts{Account: with(func(a *Account) { a.RTSP, a.RTSPSet = "opens with streams", 3 })}, Wishes{}, "", 0},
		{"a recorder that holds the right one knocks",
			Facts{Account: open, AuthFailures: []AuthFailure{{Recorder: "Quay recorder", Channel: 2, Times: 3, At: now,
				Label: Label(open.SetID)}}}, Wishes{}, "", 0},
		{"a paused one holds another", Facts{Account: open,
			AuthFailures: []AuthFailure{{Recorder: "Quay recorder", Channel: 2, Paused: true, At: now,
				Label: "set 77"}}}, Wishes{}, "access.held", finding.Needs},
		{"a recorder knocks", Facts{Account: open, AuthFailures: []AuthFailure{{Recorder: "Quay recorder", Channel: 2,
			Times: 3, At: now}}}, Wishes{}, "access.knocking", finding.Needs},
	} {
		tc.f.LookedAt = now
		got := Judge(now, tc.f, tc.w)
		switch {
		case tc.code == "" && len(got) != 0:
			t.Errorf("%s: %+v", tc.name, got)
		case tc.code != "" && (len(got) != 1 || got[0].Code != tc.code || got[0].Severity != tc.sev || got[0].WayOut == "" || got[0].Words == ""):
			t.Errorf("%s: %+v, want %s", tc.name, got, tc.code)
		}
	}
}

func TestProposeAccounts(t *testing.T) {
	w := Wishes{Name: "otter"}
	first := Propose(now, Facts{LookedAt: now, NoPassword: true}, w)
	if len(first) != 1 || first[0].Kind != SetFirst || first[0].From != NoPassword || first[0].To != "otter, Administrator" || first[0].Undo.Kind != finding.Irreversible || first[0].Undo.Note == "" {
		t.Errorf("%+v", first)
	}
	web := &Account{SetID: 4, Username: "otter"}
	for writes, level := range map[bool]string{false: Operator, true: Administrator} {
		made := Propose(now, Facts{LookedAt: now, Web: web}, Wishes{Name: "otter", Writes: writes})
		if len(made) != 1 || made[0].Kind != CreateAccount || made[0].Args["level"] != level || made[0].Args["set"] != "4" {
			t.Errorf("writes %v: %+v", writes, made)
		}
	}
	knock := AuthFailure{Recorder: "Quay recorder", RecorderID: 2, Channel: 3, Label: "set 1"}
	f := Facts{LookedAt: now, Account: &Account{SetID: 9}, AuthFailures: []AuthFailure{knock}}
	if held := Propose(now, f, w); len(held) != 1 || held[0].Kind != Hold || held[0].From != "set 1" || held[0].To != "set 9" {
		t.Errorf("%+v", held)
	}
	f.AuthFailures[0].Paused = true
	if all := Propose(now, f, Wishes{}); len(all) != 1 || all[0].Kind != Hold || !strings.Contains(all[0].Why, "paused") {
		t.Errorf("a paused one: %+v", all)
	}
	f.AuthFailures[0].Label = "set 9"
	if got := Propose(now, f, w); len(got) != 0 {
		t.Errorf("it holds that account already: %+v", got)
	}
	if got := Propose(now, Facts{}, w); len(got) != 0 {
		t.Errorf("not looked at yet: %+v", got)
	}
}

// A rotation is one whole: what holds the password is paused before it changes and
// resumed after, each part is reversible, and going back is the same way backwards.
func TestRotateIsOneReversibleWhole(t *testing.T) {
	from, to := Set{ID: 1, Name: "house", Username: "otter"}, Set{ID: 2, Name: "own", Username: "otter"}
	deps := []Dependant{{Recorder: 5, Name: "Quay recorder", Channel: 3, Receiving: true},
		{Recorder: 6, Name: "Terminal recorder", Channel: 1, Label: "set 1"}, {Recorder: 6, Name: "Terminal recorder",
			Channel: 2, Paused: true}}
	all := Rotate(from, to, deps)
	var kinds []string
	keys := map[string]bool{}
	for _, c := range all {
		kinds = append(kinds, c.Kind)
		if c.Undo.Kind != finding.Reversible || c.Risk != finding.Gap || keys[c.Key] {
			t.Errorf("%+v", c)
		}
		keys[c.Key] = true
		if back, ok := c.Inverse(); !ok || back.From != c.To || back.To != c.From {
			t.Errorf("%s isn't taken back: %+v", c.Kind, back)
		}
	}
	if want := []string{Pause, Pause, Change, Hold, Hold, Hold, Resume, Resume}; !slices.Equal(kinds, want) {
		t.Errorf("%v, want %v", kinds, want)
	}
	if all[6].To != Receive || all[7].To != Signing {
		t.Errorf("resumed to %q and %q: what received must receive again, what didn't needn't", all[6].To, all[7].To)
	}
	back, _ := all[2].Inverse()
	if back.Args["set"] != "1" || back.Args["old_set"] != "2" {
		t.Errorf("%v", back.Args)
	}
	if alone := Rotate(from, to, nil); len(alone) != 1 || alone[0].Risk != finding.NoRisk {
		t.Errorf("%+v", alone)
	}
}

package access

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
)

var now = time.Date(2026, 11, 24, 3, 0, 0, 0, time.UTC)

func TestOrder(t *testing.T) {
	sets := []Set{{ID: 1, Name: "rest"}, {ID: 2, Name: "near"}, {ID: 3, Name: "make"}, {ID: 4, Name: "this"},
		{ID: 5, Name: "factory", Factory: true}, {ID: 6, Name: "for make", Make: "Ottervale"}, {ID: 7,
			Name: "for other", Make: "Tarnlight"}, {ID: 8, Name: "was wrong"}}
	d := Device{Make: "ottervale", Opened: 4, OpenedByMake: []int64{3}, OpenedNear: []int64{2}}
	tries := []Try{{At: now.Add(-time.Minute), SetID: 8, Outcome: Wrong}, {At: now.Add(-time.Hour), SetID: 1, Outcome: Wrong}}
	var got []int64
	for _, s := range Order(now, d, sets, tries, false, 0) {
		got = append(got, s.ID)
	}
	want := []int64{4, 3, 2, 6, 1, 7}
	if len(got) != len(want) {
		t.Fatalf("order %v, want %v", got, want)
	}
	for i := range want {
		if got[i] != want[i] {
			t.Fatalf("order %v, want %v", got, want)
		}
	}
	if n := len(Order(now, d, sets, nil, true, 0)); n != 8 {
		t.Errorf("with factory defaults allowed %d sets, want 8", n)
	}
}

// However tries fall, no device sees a third wrong one within 30 minutes when
// Left is asked before each.
func TestTheBudgetHolds(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 9))
	for range 300 {
		var tries []Try
		clock := now
		for range 60 {
			clock = clock.Add(time.Duration(rnd.IntN(15)) * time.Minute)
			if left, until := Left(clock, tries); left > 0 {
				outcome := []Outcome{Wrong, Pending, Opened, Hindered}[rnd.IntN(4)]
				tries = append(tries, Try{At: clock, Outcome: outcome})
			} else if l, _ := Left(until, tries); l == 0 {
				t.Fatalf("after %v, when it should be over, none is left", until)
			}
		}
		for i := range tries {
			n := 0
			for _, t2 := range tries[i:] {
				if (t2.Outcome == Wrong || t2.Outcome == Pending) && t2.At.Sub(tries[i].At) < Period {
					n++
				}
			}
			if n > Budget {
				t.Fatalf("%d wrong tries within %v", n, Period)
			}
		}
	}
}

func TestJudge(t *testing.T) {
	wrong := Try{At: now.Add(-time.Minute), Set: "house", Outcome: Wrong, Scheme: Digest}
	for _, tc := range []struct {
		name string
		f    Facts
		code string
	}{
		{"open", Facts{LookedAt: now, Account: &Account{RTSP: "same account"}}, ""},
		{"not looked", Facts{}, ""},
		{"RTSP refuses", Facts{LookedAt: now, Account: &Account{Set: "house", RTSP: "it answered 401."}}, "access.rtsp"},
		{"closed", Facts{LookedAt: now, Tries: []Try{wrong}}, "access.closed"},
		{"no budget", Facts{LookedAt: now, Tries: []Try{wrong, wrong}}, "access.budget"},
		{"no sets", Facts{LookedAt: now, NoSets: true}, "access.no-sets"},
		{"unreachable", Facts{LookedAt: now, Trouble: "It doesn't answer."}, "access.trouble"},
	} {
		got := Judge(now, tc.f, Wishes{})
		switch {
		case tc.code == "" && len(got) != 0:
			t.Errorf("%s: %+v", tc.name, got)
		case tc.code != "" && (len(got) != 1 || got[0].Code != tc.code || got[0].Severity == finding.Note):
			t.Errorf("%s: %+v, want %s", tc.name, got, tc.code)
		}
	}
}

func TestOpensGoesByTheLastVerdict(t *testing.T) {
	try := func(set int64, o Outcome, s Scheme) Try { return Try{SetID: set, Outcome: o, Scheme: s} }
	for _, tc := range []struct {
		name  string
		tries []Try
		want  bool
	}{
		{"never tried", nil, false},
		{"opened", []Try{try(1, Opened, Digest)}, true},
		{"opened, then refused", []Try{try(1, Opened, Digest), try(1, Wrong, Digest)}, false},
		{"refused, then opened", []Try{try(1, Wrong, Digest), try(1, Opened, Digest)}, true},
		{"opened, then no answer", []Try{try(1, Opened, Digest), try(1, Pending, Digest), try(1, Hindered, Digest)}, true},
		{"its web page alone opened", []Try{try(1, Opened, Web)}, false},
		{"another opened", []Try{try(2, Opened, Digest)}, false},
	} {
		if got := Opens(tc.tries, 1); got != tc.want {
			t.Errorf("%s: %v", tc.name, got)
		}
	}
}

// Sets that were passed over aren't tried by reading again; those that came since are.
func TestNotPassed(t *testing.T) {
	for _, tc := range []struct{ passed, order, want []int64 }{
		{nil, nil, nil}, {nil, []int64{1, 2}, []int64{1, 2}}, {[]int64{2}, []int64{1, 2, 3}, []int64{1, 3}},
		{[]int64{1, 2}, []int64{2, 1}, nil}, {[]int64{7}, []int64{1}, []int64{1}},
	} {
		if got := (Account{Passed: tc.passed}).NotPassed(tc.order); !slices.Equal(got, tc.want) {
			t.Errorf("of %v without %v: %v, want %v", tc.order, tc.passed, got, tc.want)
		}
	}
}

// What was known of a page's account stays where it couldn't be asked for again.
func TestStill(t *testing.T) {
	was := Account{At: now.Add(-time.Hour), SetID: 3, Passed: []int64{7}}
	for _, tc := range []struct {
		name         string
		opens, asked bool
		at           time.Time // zero: it isn't known any more
	}{{"it opens", true, true, now}, {"it is refused", false, true, time.Time{}}, {"it couldn't be asked", false, false, was.At}} {
		got := was.Still(tc.opens, tc.asked, now)
		if (got == nil) != tc.at.IsZero() || got != nil && (!got.At.Equal(tc.at) || got.SetID != 3 || len(got.Passed) != 1) {
			t.Errorf("%s: %+v", tc.name, got)
		}
	}
}

// A device that says until when it takes no sign-in is left alone until then, unless a person tries one set.
func TestLockedNow(t *testing.T) {
	for _, tc := range []struct {
		to     time.Time
		alone  int64
		locked bool
	}{{time.Time{}, 0, false}, {now, 0, false}, {now.Add(-time.Second), 0, false}, {now.Add(time.Second), 0, true}, {now.Add(time.Hour), 3, false}} {
		if got := (Facts{LockedTo: tc.to}).LockedNow(now, tc.alone); got.IsZero() == tc.locked || tc.locked && !got.Equal(tc.to) {
			t.Errorf("%v, %d: %v", tc.to, tc.alone, got)
		}
	}
}

// A password is written with the level that was read; where none was, or one that can't be written, it isn't.
func TestNobodyIsMadeAnAdministratorForWantOfKnowing(t *testing.T) {
	for level, ok := range map[string]bool{Administrator: true, Operator: true, "User": true, "Anonymous": true, "": false, NoAdministrator: false, "administrator": false, "Extended": false} {
		got, err := Kept(level, "otter")
		if (err == nil) != ok || ok && got != level || !ok && got != "" {
			t.Errorf("%q: %q, %v", level, got, err)
		}
	}
	if AccountText("otter", "") != "otter, level not told" {
		t.Error(AccountText("otter", ""))
	}
}

package known

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
)

var day = time.Date(2026, 5, 4, 0, 0, 0, 0, time.UTC)

// of is an entry with pictures by number.
func of(id int64, name string, pictures ...int64) Entry {
	e := Entry{ID: id, Name: name, Ground: "consent", Since: day, Ends: day.AddDate(1, 0, 0)}
	for _, p := range pictures {
		e.Pictures = append(e.Pictures, Picture{ID: p, Digest: fmt.Sprintf("%064x", p)})
	}
	return e
}

// alike makes a likeness of pairs; the rest wasn't told.
func alike(pairs map[[2]int64]float64) (l Likeness) {
	for k := range pairs {
		for _, p := range k {
			if !slices.Contains(l.Pictures, p) {
				l.Pictures = append(l.Pictures, p)
			}
		}
	}
	slices.Sort(l.Pictures)
	l.Scores = make([][]float64, len(l.Pictures))
	for i, a := range l.Pictures {
		for _, b := range l.Pictures {
			x := -1.0
			for k, v := range pairs {
				if k == [2]int64{a, b} || k == [2]int64{b, a} {
					x = v
				}
			}
			l.Scores[i] = append(l.Scores[i], x)
		}
	}
	return l
}

func TestASetSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	good := Set{Name: "Crew", Kind: Face, Least: 0.8, Nearly: 0.6}
	for _, tc := range []struct {
		field string
		with  func(*Set)
	}{
		{"", func(*Set) {}}, {"", func(s *Set) { s.Nearly = s.Least }}, {"", func(s *Set) { s.Nearly = 0 }}, {"", func(s *Set) { s.Least = 1 }},
		{"name", func(s *Set) { s.Name = " " }}, {"name", func(s *Set) { s.Name = strings.Repeat("é", MostName+1) }}, {"", func(s *Set) { s.Name = strings.Repeat("é", MostName) }},
		{"name", func(s *Set) { s.Name = "Crew\x00" }}, {"kind", func(s *Set) { s.Kind = "boat" }}, {"kind", func(s *Set) { s.Kind = "" }},
		{"least", func(s *Set) { s.Least, s.Nearly = 0, 0 }}, {"least", func(s *Set) { s.Least = 1.01 }}, {"least", func(s *Set) { s.Least = math.NaN() }},
		{"nearly", func(s *Set) { s.Nearly = 0.81 }}, {"nearly", func(s *Set) { s.Nearly = -0.1 }}, {"nearly", func(s *Set) { s.Nearly = math.NaN() }},
	} {
		s := good
		tc.with(&s)
		if field, says := s.Wrong(); field != tc.field || (says == "") != (field == "") {
			t.Errorf("%+v: %q %q, wanted %q", s, field, says, tc.field)
		}
	}
}

func TestNobodyIsKeptWithoutGroundAndEnd(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct {
		field string
		with  func(*Entry)
	}{
		{"", func(*Entry) {}}, {"", func(e *Entry) { e.Name = "as  typed" }},
		{"name", func(e *Entry) { e.Name = " at its ends" }}, {"name", func(e *Entry) { e.Name = "two\nlines" }}, {"name", func(e *Entry) { e.Name = "turned \u202e round" }}, {"name", func(e *Entry) { e.Name = "no text \xff" }},
		{"name", func(e *Entry) { e.Name = "\t" }}, {"name", func(e *Entry) { e.Name = strings.Repeat("a", MostName+1) }},
		{"ground", func(e *Entry) { e.Ground = " " }}, {"ground", func(e *Entry) { e.Ground = strings.Repeat("a", MostGround+1) }},
		{"since", func(e *Entry) { e.Since = time.Time{} }}, {"since", func(e *Entry) { e.Since = day.AddDate(0, 0, 1) }},
		{"ends", func(e *Entry) { e.Ends = time.Time{} }}, {"ends", func(e *Entry) { e.Ends = day }}, {"", func(e *Entry) { e.Ends = day.AddDate(0, 0, 1) }},
		{"", func(e *Entry) { e.Ends = day.AddDate(10, 0, 0) }}, {"ends", func(e *Entry) { e.Ends = day.AddDate(10, 0, 1) }},
	} {
		e := of(1, "Maren Ostby")
		tc.with(&e)
		if field, _ := e.Wrong(day); field != tc.field {
			t.Errorf("%+v: %q, wanted %q", e, field, tc.field)
		}
	}
	if e := of(1, "a"); e.Ended(e.Ends.AddDate(0, 0, -1)) || !e.Ended(e.Ends) || !e.Ended(e.Ends.AddDate(0, 0, 1)) {
		t.Error("the day of its end")
	}
}

func TestEachPictureIsHeldAgainstTheOthers(t *testing.T) {
	t.Parallel()
	set := func(all ...Entry) Set { return Set{Name: "Crew", Kind: Face, Least: 0.8, Nearly: 0.6, Entries: all} }
	gone := of(9, "Gone", 9)
	gone.Gone = true
	for _, tc := range []struct {
		name string
		set  Set
		like map[[2]int64]float64
		want string // outcomes of the pictures of entry 1
		says string
	}{
		{"none", set(of(1, "A")), nil, "", "no picture yet"},
		{"one", set(of(1, "A", 1)), nil, "alone", "add a second"},
		{"not compared", set(of(1, "A", 1, 2)), nil, "not compared, not compared", "aren't compared yet"},
		{"all known", set(of(1, "A", 1, 2)), map[[2]int64]float64{{1, 2}: 0.9}, "known, known", "won't help"},
		{"on the bound", set(of(1, "A", 1, 2)), map[[2]int64]float64{{1, 2}: 0.8}, "known, known", "won't help"},
		{"just below", set(of(1, "A", 1, 2)), map[[2]int64]float64{{1, 2}: 0.7999}, "nearly known, nearly known", "0 of 2 are known by the others: another picture helps"},
		{"nearly, on the bound", set(of(1, "A", 1, 2)), map[[2]int64]float64{{1, 2}: 0.6}, "nearly known, nearly known", "helps"},
		{"below", set(of(1, "A", 1, 2)), map[[2]int64]float64{{1, 2}: 0.59}, "unknown, unknown", "helps"},
		{"zero", set(of(1, "A", 1, 2)), map[[2]int64]float64{{1, 2}: 0}, "unknown, unknown", "helps"},
		{"one of three", set(of(1, "A", 1, 2, 3)), map[[2]int64]float64{{1, 2}: 0.9, {1, 3}: 0.5, {2, 3}: 0.4}, "known, known, unknown", "2 of 3 are known by the others: another picture helps, taken as the others are seen: picture 3 (0.50)"},
		{"likest to somebody else", set(of(1, "A", 1, 2), of(2, "B", 3)), map[[2]int64]float64{{1, 2}: 0.85, {1, 3}: 0.9, {2, 3}: 0.1}, "taken for another, known", "1 of 2 would be taken for B"},
		{"as like to somebody else", set(of(1, "A", 1, 2), of(2, "B", 3)), map[[2]int64]float64{{1, 2}: 0.9, {1, 3}: 0.9, {2, 3}: 0.1}, "taken for another, known", "B"},
		{"somebody else is like, but less", set(of(1, "A", 1, 2), of(2, "B", 3)), map[[2]int64]float64{{1, 2}: 0.95, {1, 3}: 0.9, {2, 3}: 0.1}, "known, known", "won't help"},
		{"somebody else isn't like enough", set(of(1, "A", 1, 2), of(2, "B", 3)), map[[2]int64]float64{{1, 2}: 0.7, {1, 3}: 0.79, {2, 3}: 0.1}, "nearly known, nearly known", "helps"},
		{"alone, and like somebody else", set(of(1, "A", 1), of(2, "B", 3)), map[[2]int64]float64{{1, 3}: 0.81}, "taken for another", "B"},
		{"two others", set(of(1, "A", 1, 2), of(2, "B", 3), of(3, "C", 4)), map[[2]int64]float64{{1, 2}: 0.1, {1, 3}: 0.9, {2, 4}: 0.9}, "taken for another, taken for another", "B, C"},
		{"somebody who is gone", set(of(1, "A", 1, 2), gone), map[[2]int64]float64{{1, 2}: 0.85, {1, 9}: 0.99}, "known, known", "won't help"},
		{"no score", set(of(1, "A", 1, 2)), map[[2]int64]float64{{1, 2}: math.NaN()}, "not compared, not compared", "aren't compared"},
		{"beyond 1", set(of(1, "A", 1, 2)), map[[2]int64]float64{{1, 2}: 1.5}, "not compared, not compared", "aren't compared"},
	} {
		f := tc.set.LeaveOneOut(alike(tc.like))[1]
		var got []string
		right := 0
		for _, p := range f.Pictures {
			got = append(got, string(p.Outcome))
			if p.Outcome == Right {
				right++
			}
		}
		if s := strings.Join(got, ", "); s != tc.want || f.Right != right {
			t.Errorf("%s: %s (%d), wanted %s", tc.name, s, f.Right, tc.want)
		}
		names := map[int64]string{}
		for _, e := range tc.set.Entries {
			names[e.ID] = e.Name
		}
		if says := f.Helps(names); !strings.Contains(says, tc.says) {
			t.Errorf("%s: %s", tc.name, says)
		}
	}
}

// naive says by its definition what a picture is taken for.
func naive(s Set, l Likeness, e Entry, p Picture) Outcome {
	best := func(all []Picture) float64 {
		x := -1.0
		for _, q := range all {
			i, k := slices.Index(l.Pictures, p.ID), slices.Index(l.Pictures, q.ID)
			if i >= 0 && k >= 0 && i != k {
				x = max(x, l.Scores[i][k])
			}
		}
		return x
	}
	own, other := best(e.Pictures), -1.0
	for _, o := range s.Entries {
		if o.ID != e.ID && !o.Gone {
			other = max(other, best(o.Pictures))
		}
	}
	if other >= s.Least && other >= own {
		return Mixed
	}
	if len(e.Pictures) == 1 {
		return Alone
	}
	if own == -1 {
		return Untried
	}
	if own >= s.Least {
		return Right
	}
	if own >= s.Nearly {
		return Near
	}
	return Missed
}

func TestLeaveOneOutIsItsDefinition(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 2))
	seen := map[Outcome]int{}
	for range 2000 {
		s := Set{Least: 0.5 + r.Float64()/2}
		s.Nearly = s.Least * r.Float64()
		next := int64(1)
		for e := range 1 + r.IntN(4) {
			x := Entry{ID: int64(e + 1), Gone: r.IntN(8) == 0}
			for range r.IntN(4) {
				x.Pictures = append(x.Pictures, Picture{ID: next})
				next++
			}
			s.Entries = append(s.Entries, x)
		}
		l := Likeness{}
		for p := int64(1); p < next; p++ {
			if r.IntN(9) > 0 { // the analyser doesn't hold it
				l.Pictures = append(l.Pictures, p)
			}
		}
		r.Shuffle(len(l.Pictures), func(i, k int) { l.Pictures[i], l.Pictures[k] = l.Pictures[k], l.Pictures[i] })
		l.Scores = make([][]float64, len(l.Pictures))
		for i := range l.Scores {
			l.Scores[i] = make([]float64, len(l.Pictures))
			for k := range i {
				l.Scores[i][k] = math.Round(10*r.Float64()) / 10
				l.Scores[k][i] = l.Scores[i][k]
			}
		}
		all := s.LeaveOneOut(l)
		for _, e := range s.Entries {
			f, there := all[e.ID]
			if there == e.Gone {
				t.Fatalf("of one that is gone: %v", there)
			}
			for i, j := range f.Pictures {
				if want := naive(s, l, e, e.Pictures[i]); j.Outcome != want {
					t.Fatalf("%+v, %+v: picture %d is %s, wanted %s", s, l, e.Pictures[i].ID, j.Outcome, want)
				}
				seen[j.Outcome]++
			}
		}
	}
	if len(seen) != 6 {
		t.Errorf("only %v were seen", seen)
	}
}

func TestWhatAPictureChanges(t *testing.T) {
	t.Parallel()
	set := Set{Least: 0.8, Entries: []Entry{of(1, "A", 1, 2, 3), of(2, "B", 4), of(3, "C", 5, 6)}}
	l := alike(map[[2]int64]float64{{1, 2}: 0.7, {1, 3}: 0.9, {2, 3}: 0.6, {5, 6}: 0.5, {1, 4}: 0.99})
	if before, after, ok := set.Effect(l, 3); !ok || math.Abs(before-0.7) > 1e-9 || math.Abs(after-0.8) > 1e-9 {
		t.Errorf("%.3f to %.3f, %v", before, after, ok) // of 1: 0.7 to 0.9, of 2: 0.7 stays
	}
	for _, p := range []int64{4, 5, 7} { // alone, one other, none such
		if _, _, ok := set.Effect(l, p); ok {
			t.Errorf("picture %d changes something", p)
		}
	}
	if _, _, ok := set.Effect(alike(map[[2]int64]float64{{1, 2}: 0.7, {1, 3}: 0.9}), 3); ok {
		t.Error("two weren't compared")
	}
}

func TestDoublesAreFound(t *testing.T) {
	t.Parallel()
	gone := of(9, "Gone", 9)
	gone.Gone = true
	twice := of(4, "D", 7, 8)
	twice.Pictures[1].Digest = twice.Pictures[0].Digest
	set := Set{Least: 0.8, Entries: []Entry{of(1, "A", 1, 2), of(2, "B", 3), of(3, "C", 4), twice, gone}}
	l := alike(map[[2]int64]float64{{1, 2}: 0.99, {1, 3}: 0.8, {2, 3}: 0.85, {2, 4}: 0.79, {1, 9}: 1})
	got := set.Doubles(l)
	if len(got) != 2 || got[0].A != 4 || got[0].B != 4 || got[1].A != 1 || got[1].B != 2 || got[1].P != 2 || got[1].Q != 3 || got[1].Score != 0.85 {
		t.Errorf("%+v", got)
	}
}

func TestWhatAnObjectWasHeldToBeIsWorded(t *testing.T) {
	t.Parallel()
	gone := of(9, "Gone", 9)
	gone.Gone = true
	set := Set{Name: "Crew", Entries: []Entry{of(1, "A", 1), gone}}
	for _, tc := range []struct {
		held scene.Recognised
		want string
	}{
		{scene.Recognised{Entry: 1, As: "known", Score: 0.931}, "known as A (0.93)"}, {scene.Recognised{Entry: 1, As: "nearly known", Score: 0.7}, "nearly known as A (0.70)"},
		{scene.Recognised{As: "unknown"}, "unknown to Crew (0.00)"}, {scene.Recognised{Entry: 9, As: "known", Score: 1}, "somebody of Crew who was deleted since"},
		{scene.Recognised{Entry: 7, As: "known", Score: 1}, "somebody of Crew who was deleted since"},
	} {
		if got := set.Says(tc.held); got != tc.want {
			t.Errorf("%+v: %s", tc.held, got)
		}
	}
}

func TestWorstStandFirst(t *testing.T) {
	t.Parallel()
	gone := of(9, "Gone", 9)
	gone.Gone = true
	set := Set{Least: 0.8, Nearly: 0.6, Entries: []Entry{of(1, "All known", 1, 2), of(2, "Alone", 3), of(3, "Taken for another", 4, 5), of(4, "No picture"), gone, of(5, "Another", 6)}}
	var got []string
	for _, e := range set.WorstFirst(set.LeaveOneOut(alike(map[[2]int64]float64{{1, 2}: 0.9, {4, 5}: 0.9, {4, 6}: 0.95}))) {
		got = append(got, e.Name)
	}
	if s := strings.Join(got, ", "); s != "Gone, Taken for another, Another, Alone, No picture, All known" {
		t.Error(s)
	}
	if set.Entries[0].Name != "All known" {
		t.Error("the set itself is in another order")
	}
	for o, wants := range map[Outcome]bool{Right: false, Alone: false, Mixed: true, Near: true, Missed: true, Untried: true} {
		if o.Wants() != wants {
			t.Errorf("%s", o)
		}
	}
}

func TestWhatIsGoneEverywhereIsOver(t *testing.T) {
	t.Parallel()
	one, two := of(1, "Held", 1), of(2, "Held by nobody", 2)
	one.Gone, two.Gone = true, true
	sets := []Set{{Key: "a", Entries: []Entry{one, two, of(3, "Kept", 3)}}, {Key: "b", Entries: []Entry{two}}}
	at := []Held{{}, {Sets: []HeldSet{{Key: "a", Entries: []HeldEntry{{1, "x"}, {3, "y"}}}}}}
	if gone, held := Over(sets, at); !slices.Equal(gone, []int64{1, 2, 2}) || !slices.Equal(held, []int64{1}) {
		t.Errorf("%v %v", gone, held)
	}
	if gone, held := Over(sets, nil); len(gone) != 3 || held != nil {
		t.Errorf("where no analyser is: %v %v", gone, held)
	}
}

func TestTheDayIsTheZones(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct {
		at   string
		zone int // hours
		want string
	}{
		{"2026-05-04T00:00:00Z", 0, "2026-05-04"}, {"2026-05-03T23:59:59Z", 0, "2026-05-03"}, {"2026-05-03T22:59:59Z", 1, "2026-05-03"}, {"2026-05-03T23:00:00Z", 1, "2026-05-04"},
		{"2026-05-04T04:59:59Z", -5, "2026-05-03"}, {"2026-12-31T14:00:00Z", 10, "2027-01-01"},
	} {
		at, err := time.Parse(time.RFC3339, tc.at)
		if err != nil {
			t.Fatal(err)
		}
		if got := Day(at, time.FixedZone("", tc.zone*3600)); got.Format(time.DateOnly) != tc.want || got.Location() != time.UTC || got.Hour() != 0 {
			t.Errorf("%+v: %s", tc, got)
		}
	}
}

// hold is what an analyser holds once it was given changes.
func hold(s Set, h Held, changes []finding.Change) Held {
	out := Held{}
	for _, x := range h.Sets {
		x.Entries = slices.Clone(x.Entries)
		out.Sets = append(out.Sets, x)
	}
	for _, c := range changes {
		i := slices.IndexFunc(out.Sets, func(x HeldSet) bool { return x.Key == s.Key })
		switch {
		case c.Kind == PutSet && c.To == None:
			out.Sets = slices.Delete(out.Sets, i, i+1)
		case c.Kind == PutSet && i < 0:
			out.Sets = append(out.Sets, HeldSet{Key: s.Key, Text: c.To})
		case c.Kind == PutSet:
			out.Sets[i].Text = c.To
		default:
			e := out.Sets[i].Entries
			k := slices.IndexFunc(e, func(x HeldEntry) bool { return fmt.Sprint(x.ID) == c.Args["entry"] })
			switch {
			case c.To == None:
				e = slices.Delete(e, k, k+1)
			case k < 0:
				var id int64
				_, _ = fmt.Sscan(c.Args["entry"], &id)
				e = append(e, HeldEntry{id, c.To})
			default:
				e[k].Text = c.To
			}
			out.Sets[i].Entries = e
		}
	}
	return out
}

// Whatever an analyser holds, once it was given the changes it holds the set as it is here, and nothing more is proposed.
func TestGivenTheChangesItHoldsTheSet(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		s := Set{ID: 7, Key: "k7", Name: "Crew", Kind: Face, Least: 0.8, Nearly: 0.6}
		for e := range r.IntN(5) {
			x := of(int64(e+1), fmt.Sprintf("Name %d", e))
			for p := range r.IntN(3) {
				x.Pictures = append(x.Pictures, Picture{ID: int64(10*e + p), Digest: fmt.Sprintf("%064x", r.IntN(4))})
			}
			x.Gone = r.IntN(6) == 0
			if r.IntN(6) == 0 {
				x.Ends = day
			}
			s.Entries = append(s.Entries, x)
		}
		h := Held{Sets: []HeldSet{{Key: "k3", Text: "another"}}}
		if r.IntN(3) > 0 {
			mine := HeldSet{Key: "k7", Text: s.Text()}
			if r.IntN(2) == 0 {
				mine.Text = "otherwise"
			}
			for e := range r.IntN(7) {
				mine.Entries = append(mine.Entries, HeldEntry{int64(e + 1), of(int64(e+1), fmt.Sprintf("Name %d", e), 1).Text()})
			}
			h.Sets = append(h.Sets, mine)
		}
		changes := s.Give(h, "Analyser 1", day)
		for _, c := range changes {
			if c.From == c.To || c.Removes != (c.To == None) || c.Undo.Note == "" {
				t.Fatalf("%+v", c)
			}
		}
		now := hold(s, h, changes)
		if again := s.Give(now, "Analyser 1", day); len(again) != 0 {
			t.Fatalf("%+v: once more %+v", s, again)
		}
		held, _ := now.Set("k7")
		if held.Text != s.Text() || now.Reads("k3") != "another" {
			t.Fatalf("it holds %+v", now)
		}
		n := 0
		for _, e := range s.Entries {
			keeps := !e.Gone && e.Ends.After(day) && len(e.Pictures) > 0
			if keeps {
				n++
			}
			if (now.ReadsEntry("k7", e.ID) == e.Text()) != keeps {
				t.Fatalf("%+v: it reads %s", e, now.ReadsEntry("k7", e.ID))
			}
		}
		if len(held.Entries) != n {
			t.Fatalf("it holds %d of %d", len(held.Entries), n)
		}
		off := s.Take(now, "Analyser 1")
		if len(off) != 1 || !off[0].Removes || hold(s, now, off).Reads("k7") != None || len(s.Take(h, "x")) > 0 != (h.Reads("k7") != None) {
			t.Fatalf("%+v", off)
		}
	}
}

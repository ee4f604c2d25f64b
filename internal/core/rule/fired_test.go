package rule

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
)

func seconds(all ...float64) (out []time.Duration) {
	for _, s := range all {
		out = append(out, time.Duration(s*float64(time.Second)))
	}
	return out
}

// Firings are paired once each, within three seconds, in whatever order they are told.
func TestFiringsArePaired(t *testing.T) {
	for name, x := range map[string]struct {
		foretold, fired []time.Duration
		want            Compared
		off             float64
	}{
		"none":                {nil, nil, Compared{}, 0},
		"foretold alone":      {seconds(1, 20), nil, Compared{2, 0, 0}, 1},
		"fired alone":         {nil, seconds(1), Compared{0, 1, 0}, 1},
		"equal":               {seconds(1, 20), seconds(1, 20), Compared{2, 2, 2}, 0},
		"on the bound":        {seconds(10), seconds(13), Compared{1, 1, 1}, 0},
		"just beyond":         {seconds(10), seconds(13.001), Compared{1, 1, 0}, 1},
		"before":              {seconds(10), seconds(7), Compared{1, 1, 1}, 0},
		"two for one":         {seconds(10), seconds(9, 11), Compared{1, 2, 1}, 0.5},
		"one for two":         {seconds(9, 11), seconds(10), Compared{2, 1, 1}, 0.5},
		"a chain":             {seconds(0, 4), seconds(2, 6), Compared{2, 2, 2}, 0},
		"another order":       {seconds(20, 1), seconds(1.5, 21), Compared{2, 2, 2}, 0},
		"the same moment":     {seconds(5, 5), seconds(5), Compared{2, 1, 1}, 0.5},
		"nearest isn't meant": {seconds(3, 5.5), seconds(1, 4), Compared{2, 2, 2}, 0},
	} {
		got := Compare(x.foretold, x.fired)
		if got != x.want || got.Off() != x.off {
			t.Errorf("%s: %+v, %g off, want %+v, %g", name, got, got.Off(), x.want, x.off)
		}
	}
}

// No pairing has more pairs: held against trying all of them.
func TestNoPairingHasMorePairs(t *testing.T) {
	r := rand.New(rand.NewPCG(24, 1))
	var most func(a, b []time.Duration) int
	most = func(a, b []time.Duration) int {
		if len(a) == 0 {
			return 0
		}
		best := most(a[1:], b)
		for j := range b {
			if (a[0] - b[j]).Abs() <= Within {
				rest := append(append([]time.Duration{}, b[:j]...), b[j+1:]...)
				best = max(best, 1+most(a[1:], rest))
			}
		}
		return best
	}
	some := func() (out []time.Duration) {
		for range r.IntN(6) {
			out = append(out, time.Duration(r.IntN(15))*time.Second)
		}
		return out
	}
	for range 3000 {
		a, b := some(), some()
		if got, want := Compare(a, b).Both, most(a, b); got != want {
			t.Fatalf("%v and %v: %d pairs, and %d can be", a, b, got, want)
		}
	}
}

// Days are those of the site: what fires after midnight there is of the next, also where an hour is lost.
func TestDaysOfAComparison(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	at := func(s string) time.Duration {
		when, err := time.ParseInLocation("2006-01-02 15:04:05", s, zone)
		if err != nil {
			t.Fatal(err)
		}
		return time.Duration(when.UnixNano())
	}
	got := ByDay([]time.Duration{at("2026-03-30 00:00:00"), at("2026-03-28 23:59:59")}, []time.Duration{at("2026-03-28 23:59:58"), at("2026-03-29 02:30:00")}, zone)
	if len(got) != 3 || got[0] != (Day{"2026-03-28", Compared{1, 1, 1}}) || got[1] != (Day{"2026-03-29", Compared{0, 1, 0}}) || got[2] != (Day{"2026-03-30", Compared{1, 0, 0}}) {
		t.Errorf("%+v", got)
	}
	if got := ByDay(nil, nil, zone); len(got) != 0 {
		t.Errorf("of nothing: %+v", got)
	}
}

// What a camera tells of an area as one state begins when nobody was in before.
func TestBeginningsOfAnArea(t *testing.T) {
	hit := func(who string, at float64, on bool) Hit {
		return Hit{Object: who, At: time.Duration(at * float64(time.Second)), On: on}
	}
	two := []Hit{hit("a", 1, true), hit("b", 2, true), hit("a", 3, false), hit("c", 4, true), hit("b", 5, false), hit("c", 6, false), hit("a", 7, true)}
	if got := Beginnings(Rule{Kind: Inside}, two); len(got) != 2 || got[0] != time.Second || got[1] != 7*time.Second {
		t.Errorf("%v", got)
	}
	if got := Beginnings(Rule{Kind: Crosses}, []Hit{hit("a", 1, true), hit("b", 1, true)}); len(got) != 2 {
		t.Errorf("%v", got)
	}
}

// walks are objects that go from left to right at a height each, seconds apart.
func walks(feet ...float64) (out []scene.Track) {
	for i, foot := range feet {
		tr := scene.Track{ID: string(rune('a' + i)), Class: "Human"}
		for step := range 21 {
			x := -1 + 0.09*float64(step)
			tr.Points = append(tr.Points, scene.TrackPoint{At: time.Duration(20*i)*time.Second + time.Duration(step)*200*time.Millisecond, Score: 0.6,
				Box: scene.Box{Left: x, Right: x + 0.1, Bottom: foot, Top: foot + 0.4}})
		}
		out = append(out, tr)
	}
	return out
}

// An engine that looks at a box's middle is told by what it fired; one that fires by the meaning needs no explanation, and
// what nothing explains isn't explained.
func TestAnEnginesHabitIsTold(t *testing.T) {
	line := Rule{Name: "edge", Kind: Crosses, Line: scene.Line{{X: 0, Y: -0.5}, {X: 0, Y: 0.1}}}
	tracks := walks(-0.6, -0.6, -0.4, -0.4, -0.05, -0.05, 0.05, 0.05)
	middle := line
	middle.By = ByMiddle
	fired := func(r Rule) []time.Duration { return Beginnings(r, Rehearse(r, tracks, Span{})) }
	if a, b := len(fired(line)), len(fired(middle)); a != 6 || b != 4 {
		t.Fatalf("%d by foot, %d by the middle", a, b)
	}
	got, ok := Explain(line, tracks, Span{}, fired(middle))
	if !ok || !strings.Contains(got.Says, "middle of a box") || got.Off() != 0 {
		t.Errorf("%+v, %t", got, ok)
	}
	if got, ok := Explain(line, tracks, Span{}, fired(line)); ok {
		t.Errorf("what fires as it means is explained: %+v", got)
	}
	if got, ok := Explain(line, tracks, Span{}, seconds(300, 310, 320)); ok {
		t.Errorf("what never happened is explained: %+v", got)
	}
	area := Rule{Name: "apron", Kind: ComesInto, Area: scene.Polygon{{X: -0.3, Y: -0.5}, {X: 0.3, Y: -0.5}, {X: 0.3, Y: 0.1}, {X: -0.3, Y: 0.1}}}
	tenth := area
	tenth.Share = 0.1
	if got, ok := Explain(area, tracks, Span{}, fired(tenth)); !ok || !strings.Contains(got.Says, "a tenth of a box") {
		t.Errorf("%+v, %t", got, ok)
	}
}

// It is a finding from the bound on, of enough firings, and of a rule that the camera has.
func TestAnEngineThatDiffersIsNamed(t *testing.T) {
	for name, x := range map[string]struct {
		held Held
		has  bool
		want bool
	}{
		"nothing":         {Held{Rule: "edge"}, true, false},
		"all the same":    {Held{Rule: "edge", Compared: Compared{9, 9, 9}}, true, false},
		"too few":         {Held{Rule: "edge", Compared: Compared{4, 0, 0}}, true, false},
		"enough":          {Held{Rule: "edge", Compared: Compared{5, 0, 0}}, true, true},
		"on the bound":    {Held{Rule: "edge", Compared: Compared{8, 6, 6}}, true, false},
		"beyond":          {Held{Rule: "edge", Compared: Compared{8, 7, 6}}, true, true},
		"it hasn't it":    {Held{Rule: "gone", Compared: Compared{9, 0, 0}}, true, false},
		"rule taken away": {Held{Rule: "edge", Compared: Compared{9, 0, 0}}, false, false},
	} {
		f := Facts{LookedAt: time.Unix(1, 0), Token: "vac0", Held: []Held{x.held}}
		if x.has {
			f.Configs = []Config{{Name: "edge", Type: "LineDetector"}}
		}
		got := false
		for _, d := range Judge(f, nil) {
			got = got || d.Code == "analytics.differs"
		}
		if got != x.want {
			t.Errorf("%s: told %t", name, got)
		}
	}
}

// Wrong ones that are avoided are weighed against right ones that are lost, and how sure that is with so few.
func TestJudgedFiringsWeighASetting(t *testing.T) {
	line := Rule{Name: "edge", Kind: Crosses, Line: scene.Line{{X: 0, Y: -1}, {X: 0, Y: 1}}}
	tracks := walks(-0.5, -0.5, -0.5, -0.5)
	for i := range tracks { // b and d are seen with little likelihood
		for j := range tracks[i].Points {
			tracks[i].Points[j].Score = map[string]float64{"a": 0.9, "b": 0.32, "c": 0.8, "d": 0.41}[tracks[i].ID]
		}
	}
	var judged []Checked
	for _, h := range Rehearse(line, tracks, Span{}) {
		judged = append(judged, Checked{h.Object, h.At, h.Object == "a" || h.Object == "c"})
	}
	w := Weigh(line, tracks, Span{}, judged)
	if w.Right != 2 || w.Wrong != 2 || w.Best == nil || w.Best.Part != "score" || w.Best.Value != 0.45 || w.Best.Wrong != 2 || w.Best.Lost != 0 {
		t.Fatalf("%+v %+v", w, w.Best)
	}
	if !strings.Contains(w.Says, "avoided 2 of 2 wrong ones and lost 0 of 2 right ones. With so many judged, up to 58 %") {
		t.Error(w.Says)
	}
	// Judged the other way round nothing helps; all right needs nothing; what wasn't fired on isn't weighed.
	for i := range judged {
		judged[i].Right = !judged[i].Right
	}
	if w := Weigh(line, tracks, Span{}, judged); w.Best != nil || !strings.Contains(w.Says, "no figure set otherwise") {
		t.Errorf("%+v", w)
	}
	for i := range judged {
		judged[i].Right = true
	}
	if w := Weigh(line, tracks, Span{}, judged); w.Best != nil || !strings.Contains(w.Says, "All 4 that were judged are right") {
		t.Errorf("%+v", w)
	}
	for i := range judged {
		judged[i].At += time.Minute
	}
	for name, all := range map[string][]Checked{"none": nil, "of another time": judged} {
		if w := Weigh(line, tracks, Span{}, all); w.Right+w.Wrong != 0 || !strings.Contains(w.Says, "None of what it fires on was judged") {
			t.Errorf("%s: %+v", name, w)
		}
	}
}

func TestHowManyMoreCouldBeLost(t *testing.T) {
	for _, x := range []struct {
		lost, all int
		low, high float64
	}{{0, 0, 1, 1}, {0, 1, 0.7, 0.75}, {0, 4, 0.38, 0.42}, {0, 100, 0.02, 0.03}, {1, 1, 1, 1}, {50, 100, 0.57, 0.59}} {
		if got := mostLost(x.lost, x.all); got < x.low || got > x.high {
			t.Errorf("%d of %d: %g", x.lost, x.all, got)
		}
	}
}

package pairing

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

// now is when all is judged.
var now = moment.Now()

func looks(rates ...float64) (out []View) {
	for i, r := range rates {
		out = append(out, View{ID: string(rune('a' + i)), PerSecond: r, LeastScore: UsualScore})
	}
	return out
}

var small, large = []Still{{"sub", 640, 360}}, []Still{{"main", 1920, 1080}}

func TestWhichLimitBinds(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct {
		limits Limits
		views  []View
		rate   float64
		offers []Still
		binds  []string // parts of what is said; none: it fits
	}{
		"nothing is told of limits":         {Limits{}, looks(5, 5, 5), 5, large, nil},
		"a view is left":                    {Limits{Views: 2}, looks(1), 1, small, nil},
		"all views are taken":               {Limits{Views: 2}, looks(1, 1), 1, small, []string{"all 2 views"}},
		"more are taken than it says":       {Limits{Views: 1}, looks(1, 1), 1, small, []string{"all 1 views"}},
		"the last licence":                  {Limits{Licences: 1}, nil, 1, small, nil},
		"no licence is left":                {Limits{Views: 4, Licences: 1}, looks(1), 1, small, []string{"all 1 licences"}},
		"the rate is met":                   {Limits{PerSecond: 4}, looks(2), 2, small, nil},
		"tenths are met, however they add":  {Limits{PerSecond: 0.3}, looks(0.1, 0.1), 0.1, small, nil},
		"the rate is beyond":                {Limits{PerSecond: 4}, looks(2), 2.1, small, []string{"4 stills a second", "2 are taken", "add 2.1"}},
		"the still is as large as it takes": {Limits{Width: 640, Height: 360}, nil, 1, small, nil},
		"one column too wide":               {Limits{Width: 639, Height: 360}, nil, 1, small, []string{"639 × 360", "640 × 360", "set its view stream smaller"}},
		"too high alone":                    {Limits{Height: 359}, nil, 1, small, []string{"smallest of this view is 640 × 360"}},
		"the smaller still fits":            {Limits{Width: 640, Height: 360}, nil, 1, append(large, small...), nil},
		"a size that isn't known fits":      {Limits{Width: 640, Height: 360}, nil, 1, []Still{{Profile: "x"}}, nil},
		"no still":                          {Limits{}, nil, 1, nil, []string{"no still that was read"}},
		"two limits":                        {Limits{Views: 1, PerSecond: 1}, looks(1), 1, small, []string{"all 1 views", " and ", "1 still a second"}},
	} {
		got := Analyser{Limits: tc.limits, Views: tc.views}.Binds(tc.rate, tc.offers)
		if (got == "") != (len(tc.binds) == 0) {
			t.Errorf("%s: %q", name, got)
		}
		for _, part := range tc.binds {
			if !strings.Contains(got, part) {
				t.Errorf("%s: %q doesn't say %q", name, got, part)
			}
		}
	}
}

func TestTheLargestStillThatFitsIsSent(t *testing.T) {
	t.Parallel()
	l := Limits{Width: 1280, Height: 720}
	for _, all := range [][]Still{{{"a", 640, 360}, {"b", 1280, 720}, {"c", 1920, 1080}}, {{"c", 1920, 1080}, {"b", 1280, 720}, {"a", 640, 360}}, {{"x", 0, 0}, {"b", 1280, 720}}} {
		if got, ok := l.Fitting(all); !ok || got.Profile != "b" {
			t.Errorf("of %v %v", all, got)
		}
	}
	if got, ok := l.Fitting([]Still{{"x", 0, 0}, {"c", 1920, 1080}}); !ok || got.Profile != "x" {
		t.Errorf("of one whose size isn't known and one too large: %v, %v", got, ok)
	}
}

func TestAWishReadsBackAsItIsSaid(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(25, 1))
	for range 2000 {
		w := Wish{PerSecond: float64(10+r.IntN(491)) / 100, LeastScore: float64(r.IntN(101)) / 100}
		if r.IntN(2) == 0 {
			w.Within = "0 0, 100 0, 50.25 100"
		}
		if back, ok := ParseWish(w.Text()); !ok || back != w {
			t.Fatalf("%v says %q, which reads as %v, %v", w, w.Text(), back, ok)
		}
	}
	for _, text := range []string{"", None, "2 stills a second", "x stills a second, told from a score of 0.30", "2 stills a second, told from a score of 2.00", "900 stills a second, told from a score of 0.30", "NaN stills a second, told from a score of 0.30"} {
		if w, ok := ParseWish(text); ok {
			t.Errorf("%q reads as %v", text, w)
		}
	}
}

func TestWhatAWishMayBe(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct {
		w  Wish
		ok bool
	}{{Wish{LeastRate, 0, ""}, true}, {Wish{MostRate, 1, ""}, true}, {Wish{0, 0.5, ""}, false}, {Wish{MostRate + 0.01, 0.5, ""}, false}, {Wish{1, -0.01, ""}, false}, {Wish{1, 1.01, ""}, false}, {Wish{-1, 0, ""}, false},
		{Wish{1, 0, "0 0, 100 0, 50.5 100"}, true}, {Wish{1, 0, "0 0, 100 0"}, false}, {Wish{1, 0, "0 0, 100 100, 100 0, 0 100"}, false}, {Wish{1, 0, "0 0,100 0,50 100"}, false}, {Wish{1, 0, "0 0, 101 0, 50 100"}, false}, {Wish{1, 0, "door"}, false}} {
		if (tc.w.Wrong() == "") != tc.ok {
			t.Errorf("%v: %q", tc.w, tc.w.Wrong())
		}
	}
}

// standing is a pairing with which all is well.
func standing() Facts {
	w := Wish{2, 0.3, ""}
	return Facts{ID: "k", Place: "Crew mess", Name: "Analyser 1", Wish: w, Stills: small, Opens: true, Analyser: &Analyser{At: now, Name: "Analyser 1", Views: []View{{ID: "k", PerSecond: 2, LeastScore: 0.3}},
		Running: Running{Timed: true}}}
}

func (f *Facts) behind(d time.Duration) {
	f.Analyser.Running.Views = map[string]Queue{f.ID: {Waiting: 3, Behind: d}, "another": {Behind: time.Hour}}
}

func TestWhatHindersAnAnalyserFromLooking(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct {
		cause   func(*Facts)
		hinders string
		blind   bool
	}{
		"nothing":                 {func(f *Facts) { f.Name, f.Analyser, f.Asked = "", nil, true }, "", true},
		"it wasn't asked":         {func(f *Facts) { f.Name, f.Analyser = "", nil }, "", false},
		"it has its own":          {func(f *Facts) { f.Name, f.Own, f.Asked = "", true, true }, "analytics of its own", false},
		"another looks at it":     {func(f *Facts) { f.Own, f.Asked = true, true }, "", false},
		"who looks wasn't read":   {func(f *Facts) { f.Analyser = nil }, "Analyser 1 looks at it, and wasn't read yet", false},
		"no still":                {func(f *Facts) { f.Stills = nil }, "no still that was read", false},
		"no account":              {func(f *Facts) { f.Opens = false }, "no account opens its stills", false},
		"its own, and no account": {func(f *Facts) { f.Name, f.Own, f.Opens = "", true, false }, "analytics of its own", false},
	} {
		f := standing()
		tc.cause(&f)
		if got := f.Hinders(); (got == "") != (tc.hinders == "") || !strings.Contains(got, tc.hinders) || f.Blind() != tc.blind {
			t.Errorf("%s: %q, blind %v", name, got, f.Blind())
		}
	}
}

func TestAViewMovesFromOneToAnother(t *testing.T) {
	t.Parallel()
	kinds := func(all []finding.Change) (out string) {
		for _, c := range all {
			out += c.Kind + " " + c.Args["analyser"] + " "
		}
		return out
	}
	f, other := standing(), Analyser{Name: "Analyser 2"}
	nobody := f
	nobody.Name, nobody.Analyser = "", nil
	for name, tc := range map[string]struct {
		got  []finding.Change
		want string
	}{
		"first":         {nobody.Moves("", "8", other, f.Wish), Pair + " 8 "},
		"as it is":      {f.Moves("7", "7", *f.Analyser, f.Wish), ""},
		"otherwise":     {f.Moves("7", "7", *f.Analyser, Wish{1, 0.3, ""}), Pair + " 7 "},
		"to another":    {f.Moves("7", "8", other, f.Wish), Pair + " 8 " + Unpair + " 7 "},
		"it has it too": {f.Moves("7", "8", Analyser{Name: "Analyser 2", Views: f.Analyser.Views}, f.Wish), Pair + " 8 " + Unpair + " 7 "},
	} {
		if got := kinds(tc.got); got != tc.want {
			t.Errorf("%s: %q, want %q", name, got, tc.want)
		}
	}
}

func TestWhatIsSentAndTaken(t *testing.T) {
	t.Parallel()
	for _, tc := range []struct {
		l    Limits
		most int
	}{{Limits{}, 0}, {Limits{Views: 3}, 3}, {Limits{Licences: 2}, 2}, {Limits{Views: 3, Licences: 2}, 2}, {Limits{Views: 2, Licences: 3}, 2}, {Limits{Views: 2, Licences: 2}, 2}} {
		if got := tc.l.Most(); got != tc.most {
			t.Errorf("%+v takes %d", tc.l, got)
		}
	}
	for says, want := range map[float64]float64{0: 2, 1: 1, 2: 2, 5: 2} {
		if got := (Wish{PerSecond: 2}).Sends(View{PerSecond: says}); got != want {
			t.Errorf("where it says %g, %g are sent", says, got)
		}
	}
}

func codes(all []finding.Finding) string {
	var out []string
	for _, f := range all {
		out = append(out, f.Code)
	}
	return strings.Join(out, " ")
}

// Each finding comes of one thing alone, and goes with it.
func TestWhatStandsBetweenAPairing(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct {
		cause func(*Facts)
		codes string
		again bool // it is proposed to pair it again
	}{
		"all is well":              {func(*Facts) {}, "", false},
		"nobody looks at it":       {func(f *Facts) { f.Name, f.Trouble = "", "x" }, "", false},
		"it was never read":        {func(f *Facts) { f.Analyser = nil }, "", false},
		"never, and it can't be":   {func(f *Facts) { f.Analyser, f.Trouble = nil, "no answer" }, "analyser.unread", false},
		"it isn't read any more":   {func(f *Facts) { f.Trouble = "no answer" }, "analyser.unread", false},
		"it forgot it":             {func(f *Facts) { f.Analyser.Views = nil }, "analyser.forgot", true},
		"it knows another":         {func(f *Facts) { f.Analyser.Views[0].ID = "other" }, "analyser.forgot", true},
		"it was set otherwise":     {func(f *Facts) { f.Analyser.Views[0].PerSecond = 1 }, "analyser.otherwise", true},
		"another least score":      {func(f *Facts) { f.Analyser.Views[0].LeastScore = 0.5 }, "analyser.otherwise", true},
		"the same to the cent":     {func(f *Facts) { f.Analyser.Views[0].LeastScore = 0.3001 }, "", false},
		"as late as it may be":     {func(f *Facts) { f.behind(behindBy) }, "", false},
		"a moment later":           {func(f *Facts) { f.behind(behindBy + 1) }, "analyser.behind", false},
		"no still gets there":      {func(f *Facts) { f.Sending = "no answer" }, "analyser.unsent", false},
		"it holds other pictures":  {func(f *Facts) { f.References = []string{"Crew", "Lorries"} }, "analyser.references", false},
		"its clock is in step":     {func(f *Facts) { f.Analyser.Running.Ahead = clockWithin }, "", false},
		"its clock is ahead":       {func(f *Facts) { f.Analyser.Running.Ahead = clockWithin + 1 }, "analyser.clock", false},
		"its clock is behind":      {func(f *Facts) { f.Analyser.Running.Ahead = -time.Hour }, "analyser.clock", false},
		"it tells no clock":        {func(f *Facts) { f.Analyser.Running = Running{Ahead: time.Hour} }, "", false},
		"read as long ago as may":  {func(f *Facts) { f.Analyser.At = f.Analyser.At.Add(-KnownFor) }, "", false},
		"read too long ago":        {func(f *Facts) { f.Analyser.At = f.Analyser.At.Add(-KnownFor - 1) }, "analyser.unheard", false},
		"and it can't be now":      {func(f *Facts) { f.Analyser.At, f.Trouble = time.Time{}, "no answer" }, "analyser.unread", false},
		"it falls behind, unheard": {func(f *Facts) { f.Trouble = "no answer"; f.behind(time.Minute) }, "analyser.unread analyser.behind", false},
	} {
		f := standing()
		tc.cause(&f)
		if got := codes(Judge(now, f)); got != tc.codes {
			t.Errorf("%s: %q, want %q", name, got, tc.codes)
		}
		if again := Propose(f, "7"); (len(again) > 0) != tc.again {
			t.Errorf("%s: proposed %v", name, again)
		}
	}
	f := standing()
	f.Analyser.Views = nil
	c := Propose(f, "7")[0]
	if c.Kind != Pair || c.From != None || c.To != f.Wish.Text() || c.Args["analyser"] != "7" || c.Args["view"] != "k" {
		t.Errorf("it is to be paired again by %+v", c)
	}
	if off := f.Off("7", "Analyser 1", *standing().Analyser, ""); off.Kind != Unpair || off.To != None || off.From != f.Wish.Text() || off.Key != c.Key {
		t.Errorf("it is to be taken off by %+v", off)
	}
	for _, f := range Judge(now, func() Facts { f := standing(); f.Analyser.Running.Ahead = -3 * time.Second; return f }()) {
		if !strings.Contains(f.Sentence, "3s behind") {
			t.Errorf("a clock that is behind: %q", f.Sentence)
		}
	}
}

// What is shared out breaks no limit, no more could be, and who is left is told a limit that really binds: held against trying all.
func TestSharingOutIsAsGoodAsTryingAll(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(25, 2))
	for round := range 300 {
		var bins []Bin
		for i := range 1 + r.IntN(3) {
			a := Analyser{Name: string(rune('A' + i)), Limits: Limits{Views: r.IntN(4), Licences: r.IntN(3), PerSecond: float64(r.IntN(8)), Width: []int{0, 640, 1920}[r.IntN(3)]}}
			for range r.IntN(2) {
				a.Views = append(a.Views, View{PerSecond: float64(1 + r.IntN(2))})
			}
			bins = append(bins, Bin{int64(i + 1), a})
		}
		var all []Placing
		for i := range 1 + r.IntN(5) {
			p := Placing{ID: int64(100 + i), Rate: float64(1 + r.IntN(3)), Stills: [][]Still{small, large, nil}[r.IntN(8)%3]}
			if r.IntN(4) == 0 {
				p.Wish = bins[r.IntN(len(bins))].ID
			}
			all = append(all, p)
		}
		got := Assign(all, bins)
		full := map[int64]Analyser{}
		for _, b := range bins {
			full[b.ID] = b.Analyser.copied()
		}
		for _, p := range all {
			id, ok := got.To[p.ID]
			if !ok {
				continue
			}
			if p.Wish != 0 && p.Wish != id {
				t.Fatalf("round %d: %d was to go to %d, and goes to %d", round, p.ID, p.Wish, id)
			}
			a := full[id]
			if why := a.Binds(p.Rate, p.Stills); why != "" {
				t.Fatalf("round %d: %d goes to %s though %s", round, p.ID, a.Name, why)
			}
			a.Views = append(a.Views, View{PerSecond: p.Rate})
			full[id] = a
		}
		if best := most(all, bins); len(got.To) != best {
			t.Fatalf("round %d: %d of %d find room, and %d could", round, len(got.To), len(all), best)
		}
		for _, p := range all {
			if _, ok := got.To[p.ID]; !ok && got.Why[p.ID] == "" {
				t.Fatalf("round %d: nobody says why %d finds no room", round, p.ID)
			}
		}
	}
}

// most is how many find room at the most, by trying all.
func most(all []Placing, bins []Bin) int {
	if len(all) == 0 {
		return 0
	}
	best := most(all[1:], bins)
	p := all[0]
	for i, b := range bins {
		if p.Wish != 0 && p.Wish != b.ID || b.Analyser.Binds(p.Rate, p.Stills) != "" {
			continue
		}
		next := append([]Bin(nil), bins...)
		next[i].Analyser = b.Analyser.copied()
		next[i].Analyser.Views = append(next[i].Analyser.Views, View{PerSecond: p.Rate})
		best = max(best, 1+most(all[1:], next))
	}
	return best
}

func TestWithoutAnAnalyserNobodyLooks(t *testing.T) {
	t.Parallel()
	got := Assign([]Placing{{ID: 1, Rate: 1, Stills: small}}, nil)
	if len(got.To) != 0 || got.Why[1] != "no analyser was read yet" {
		t.Errorf("%+v", got)
	}
}

// BenchmarkAssign shares 200 views out among 10 analysers.
func BenchmarkAssign(b *testing.B) {
	var bins []Bin
	for i := range 10 {
		bins = append(bins, Bin{int64(i + 1), Analyser{Name: string(rune('A' + i)), Limits: Limits{Views: 18 + i, PerSecond: 30 + float64(i), Width: 640 * (1 + i%3)}}})
	}
	r := rand.New(rand.NewPCG(25, 3))
	var all []Placing
	for i := range 200 {
		all = append(all, Placing{ID: int64(i + 1), Rate: float64(5+r.IntN(20)) / 10, Stills: [][]Still{small, large}[i%2]})
	}
	for b.Loop() {
		Assign(all, bins)
	}
}

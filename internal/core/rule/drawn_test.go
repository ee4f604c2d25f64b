package rule

import (
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/testbed/moment"
)

func TestRulesStand(t *testing.T) {
	drawn := func(change func(*Rule)) []Drawn {
		r := Rule{Name: "Apron", Kind: Stays, Area: square, For: 8 * time.Second}
		change(&r)
		return []Drawn{{ID: 1, Rule: r}}
	}
	asIs := func(*Rule) {}
	own := Config{Name: "Apron", Type: "LoiteringDetector", Values: map[string]string{"TimeThreshold": "PT8S"}, Shapes: map[string]Shape{"Field": {true, square}}}
	longer := own
	longer.Values = map[string]string{"TimeThreshold": "PT9S"}
	foreign := Config{Name: "Apron", Type: "Watch", Maker: true}
	read := Facts{LookedAt: moment.Now(), Token: "vac0", Supported: knows, Recorder: "Terminal recorder"}
	for name, x := range map[string]struct {
		f       Facts
		on      []Config
		drawn   []Drawn
		states  []State
		codes   []string
		changes []string
	}{
		"nothing":            {f: read},
		"drawn":              {f: read, drawn: drawn(asIs), states: []State{NotYet}, codes: []string{"analytics.unwritten"}, changes: []string{None + " → anything stays in area 25 75, 75 75, 75 25 for 8 s"}},
		"written":            {f: read, on: []Config{own}, drawn: drawn(asIs), states: []State{AsDrawn}},
		"otherwise":          {f: read, on: []Config{longer}, drawn: drawn(asIs), states: []State{Otherwise}, codes: []string{"analytics.otherwise"}, changes: []string{"anything stays in area 25 75, 75 75, 75 25 for 9 s → anything stays in area 25 75, 75 75, 75 25 for 8 s"}},
		"foreign, same name": {f: read, on: []Config{foreign}, drawn: drawn(asIs), states: []State{Otherwise}, codes: []string{"analytics.otherwise"}},
		"made elsewhere":     {f: read, on: []Config{own, foreign}, states: []State{Elsewhere, Foreign}},
		"it can't":           {f: read, drawn: drawn(func(r *Rule) { r.Lowest = 0.1 }), states: []State{NotYet}, codes: []string{"analytics.cant"}},
		"not read":           {drawn: drawn(asIs), states: []State{Unknown}},
		"no analytics":       {f: Facts{LookedAt: moment.Now()}, drawn: drawn(asIs), states: []State{Unknown}},
		"dropped":            {f: with(read, func(f *Facts) { f.Drops = true }), on: []Config{own}, states: []State{Elsewhere}, codes: []string{"analytics.dropped"}},
		"on both views":      {f: with(read, func(f *Facts) { f.Twin, f.TwinHas = "Heat", []Config{own, foreign} }), on: []Config{own, foreign}, states: []State{Elsewhere, Foreign}, codes: []string{"analytics.twice"}},
		"deaf":               {f: with(read, func(f *Facts) { f.Deaf = []string{"By day", "By night"} }), on: []Config{own}, states: []State{Elsewhere}, codes: []string{"analytics.deaf"}},
		"deaf, no rule":      {f: with(read, func(f *Facts) { f.Deaf = []string{"By day"} })},
		"deaf and dropped":   {f: with(read, func(f *Facts) { f.Deaf, f.Drops = []string{"By day"}, true }), on: []Config{own}, states: []State{Elsewhere}, codes: []string{"analytics.dropped"}},
		"on both, the second": {f: with(read, func(f *Facts) { f.Twin, f.TwinHas, f.Second = "Heat", []Config{own, foreign}, true }), on: []Config{own, foreign}, states: []State{Elsewhere, Foreign}, codes: []string{"analytics.twice"},
			changes: []string{"anything stays in area 25 75, 75 75, 75 25 for 8 s → " + None}},
		"on both, a check":       {f: with(read, func(f *Facts) { f.Twin, f.TwinHas, f.Second, f.Checks = "Heat", []Config{own}, true, true }), on: []Config{own}, states: []State{Elsewhere}, codes: []string{"analytics.twice"}},
		"on both, drawn here":    {f: with(read, func(f *Facts) { f.Twin, f.TwinHas, f.Second = "Heat", []Config{own}, true }), on: []Config{own}, drawn: drawn(asIs), states: []State{AsDrawn}, codes: []string{"analytics.twice"}},
		"on both, drawn and off": {f: with(read, func(f *Facts) { f.Twin, f.TwinHas, f.Second = "Heat", []Config{own}, true }), on: []Config{own}, drawn: off(drawn(asIs)), states: []State{OnYet}, codes: []string{"analytics.on", "analytics.twice"}, changes: []string{"anything stays in area 25 75, 75 75, 75 25 for 8 s → " + None}},
		"otherwise on both":      {f: with(read, func(f *Facts) { f.Twin, f.TwinHas = "Heat", []Config{longer} }), on: []Config{own}, states: []State{Elsewhere}},
		"boxes sit": {f: with(read, func(f *Facts) {
			f.Sits = &scene.Sits{Right: 0.02, Up: -0.02, Beside: 0.028, Late: 900 * time.Millisecond, Least: 900 * time.Millisecond}
		})},
		"boxes beside":    {f: with(read, func(f *Facts) { f.Sits = &scene.Sits{Right: 0.06, Beside: 0.06} }), codes: []string{"analytics.shifted"}},
		"boxes late":      {f: with(read, func(f *Facts) { f.Sits = &scene.Sits{Late: time.Second, Least: 500 * time.Millisecond} }), codes: []string{"analytics.shifted"}},
		"boxes, perhaps":  {f: with(read, func(f *Facts) { f.Sits = &scene.Sits{Late: 3 * time.Second, Least: 400 * time.Millisecond} })},
		"boxes early":     {f: with(read, func(f *Facts) { f.Sits = &scene.Sits{Late: -time.Second, Least: -time.Second} })},
		"boxes turned":    {f: with(read, func(f *Facts) { f.Sits = &scene.Sits{Turned: 2} }), codes: []string{"analytics.turned"}},
		"counted so":      {f: with(read, func(f *Facts) { f.Sits, f.Turned = &scene.Sits{Turned: 2}, 2 })},
		"turned no more":  {f: with(read, func(f *Facts) { f.Sits, f.Turned = &scene.Sits{}, 2 }), codes: []string{"analytics.turned"}},
		"turned, unknown": {f: with(read, func(f *Facts) { f.Turned = 2 })},
		"nothing to drop": {f: with(read, func(f *Facts) { f.Drops = true })},
		"off":             {f: read, drawn: off(drawn(asIs)), states: []State{Off}},
		"off, there yet":  {f: read, on: []Config{longer}, drawn: off(drawn(asIs)), states: []State{OnYet}, codes: []string{"analytics.on"}, changes: []string{"anything stays in area 25 75, 75 75, 75 25 for 9 s → " + None}},
		"off, not read":   {drawn: off(drawn(asIs)), states: []State{Unknown}},
		"off, foreign":    {f: read, on: []Config{foreign}, drawn: off(drawn(asIs)), states: []State{OnYet}, codes: []string{"analytics.on"}},
		"renamed": {f: read, on: []Config{named(own, "Old")}, drawn: was(drawn(asIs), "Old"), states: []State{NotYet, Renamed}, codes: []string{"analytics.renamed"},
			changes: []string{"anything stays in area 25 75, 75 75, 75 25 for 8 s → " + None, None + " → anything stays in area 25 75, 75 75, 75 25 for 8 s"}},
		"renamed, full": {f: with(read, func(f *Facts) { f.Supported.Most = 1 }), on: []Config{named(own, "Old")}, drawn: was(drawn(asIs), "Old"), states: []State{NotYet, Renamed}, codes: []string{"analytics.renamed"},
			changes: []string{"anything stays in area 25 75, 75 75, 75 25 for 8 s → " + None, None + " → anything stays in area 25 75, 75 75, 75 25 for 8 s"}},
		"renamed, both there": {f: read, on: []Config{own, named(own, "Old")}, drawn: was(drawn(asIs), "Old"), states: []State{AsDrawn, Renamed},
			changes: []string{"anything stays in area 25 75, 75 75, 75 25 for 8 s → " + None}},
		"renamed, another has the old name": {f: read, on: []Config{named(own, "Old")}, drawn: append(was(drawn(asIs), "Old"), Drawn{ID: 2, Rule: Rule{Name: "Old", Kind: Stays, Area: square, For: 8 * time.Second}}),
			states: []State{NotYet, AsDrawn}, codes: []string{"analytics.unwritten"}, changes: []string{None + " → anything stays in area 25 75, 75 75, 75 25 for 8 s"}},
		"renamed, old one gone":    {f: read, on: []Config{own}, drawn: was(drawn(asIs), "Old"), states: []State{AsDrawn}},
		"renamed, old one foreign": {f: read, on: []Config{named(foreign, "Old")}, drawn: was(drawn(asIs), "Old"), states: []State{NotYet, Renamed}, codes: []string{"analytics.renamed"}},
		"no room": {f: with(read, func(f *Facts) { f.Supported.Most = 1 }), on: []Config{{Name: "Other", Type: "FieldDetector", Shapes: own.Shapes}}, drawn: drawn(asIs),
			states: []State{NotYet, Elsewhere}, codes: []string{"analytics.full"}},
		"room for one of two": {f: with(read, func(f *Facts) { f.Supported.Most = 2 }), on: []Config{{Name: "Other", Type: "FieldDetector", Shapes: own.Shapes}},
			drawn: append(drawn(asIs), Drawn{ID: 2, Rule: Rule{Name: "Second", Kind: Stays, Area: square, For: time.Second}}), states: []State{NotYet, NotYet, Elsewhere},
			codes: []string{"analytics.unwritten", "analytics.full"}, changes: []string{None + " → anything stays in area 25 75, 75 75, 75 25 for 8 s"}},
	} {
		x.f.Configs = x.on
		var states []State
		for _, s := range Stand(x.f, x.drawn) {
			states = append(states, s.State)
		}
		var codes, changes []string
		for _, f := range Judge(x.f, x.drawn) {
			codes = append(codes, f.Code)
		}
		for _, c := range Propose(x.f, x.drawn) {
			if c.Risk != finding.NoRisk {
				t.Errorf("%s: %q has a risk %q", name, c.Title, c.Risk)
			}
			changes = append(changes, c.From+" → "+c.To)
			if back, ok := c.Inverse(); !ok || back.Args["rule"] != c.Args["old_rule"] {
				t.Errorf("%s is taken back by %+v", name, back)
			}
		}
		if !slices.Equal(states, x.states) || !slices.Equal(codes, x.codes) || !slices.Equal(changes, x.changes) {
			t.Errorf("%s: %q, %q, %q", name, states, codes, changes)
		}
	}
	f := read
	f.Configs = []Config{own, {Name: "Other", Type: "Watch", Maker: true}}
	if c, err := f.Remove("Apron"); err != nil || c.To != None || c.Args["rule"] != "" {
		t.Errorf("%+v %v", c, err)
	}
	if _, err := f.Remove("Other"); !errors.Is(err, ErrForeign) {
		t.Errorf("a rule without a sentence is removed: %v", err)
	}
	if c, err := f.Remove("None"); c != nil || err != nil {
		t.Errorf("%+v %v", c, err)
	}
}

func off(all []Drawn) []Drawn {
	for i := range all {
		all[i].Off = true
	}
	return all
}

func was(all []Drawn, name string) []Drawn {
	for i := range all {
		all[i].Was = name
	}
	return all
}

func named(c Config, name string) Config { c.Name = name; return c }

// What a view has is held against a set rule by rule: on the camera first, else as it is drawn.
func TestASetIsComparedWithAView(t *testing.T) {
	r := Rule{Name: "Apron", Kind: Stays, Area: square, For: 8 * time.Second}
	other := r
	other.For = time.Minute
	own := Config{Name: "Apron", Type: "LoiteringDetector", Values: map[string]string{"TimeThreshold": "PT8S"}, Shapes: map[string]Shape{"Field": {true, square}}}
	longer := own
	longer.Values = map[string]string{"TimeThreshold": "PT9S"}
	for name, x := range map[string]struct {
		on    []Config
		drawn []Drawn
		want  [4]int // same, otherwise, drawn, missing
	}{
		"nothing":               {want: [4]int{0, 0, 0, 1}},
		"on the camera":         {on: []Config{own}, want: [4]int{1, 0, 0, 0}},
		"otherwise there":       {on: []Config{longer}, drawn: []Drawn{{Rule: r}}, want: [4]int{0, 1, 0, 0}},
		"there, drawn anew":     {on: []Config{own}, drawn: []Drawn{{Rule: other}}, want: [4]int{1, 0, 0, 0}},
		"drawn":                 {drawn: []Drawn{{Rule: r}}, want: [4]int{0, 0, 1, 0}},
		"drawn otherwise":       {drawn: []Drawn{{Rule: other}}, want: [4]int{0, 1, 0, 0}},
		"drawn, and off":        {drawn: []Drawn{{Off: true, Rule: r}}, want: [4]int{0, 1, 0, 0}},
		"without a sentence":    {on: []Config{{Name: "Apron", Type: "Watch", Maker: true}}, want: [4]int{0, 1, 0, 0}},
		"another of other name": {on: []Config{named(own, "Else")}, want: [4]int{0, 0, 0, 1}},
	} {
		got := Set{Rules: []Rule{r}}.Compare(Facts{Configs: x.on}, x.drawn)
		if is := [4]int{len(got.Same), len(got.Otherwise), len(got.Drawn), len(got.Missing)}; is != x.want {
			t.Errorf("%s: %v, want %v", name, is, x.want)
		}
	}
}

func with(f Facts, change func(*Facts)) Facts { change(&f); return f }

// What a camera makes of a rule: as it is wanted, as it was, gone, or otherwise: that asks a person.
func TestWhatAChangeReads(t *testing.T) {
	c := Config{Name: "a", Type: "FieldDetector", Shapes: map[string]Shape{"Field": {true, square}}}
	moved := Config{Name: "a", Type: "FieldDetector", Shapes: map[string]Shape{"Field": {true, append([]scene.Point{{X: -1, Y: -1}}, square[1:]...)}}}
	rounded := Config{Name: "a", Type: "FieldDetector", Shapes: map[string]Shape{"F": {true, []scene.Point{{X: -0.5001, Y: -0.5}, square[1], square[2]}}}}
	for name, x := range map[string]struct {
		now       *Config
		rule, old string
		want      string
	}{
		"made":               {&c, c.encode(), "", "to"},
		"rounded":            {&rounded, c.encode(), "", "to"},
		"not yet":            {nil, c.encode(), "", "from"},
		"as it was":          {&moved, c.encode(), moved.encode(), "from"},
		"gone meanwhile":     {nil, c.encode(), moved.encode(), None},
		"removed":            {nil, "", c.encode(), "to"},
		"otherwise":          {&moved, "", c.encode(), "anything is in area 0 100, 75 75, 75 25"},
		"no sentence for it": {&Config{Name: "a", Type: "Watch"}, c.encode(), "", "a Watch that there is no sentence for"},
	} {
		got, err := ReadsAs(x.now, map[string]string{"rule": x.rule, "old_rule": x.old}, "from", "to")
		if err != nil || got != x.want {
			t.Errorf("%s: %q %v", name, got, err)
		}
	}
	for _, bad := range []string{"{", "{}", `{"name":"a"}`, "[]"} {
		if _, err := ReadsAs(nil, map[string]string{"rule": bad}, "", ""); err == nil {
			t.Errorf("%s is read", bad)
		}
	}
}

func TestPointsComeBackFromTheirText(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 4))
	for range 2000 {
		var all []scene.Point
		for range 1 + r.IntN(20) {
			all = append(all, scene.Point{X: r.Float64()*2 - 1, Y: r.Float64()*2 - 1})
		}
		got, err := ParsePoints(FormatPoints(all))
		if err != nil || len(got) != len(all) {
			t.Fatalf("%v: %v %v", all, got, err)
		}
		for i, p := range got {
			if math.Abs(p.X-all[i].X) > 0.0002 || math.Abs(p.Y-all[i].Y) > 0.0002 {
				t.Fatalf("%v comes back as %v", all[i], p)
			}
		}
	}
	for _, bad := range []string{"1", "1 2 3", "x 1", "101 0", "-1 0", "NaN 0", "0 Inf", strings.Repeat("1 1,", 64) + "1 1", "1 1,"} {
		if got, err := ParsePoints(bad); !errors.Is(err, ErrPoints) {
			t.Errorf("%q is %v: %v", bad, got, err)
		}
	}
	if got, err := ParsePoints("  "); got != nil || err != nil {
		t.Errorf("%v %v", got, err)
	}
}

// Whatever a person types as points is read or refused, and what is read comes back the same.
func FuzzParsePoints(f *testing.F) {
	for _, s := range []string{"", "20 10, 40.5 10, 30 30", "1e1 0x1p3", "0 0", "100 100,0 0", ",", "1,2"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ParsePoints(text)
		if err != nil {
			return
		}
		again, err := ParsePoints(FormatPoints(all))
		if err != nil || len(again) != len(all) {
			t.Fatalf("%q: %v, then %v %v", text, all, again, err)
		}
	})
}

func TestRulesInALine(t *testing.T) {
	for want, r := range map[string]Rule{
		"anything crosses line 25 75, 75 37.5":                                      {Kind: Crosses, Line: line},
		"human crosses to the left of it line 25 75, 75 37.5, score at least 0.6":   {Kind: Crosses, Line: line, Direction: RightToLeft, Classes: []string{"Human"}, MinScore: 0.6},
		"3 of vehicle or more are at once in area 25 75, 75 75, 75 25 for 2 s":      {Kind: Crowd, Area: square, Count: 3, For: 2 * time.Second, Classes: []string{"Vehicle"}},
		"anything is faster in area 25 75, 75 75, 75 25 than 0.5 pictures a second": {Kind: Faster, Area: square, Speed: 0.5},
		"anything comes into area 25 75, 75 75, 75 25, at least 11 % high, at most 50 % high, without 25 75, 75 75, 75 25, during 21:00 – 05:30": {Kind: ComesInto, Area: square, Lowest: 0.11, Highest: 0.5,
			Without: []scene.Polygon{square}, Hours: Hours{21 * 60, 330}},
	} {
		if got := r.Text(); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}

// A camera that keeps two more is given two more of three, the first in their order; room that one gives back is another's.
func TestNoMoreAreWrittenThanTheCameraKeeps(t *testing.T) {
	square := scene.Polygon{{X: -0.5, Y: -0.5}, {X: 0.5, Y: -0.5}, {X: 0.5, Y: 0.5}}
	drawn := func(name string) Drawn { return Drawn{Rule: Rule{Name: name, Kind: Inside, Area: square}} }
	knows := Supported{Most: 3, Types: []Type{{Name: "FieldDetector", Shapes: map[string]string{"Field": "Polygon"}}}}
	on := Config{Name: "There", Type: "FieldDetector", Shapes: map[string]Shape{"Field": {true, square}}}
	gone := drawn("There")
	gone.Off = true
	for name, x := range map[string]struct {
		drawn []Drawn
		want  string
	}{
		"as many as fit":  {[]Drawn{drawn("a"), drawn("b")}, "a b"},
		"one too many":    {[]Drawn{drawn("a"), drawn("b"), drawn("c")}, "a b"},
		"room given back": {[]Drawn{gone, drawn("a"), drawn("b"), drawn("c"), drawn("d")}, "There a b c"},
		"given back late": {[]Drawn{drawn("a"), drawn("b"), drawn("c"), gone}, "a b There"},
		"there already":   {[]Drawn{drawn("There"), drawn("a"), drawn("b")}, "a b"},
	} {
		f := Facts{LookedAt: time.Unix(1, 0), Token: "vac0", Supported: knows, Configs: []Config{on}}
		var names []string
		for _, c := range Propose(f, x.drawn) {
			names = append(names, c.Args["name"])
		}
		if got := strings.Join(names, " "); got != x.want {
			t.Errorf("%s: %s, want %s", name, got, x.want)
		}
		if len(f.Configs) != 1 {
			t.Errorf("%s: what is known was changed", name)
		}
	}
}

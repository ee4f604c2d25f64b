package rule

import (
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/scene"
)

var (
	line   = []scene.Point{{X: -0.5, Y: -0.5}, {X: 0.5, Y: 0.25}}
	square = []scene.Point{{X: -0.5, Y: -0.5}, {X: 0.5, Y: -0.5}, {X: 0.5, Y: 0.5}}
	knows  = Supported{Types: []Type{
		{Name: "LineDetector", Values: map[string]string{"Direction": "Direction", "ClassFilter": "StringList"}, Shapes: map[string]string{"Segments": "Polyline"}, Classes: []string{"Human", "Vehicle"}, Points: 10},
		{Name: "FieldDetector", Shapes: map[string]string{"Field": "Polygon"}, Fewest: 3, Points: 10},
		{Name: "LoiteringDetector", Values: map[string]string{"TimeThreshold": "duration"}, Shapes: map[string]string{"Field": "Polygon"}},
		{Name: "FieldDetector", Maker: true, Shapes: map[string]string{"Zone": "Polygon"}}}}
)

func TestARuleInACamerasOwnParameters(t *testing.T) {
	crosses, inside := Rule{Name: "Seaward line", Kind: Crosses, Line: line}, Rule{Name: "Apron", Kind: Inside, Area: square}
	with := func(r Rule, change func(*Rule)) Rule { change(&r); return r }
	for name, x := range map[string]struct {
		r    Rule
		can  Supported
		cant []string
	}{
		"a line":              {crosses, knows, nil},
		"a direction":         {with(crosses, func(r *Rule) { r.Direction = RightToLeft }), knows, nil},
		"a class":             {with(crosses, func(r *Rule) { r.Classes = []string{"Human"} }), knows, nil},
		"another class":       {with(crosses, func(r *Rule) { r.Classes = []string{"Boat"} }), knows, []string{"classes: it knows Human, Vehicle, and not Boat"}},
		"an area":             {inside, knows, nil},
		"a class of an area":  {with(inside, func(r *Rule) { r.Classes = []string{"Human"} }), knows, []string{"classes: it can't tell human from other things: it would fire on anything"}},
		"a stay":              {with(inside, func(r *Rule) { r.Kind, r.For = Stays, 8*time.Second }), knows, nil},
		"comes into":          {with(inside, func(r *Rule) { r.Kind = ComesInto }), knows, []string{`kind: it tells of whatever is in, also of what appears there: say "is in"`}},
		"how many":            {with(inside, func(r *Rule) { r.Kind = Crowd }), knows, []string{"kind: it knows LineDetector, FieldDetector, LoiteringDetector, FieldDetector alone"}},
		"no rules":            {crosses, Supported{}, []string{"kind: it tells of no rules that it knows"}},
		"a maker's own alone": {inside, Supported{Types: knows.Types[3:]}, []string{"kind: it knows FieldDetector alone"}},
		"a score":             {with(crosses, func(r *Rule) { r.MinScore = 0.6 }), knows, []string{"score: it takes no least score"}},
		"heights, hours, without": {with(inside, func(r *Rule) { r.Lowest, r.Hours, r.Without = 0.1, Hours{60, 120}, []scene.Polygon{square} }), knows,
			[]string{"height: it knows no height", "hours: it knows no hours: a route can have them", "without: it leaves no areas out: draw around them"}},
		"metres":          {with(inside, func(r *Rule) { r.Shortest = 1.2 }), knows, []string{"metres: it knows no metres: no type of rule takes them"}},
		"too many points": {with(inside, func(r *Rule) { r.Area = slices.Repeat(square, 4) }), knows, []string{"points: it takes 3 to 10 points"}},
		"no name":         {with(inside, func(r *Rule) { r.Name = "" }), knows, []string{"name: a rule's name has 1 to 64 characters"}},
		"no direction":    {with(crosses, func(r *Rule) { r.Direction = LeftToRight }), Supported{Types: []Type{{Name: "LineDetector", Shapes: map[string]string{"Line": "Polyline"}}}}, []string{"direction: it fires whichever way the line is crossed"}},
	} {
		c, cant := x.can.Write(x.r)
		var got []string
		for _, n := range cant {
			got = append(got, n.Part+": "+n.Why)
		}
		if !slices.Equal(got, x.cant) {
			t.Errorf("%s: %q", name, got)
		}
		if len(cant) > 0 {
			continue
		}
		back, ok := c.Says()
		if !ok || !Same(back, x.r) || back.Name != x.r.Name {
			t.Errorf("%s comes back as %+v %t from %+v", name, back, ok, c)
		}
	}
}

// A rule of a camera that there is no sentence for is none; whatever its parameters are called, they are read.
func TestWhatACamerasRuleSays(t *testing.T) {
	area, path := map[string]Shape{"F": {Closed: true, Points: square}}, map[string]Shape{"L": {Points: line}}
	for name, x := range map[string]struct {
		c    Config
		want Rule
		ok   bool
	}{
		"a line":             {Config{Name: "a", Type: "LineDetector", Shapes: path}, Rule{Name: "a", Kind: Crosses, Line: line, Direction: Either}, true},
		"its direction":      {Config{Type: "LineDetector", Shapes: path, Values: map[string]string{"direction": "Left"}}, Rule{Kind: Crosses, Line: line, Direction: RightToLeft}, true},
		"an odd direction":   {Config{Type: "LineDetector", Shapes: path, Values: map[string]string{"Direction": "Up"}}, Rule{}, false},
		"an area":            {Config{Type: "FieldDetector", Shapes: area}, Rule{Kind: Inside, Area: square}, true},
		"seconds":            {Config{Type: "LoiteringDetector", Shapes: area, Values: map[string]string{"Threshold": "8"}}, Rule{Kind: Stays, Area: square, For: 8 * time.Second}, true},
		"a duration":         {Config{Type: "LoiteringDetector", Shapes: area, Values: map[string]string{"TimeThreshold": "PT1M30.5S"}}, Rule{Kind: Stays, Area: square, For: 90500 * time.Millisecond}, true},
		"an odd time":        {Config{Type: "LoiteringDetector", Shapes: area, Values: map[string]string{"TimeThreshold": "P1D"}}, Rule{}, false},
		"no time":            {Config{Type: "LoiteringDetector", Shapes: area}, Rule{}, false},
		"classes and score":  {Config{Type: "FieldDetector", Shapes: area, Values: map[string]string{"ClassFilter": "Human Vehicle", "Confidence": "0.5"}}, Rule{Kind: Inside, Area: square, Classes: []string{"Human", "Vehicle"}, MinScore: 0.5}, true},
		"a value more":       {Config{Type: "FieldDetector", Shapes: area, Values: map[string]string{"Armed": "true"}}, Rule{}, false},
		"something else too": {Config{Type: "FieldDetector", Shapes: area, Others: []string{"Depth"}}, Rule{}, false},
		"a maker's own":      {Config{Type: "FieldDetector", Maker: true, Shapes: area}, Rule{}, false},
		"another type":       {Config{Type: "TamperDetector", Shapes: area}, Rule{}, false},
		"a line for an area": {Config{Type: "FieldDetector", Shapes: path}, Rule{}, false},
		"two areas":          {Config{Type: "FieldDetector", Shapes: map[string]Shape{"A": {true, square}, "B": {true, square}}}, Rule{}, false},
		"no drawing":         {Config{Type: "FieldDetector"}, Rule{}, false},
		"nothing enclosed":   {Config{Type: "FieldDetector", Shapes: map[string]Shape{"A": {true, line}}}, Rule{}, false},
	} {
		got, ok := x.c.Says()
		if ok != x.ok || ok && !reflect.DeepEqual(got, x.want) {
			t.Errorf("%s: %+v %t", name, got, ok)
		}
	}
}

// Whatever is drawn within what a camera knows comes back from its parameters as it was, to one part in 10,000.
func TestDrawingsComeBack(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 4))
	for range 3000 {
		x := Rule{Name: "a", Kind: []Kind{Crosses, Inside, Stays}[r.IntN(3)]}
		var points []scene.Point
		for range 3 + r.IntN(7) {
			points = append(points, scene.Point{X: r.Float64()*2 - 1, Y: r.Float64()*2 - 1})
		}
		if x.Kind == Crosses {
			x.Line, x.Direction = points, []Direction{Either, LeftToRight, RightToLeft}[r.IntN(3)]
		} else {
			x.Area = points
		}
		if x.Kind == Stays {
			x.For = time.Duration(1+r.IntN(60000)) * 100 * time.Millisecond
		}
		if x.Check() != nil {
			continue
		}
		c, cant := knows.Write(x)
		if got, ok := c.Says(); len(cant) > 0 || !ok || !Same(got, x) {
			t.Fatalf("%+v: %v, back %+v", x, cant, got)
		}
	}
}

func TestWhichKindsCanBeHad(t *testing.T) {
	for kind, want := range map[Kind]string{Crosses: "", Inside: "", Stays: "", ComesInto: `it tells of whatever is in, also of what appears there: say "is in"`,
		Crowd: "it knows LineDetector, FieldDetector, LoiteringDetector, FieldDetector alone"} {
		if got := knows.Lacks(kind); got != want {
			t.Errorf("%s: %q", kind, got)
		}
	}
	if got := (Supported{Types: knows.Types[3:]}).Lacks(Inside); got == "" {
		t.Error("a maker's own type is taken for the standard's")
	}
}

func TestWhatIsTheSame(t *testing.T) {
	a := Rule{Name: "a", Kind: Stays, Area: square, For: 8 * time.Second, Classes: []string{"Human", "Vehicle"}}
	for name, x := range map[string]struct {
		change func(*Rule)
		same   bool
	}{
		"itself":          {func(r *Rule) {}, true},
		"another name":    {func(r *Rule) { r.Name = "b" }, true},
		"another order":   {func(r *Rule) { r.Classes = []string{"Vehicle", "Human"} }, true},
		"rounded":         {func(r *Rule) { r.Area[0].X += 0.001 }, true},
		"moved":           {func(r *Rule) { r.Area[0].X += 0.003 }, false},
		"a point more":    {func(r *Rule) { r.Area = append(r.Area, scene.Point{}) }, false},
		"longer":          {func(r *Rule) { r.For += time.Second }, false},
		"the usual break": {func(r *Rule) { r.Break = time.Second }, true},
		"another break":   {func(r *Rule) { r.Break = 2 * time.Second }, false},
		"the usual share": {func(r *Rule) { r.Share = 0.5 }, true},
		"a class less":    {func(r *Rule) { r.Classes = r.Classes[:1] }, false},
		"hours":           {func(r *Rule) { r.Hours = Hours{60, 90} }, false},
		"an area out":     {func(r *Rule) { r.Without = []scene.Polygon{square} }, false},
	} {
		b := a
		b.Area, b.Classes = slices.Clone(a.Area), slices.Clone(a.Classes)
		x.change(&b)
		if Same(a, b) != x.same || Same(b, a) != x.same {
			t.Errorf("%s: %t", name, !x.same)
		}
	}
}

func TestRulesThatCantFire(t *testing.T) {
	ok := Rule{Name: "a", Kind: Stays, Area: square, For: time.Second}
	for says, change := range map[string]func(*Rule){
		"nothing that is watched for": func(r *Rule) { r.Kind = "Flies" },
		"say for how long":            func(r *Rule) { r.For = 0 },
		"a day at the most":           func(r *Rule) { r.For = 25 * time.Hour },
		"20 m at the most":            func(r *Rule) { r.Shortest = 21 },
		"least":                       func(r *Rule) { r.Shortest, r.Tallest = 2, 1 },
		"from 0 to 1":                 func(r *Rule) { r.MinScore = 1.1 },
		"less than the least":         func(r *Rule) { r.Lowest, r.Highest = 0.5, 0.4 },
		"1 to 1,000":                  func(r *Rule) { r.Kind, r.Count = Crowd, 1001 },
		"say how fast":                func(r *Rule) { r.Kind = Faster },
		"from 00:00 to 23:59":         func(r *Rule) { r.Hours.To = 1440 },
		"margin":                      func(r *Rule) { r.Margin = 2 },
		"enclose something":           func(r *Rule) { r.Area = nil },
		"two different points":        func(r *Rule) { r.Kind = Crosses },
		"an area three":               func(r *Rule) { r.Without = []scene.Polygon{line} },
	} {
		r := ok
		change(&r)
		if err := r.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
	}
	if err := ok.Check(); err != nil {
		t.Error(err)
	}
}

func TestHoursHold(t *testing.T) {
	for _, x := range []struct {
		h    Hours
		at   int
		hold bool
	}{{Hours{}, 0, true}, {Hours{60, 60}, 5, true}, {Hours{60, 120}, 59, false}, {Hours{60, 120}, 60, true}, {Hours{60, 120}, 119, true}, {Hours{60, 120}, 120, false},
		{Hours{1260, 330}, 1439, true}, {Hours{1260, 330}, 0, true}, {Hours{1260, 330}, 330, false}, {Hours{1260, 330}, 1259, false}} {
		if x.h.Hold(x.at) != x.hold {
			t.Errorf("%v at %d: %t", x.h, x.at, !x.hold)
		}
	}
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	// In summer an hour ahead of UTC: 20:30 UTC is 21:30 there.
	at := time.Duration(time.Date(2026, 7, 1, 20, 30, 0, 0, time.UTC).UnixNano())
	walk := []scene.Track{{ID: "1", Points: []scene.TrackPoint{{At: at, Box: scene.Box{Left: -0.3, Right: -0.2, Top: 0.2}, Score: 1}, {At: at + time.Second, Box: scene.Box{Left: 0.2, Right: 0.3, Top: 0.2}, Score: 1}}}}
	r := Rule{Kind: Crosses, Line: upward, Hours: Hours{1260, 330}}
	if n := len(Rehearse(r, walk, Span{Zone: lisbon})); n != 1 {
		t.Errorf("within its hours it fires %d times", n)
	}
	if n := len(Rehearse(r, walk, Span{Zone: time.UTC})); n != 0 {
		t.Errorf("outside of its hours it fires %d times", n)
	}
}

// The frame is told by rules of the standard's types alone.
func TestRulesTellTheFrame(t *testing.T) {
	shape := func(x, y float64) map[string]Shape {
		return map[string]Shape{"F": {Points: []scene.Point{{X: x, Y: y}}}}
	}
	for name, x := range map[string]struct {
		all  []Config
		want scene.Frame
		ok   bool
	}{
		"none":                   {nil, scene.Frame{}, false},
		"without a drawing":      {[]Config{{Type: "CellMotionDetector"}}, scene.Frame{}, false},
		"a maker's own alone":    {[]Config{{Type: "Own", Maker: true, Shapes: shape(500, 500)}}, scene.Frame{}, false},
		"the standard's":         {[]Config{{Shapes: shape(0.5, 0.5)}, {Maker: true, Shapes: shape(500, 500)}}, scene.Frame{}, true},
		"pixels":                 {[]Config{{Shapes: shape(0.5, 0.5)}, {Shapes: shape(500, 500)}}, scene.Frame{Wide: 1280, High: 720}, true},
		"neither one nor other":  {[]Config{{Shapes: shape(-0.5, 0.5)}, {Shapes: shape(500, 500)}}, scene.Frame{}, false},
		"beyond what is counted": {[]Config{{Shapes: shape(1e6, 0)}}, scene.Frame{}, false},
	} {
		if got, ok := FrameOf(x.all, 1280, 720); got != x.want || ok != x.ok {
			t.Errorf("%s: %+v %t", name, got, ok)
		}
	}
}

// However the analytics lie on the picture, a rule of the picture comes back from theirs, and theirs fires on a walk as they see it
// wherever the picture's fires on it: by the same side of the line, by the same cells.
func TestRulesComeBackHoweverThePictureLies(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 5))
	cells := Supported{Grid: scene.Grid{Columns: 22, Rows: 18}, Types: []Type{{Name: cellMotionDetector, Values: map[string]string{activeCells: "base64Binary", minCount: "integer"}}}}
	fired := 0
	for range 4000 {
		turned := scene.AllTurned[r.IntN(8)]
		x := Rule{Name: "a", Kind: []Kind{Crosses, Inside, Stays, Moves}[r.IntN(4)]}
		can := knows
		switch x.Kind {
		case Crosses:
			x.Line, x.Direction = []scene.Point{{X: r.Float64()*2 - 1, Y: -1}, {X: r.Float64()*2 - 1, Y: 1}}, []Direction{Either, LeftToRight, RightToLeft}[r.IntN(3)]
		case Moves:
			can = cells
			x.Cells = scene.Cells{Grid: scene.Grid{Columns: 22, Rows: 18}, On: make([]bool, 22*18)}
			for i := range x.Cells.On {
				x.Cells.On[i] = i == 7 || r.IntN(4) == 0
			}
			if turned.Quarters()%2 == 1 {
				can.Grid = scene.Grid{Columns: 22, Rows: 18}
			}
		default:
			x.Area, x.For = slices.Clone(square), time.Duration(1+r.IntN(600))*100*time.Millisecond
		}
		if x.Kind == Inside {
			x.For = 0
		}
		c, cant := can.Write(x)
		if len(cant) > 0 {
			t.Fatal(cant)
		}
		there := c.Turned(turned)
		if back, ok := there.FromTurned(turned).Says(); !ok || !Same(back, x) {
			t.Fatalf("%s: %+v comes back as %+v", turned.Words(), x, back)
		}
		theirs, ok := there.Says()
		if !ok {
			t.Fatalf("%s: %+v says nothing", turned.Words(), there)
		}
		if x.Kind != Crosses {
			continue
		}
		// A small thing, so that foot and middle are one.
		from, to := scene.Point{X: r.Float64()*1.8 - 0.9, Y: r.Float64()*1.8 - 0.9}, scene.Point{X: r.Float64()*1.8 - 0.9, Y: r.Float64()*1.8 - 0.9}
		walk := func(at func(scene.Point) scene.Point) []scene.Track {
			tr := scene.Track{ID: "1"}
			for i, p := range []scene.Point{at(from), at(to)} {
				tr.Points = append(tr.Points, scene.TrackPoint{At: time.Duration(i) * time.Second, Score: 1, Box: scene.Box{Left: p.X - 1e-7, Right: p.X + 1e-7, Bottom: p.Y - 1e-7, Top: p.Y + 1e-7}})
			}
			return []scene.Track{tr}
		}
		here := len(Rehearse(x, walk(func(p scene.Point) scene.Point { return p }), Span{}))
		if n := len(Rehearse(theirs, walk(turned.To), Span{})); n != here {
			t.Fatalf("%s: %+v fires %d times, theirs %d", turned.Words(), x, here, n)
		}
		fired += here
	}
	if fired < 200 {
		t.Errorf("of the walks %d crossed", fired)
	}
}

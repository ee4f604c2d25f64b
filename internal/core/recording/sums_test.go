package recording

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

// lived is a made-up stretch of seconds by day, in which causes go on: a bit for each of Causes.
type lived []uint8

func randomLived(r *rand.Rand, causes int) lived {
	line := make(lived, Enough+r.IntN(3000))
	for c := range causes {
		for i := range line {
			before := i > 0 && line[i-1]&(1<<c) != 0
			if r.IntN(60) == 0 || before && r.IntN(6) > 0 {
				line[i] |= 1 << c
			}
			if c > 0 && r.IntN(3) > 0 && line[i]&1 != 0 { // much of it coincides with the first
				line[i] |= 1 << c
			}
		}
	}
	return line
}

// counts are what a recorder counts of it: of each set of causes.
func (l lived) counts(hears []Cause) (out []Activity) {
	for set := 1; set < 1<<len(Causes()); set++ {
		var causes []Cause
		for i, c := range Causes() {
			if set&(1<<i) != 0 {
				causes = append(causes, c)
			}
		}
		if slices.ContainsFunc(causes, func(c Cause) bool { return !slices.Contains(hears, c) }) {
			continue
		}
		line := make([]bool, len(l))
		for i, on := range l {
			line[i] = on&uint8(set) != 0
		}
		for _, night := range []bool{false, true} {
			a := counted(line)
			a.Cause, a.With, a.Night = causes[0], causes[1:], night
			out = append(out, a)
		}
	}
	return out
}

// bytes are what is kept of it a day, second by second, at a rate for what is kept.
func (l lived) bytes(m Mode, hears []Cause, buffer int, rates Rate) float64 {
	lead := m.Lead
	if buffer > 0 {
		lead = min(lead, buffer)
	}
	total := 0.0
	for i := range l {
		k := m.Idle
		for j := max(0, i-m.Tail); j <= min(len(l)-1, i+lead); j++ {
			for b, c := range Causes() {
				if l[j]&(1<<b) != 0 && slices.Contains(m.Causes, c) && slices.Contains(hears, c) {
					k = m.Event
				}
			}
		}
		total += 125 * rates.of(k)
	}
	return total / float64(len(l)) * 86400
}

// What a mode makes is what a recorder keeps second by second, whatever reaches it, whatever coincides
// and however long a lead it can hold.
func TestLoadAgainstSeconds(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	rates := Rate{Record: 4000, View: 500, Keys: 900}
	for range 24 {
		line := randomLived(r, 1+r.IntN(3))
		hears := []Cause{}
		for _, c := range Causes() {
			if r.IntN(3) > 0 {
				hears = append(hears, c)
			}
		}
		m := Mode{Name: "always", Idle: Levels()[r.IntN(3)], Event: Record, Causes: Causes()[r.IntN(3):], Lead: r.IntN(20), Tail: r.IntN(30)}
		buffer := r.IntN(12)
		c := Channel{Plan: Always(m), Rates: both(rates), Activity: line.counts(hears), Hears: hears}
		got, want := SumOf(Storage{Buffer: buffer}, []Channel{c}, 0.5), line.bytes(m, hears, buffer, rates)
		if math.Abs(got.Bytes-want) > 0.04*125*4000*86400 {
			t.Fatalf("%s, of which %v reach it, with a buffer of %d s: %.2f GB, and second by second %.2f", m, hears, buffer, got.Bytes/1e9, want/1e9)
		}
		if got.Assumed || got.Unknown {
			t.Fatalf("all was counted, and the sum is %+v", got)
		}
	}
}

func TestLoadKnowsWhatItRestsOn(t *testing.T) {
	gb := func(kbps float64) float64 { return kbps * 125 * 86400 }
	always := Always(Mode{Name: "always", Idle: Record, Event: Record})
	event := func(m ...Cause) Plan {
		return Always(Mode{Name: "always", Idle: Nothing, Event: Record, Causes: m, Lead: 5, Tail: 5})
	}
	quiet := Activity{Cause: Motion, Seconds: 7200}
	busy := Activity{Cause: Motion, Seconds: 7200, Active: 720}
	for name, x := range map[string]struct {
		c                Channel
		bytes            float64
		assumed, unknown bool
	}{
		"by day and by night":                {Channel{Plan: always, Rates: Rates{Day: Rate{Record: 4000}, Night: Rate{Record: 1000}}}, gb((14*4000 + 10*1000) / 24.0), false, false},
		"the night isn't known":              {Channel{Plan: always, Rates: Rates{Day: Rate{Record: 4000}}}, gb(4000 * 14 / 24.0), false, true},
		"the day isn't known":                {Channel{Plan: always, Rates: Rates{Night: Rate{Record: 4000}}}, gb(4000 * 10 / 24.0), false, true},
		"unlicensed":                         {Channel{Plan: always, Rates: both(Rate{Record: 4000}), Unlicensed: true}, 0, false, false},
		"no plan told":                       {Channel{NoPlan: true, Rates: both(Rate{Record: 4000})}, 0, false, true},
		"no hours":                           {Channel{Rates: both(Rate{Record: 4000})}, 0, false, false},
		"silent":                             {Channel{Plan: always, Rates: both(Rate{Record: 4000}), Silent: true}, 0, false, false},
		"waits for what doesn't reach it":    {Channel{Plan: event(Motion), Rates: both(Rate{Record: 4000}), Hears: []Cause{}, Activity: []Activity{busy}}, 0, false, false},
		"nothing ever happened, gaps untold": {Channel{Plan: event(Motion), Rates: both(Rate{Record: 4000}), Activity: []Activity{quiet, asNight(quiet)}}, 0, false, false},
		// A tenth of the time, and of one gap 10 s.
		"gaps untold":         {Channel{Plan: event(Motion), Rates: both(Rate{Record: 4000}), Activity: []Activity{busy, asNight(busy)}}, gb(4000 * (720 + 10) / 7200.0), true, false},
		"never listened to":   {Channel{Plan: event(Motion), Rates: both(Rate{Record: 4000})}, gb(4000 * 0.5), true, false},
		"listened to by day":  {Channel{Plan: event(Motion), Rates: both(Rate{Record: 4000}), Activity: []Activity{quiet}}, 0, true, false},
		"not for long enough": {Channel{Plan: event(Motion), Rates: both(Rate{Record: 4000}), Activity: []Activity{{Cause: Motion, Seconds: Enough - 1}}}, gb(4000 * 0.5), true, false},
		"just long enough":    {Channel{Plan: event(Motion), Rates: both(Rate{Record: 4000}), Activity: []Activity{{Cause: Motion, Seconds: Enough}, {Cause: Motion, Night: true, Seconds: Enough}}}, 0, false, false},
		"something all the time, the rest not known": {Channel{Plan: Always(Mode{Name: "a", Idle: View, Event: Record, Causes: []Cause{Motion}}), Rates: both(Rate{Record: 4000}),
			Activity: []Activity{{Cause: Motion, Seconds: 7200, Active: 7200}, {Cause: Motion, Night: true, Seconds: 7200, Active: 7200}}}, gb(4000), false, false},
	} {
		got := x.c.Load(0.5)
		if math.Abs(got.Bytes-x.bytes) > 1 || got.Assumed != x.assumed || got.Unknown != x.unknown {
			t.Errorf("%s: %.3f GB (assumed %t, unknown %t), want %.3f (%t, %t)", name, got.Bytes/1e9, got.Assumed, got.Unknown, x.bytes/1e9, x.assumed, x.unknown)
		}
	}
}

func asNight(a Activity) Activity {
	a.Night = true
	return a
}

// Days that were compared are the days that were reckoned with: a plan that keeps on Sundays alone, over
// days with no, one and two of them.
func TestForecastIsForTheDaysThatWereKept(t *testing.T) {
	p := Plan{Modes: []Mode{{Name: "no", Idle: Nothing, Event: Nothing}, {Name: "yes", Idle: Record, Event: Record}}}
	for h := range HalfHours {
		p.Week[6][h] = 1
	}
	all := []Channel{{Plan: p, KeptBy: p, Rates: both(Rate{Record: 8000})}}
	for sundays := range 3 {
		s := Storage{Usable: 1e12, KeptDays: 8, KeptWeek: [WeekDays]int{8 - sundays, 0, 0, 0, 0, 0, sundays}}
		if got, want := Forecast(s, all, 0).Bytes, 8e6/8*86400*float64(sundays)/8; math.Abs(got-want) > 1 {
			t.Errorf("%d Sundays of 8 days: %f, want %f", sundays, got, want)
		}
	}
}

// What was kept over whole days is what will be kept, as long as nothing else is asked for.
func TestWhatWasKeptIsTheBestEvidence(t *testing.T) {
	always := Always(Mode{Name: "always", Idle: Record, Event: Record})
	view := Always(Mode{Name: "view", Idle: View, Event: View})
	ch := Channel{Plan: always, KeptBy: always, Rates: both(Rate{Record: 8000, View: 800}), Kept: 43.2e9} // half of what the rate makes
	s := Storage{Usable: 4.32e12, KeptDays: 10, Kept: 43.2e9}
	if got := SumOf(s, []Channel{ch}, 0); math.Abs(got.Days-100) > 0.01 || got.Lived != 10 || got.Unknown || got.Assumed {
		t.Errorf("%+v", got)
	}
	other := ch
	other.Plan = view
	if got := SumOf(s, []Channel{other}, 0); math.Abs(got.Days-1000) > 0.1 || got.Lived != 0 {
		t.Errorf("by another plan: %+v", got)
	}
	blind := ch
	blind.Rates = Rates{}
	if got := SumOf(s, []Channel{blind}, 0); math.Abs(got.Days-100) > 0.01 || got.Unknown || got.Lived != 10 {
		t.Errorf("without rates: %+v", got)
	}
	blind.Plan = view
	if got := SumOf(s, []Channel{blind}, 0); !got.Unknown || got.Lived != 0 {
		t.Errorf("without rates, by another plan: %+v", got)
	}
	if s.KeptDays = 0; math.Abs(SumOf(s, []Channel{ch}, 0).Days-50) > 0.01 {
		t.Error("nothing was kept yet, and is evidence")
	}
}

func TestPlansThatKeepTheSame(t *testing.T) {
	p := byNight()
	q := Plan{Modes: []Mode{p.Modes[1], p.Modes[0]}}
	for d := range WeekDays {
		for h := range HalfHours {
			q.Week[d][h] = 1 - p.Week[d][h]
		}
	}
	if !p.Equal(q) || p.String() != q.String() {
		t.Errorf("hours in another order make another plan:\n%s\n%s", p, q)
	}
	named := byNight()
	named.Modes = slices.Clone(named.Modes)
	named.Modes[0].Name = "office hours"
	if !p.Equal(named) {
		t.Error("a name keeps something")
	}
	if named.Modes[0].Tail++; p.Equal(named) {
		t.Error("a longer tail keeps the same")
	}
	causes := byNight()
	causes.Modes = slices.Clone(causes.Modes)
	causes.Modes[1].Causes = []Cause{Motion, Camera}
	if !p.Equal(causes) {
		t.Error("causes in another order make another plan")
	}
	idle := Always(Mode{Name: "a", Idle: View, Event: View, Lead: 3})
	if !idle.Equal(Always(Mode{Name: "b", Idle: View, Event: View})) {
		t.Error("a lead before nothing makes another plan")
	}
}

func TestTermOfBounds(t *testing.T) {
	for name, x := range map[string]struct {
		term    Term
		sum     Sum
		deletes int
		want    string
	}{
		"nothing asked":                      {Term{}, Sum{Unknown: true}, 0, Within},
		"a bound that would do":              {Term{Least: 30}, Sum{Days: 40, Unknown: true}, 0, notKnown},
		"a bound just short":                 {Term{Least: 30}, Sum{Days: 29.99, Unknown: true}, 0, tooFew},
		"a bound below the most":             {Term{Most: 30}, Sum{Days: 30, Unknown: true}, 0, Within},
		"a bound above the most":             {Term{Most: 30}, Sum{Days: 31, Unknown: true}, 0, notKnown},
		"a bound, deleted in time":           {Term{Most: 30}, Sum{Days: 31, Unknown: true}, 30, Within},
		"nothing known":                      {Term{Least: 30, Most: 45}, Sum{Days: math.Inf(1), Unknown: true}, 0, notKnown},
		"room unknown, deleted in time":      {Term{Most: 30}, Sum{}, 30, Within},
		"room unknown, deleted too late":     {Term{Most: 30}, Sum{}, 31, notKnown},
		"room unknown, deleted too early":    {Term{Least: 30}, Sum{}, 29, tooFew},
		"room unknown":                       {Term{Least: 30}, Sum{}, 0, notKnown},
		"deleted later than allowed":         {Term{Least: 10, Most: 30}, Sum{Days: 90}, 60, TooMany},
		"room for more, deleted at the most": {Term{Least: 30, Most: 30}, Sum{Days: 90}, 30, Within},
	} {
		if got := x.term.Of(x.sum, Storage{Deletes: x.deletes}); got != x.want {
			t.Errorf("%s: %s, want %s", name, got, x.want)
		}
	}
	fi, bad := JudgeTerm("Quay recorder", time.Time{}, Storage{Deletes: 60}, Sum{Days: 90}, Term{Most: 30})
	if !bad || !strings.Contains(fi.Sentence, "keeps for 60 days") {
		t.Errorf("%+v", fi)
	}
}

// No step has a channel wait for what can't reach it.
func TestStepsKeepSomething(t *testing.T) {
	p := Always(Mode{Name: "always", Idle: Record, Event: Record, Causes: []Cause{Motion}, Lead: 5, Tail: 10})
	for _, hears := range [][]Cause{{}, {Contact}, {Motion}} {
		all := []Channel{{Name: "A", Plan: p, KeptBy: p, Rates: both(Rate{4000, 400, 800}), Hears: hears}}
		offered := false
		for _, x := range Steps(Storage{Usable: 4e11}, all, 0.1, 300) {
			offered = offered || x.Mode != "" && x.Plan.Modes[0].Idle == Nothing
		}
		if want := slices.Contains(hears, Motion); offered != want {
			t.Errorf("heard %v: nothing when nothing happens is offered: %t", hears, offered)
		}
	}
}

// Channels of one recorder may keep for different times: the shortest is too short, the longest too long.
func TestAgesOfChannels(t *testing.T) {
	for name, x := range map[string]struct {
		hours []float64
		want  Storage
		of    string // in a term of 10 to 30 days, with room for 90
		text  string
	}{
		"none":                       {nil, Storage{}, TooMany, "until it is full"},
		"all without a limit":        {[]float64{0, 0}, Storage{}, TooMany, "until it is full"},
		"all alike":                  {[]float64{480, 480}, Storage{Deletes: 20}, Within, "deleted after 20 days"},
		"half a day":                 {[]float64{12, 12}, Storage{Deletes: 1, Hours: 12}, tooFew, "deleted after 12 h"},
		"one without a limit":        {[]float64{0, 480}, Storage{Shortest: 20}, TooMany, "until it is full, some after 20 days"},
		"one without a limit, short": {[]float64{120, 0}, Storage{Shortest: 5}, tooFew, "until it is full, some after 5 days"},
		"longer and shorter":         {[]float64{240, 960}, Storage{Deletes: 40, Shortest: 10}, TooMany, "deleted after 40 days, some after 10 days"},
		"a day and a half, shortest": {[]float64{36, 480}, Storage{Deletes: 20, Shortest: 1.5}, tooFew, "deleted after 20 days, some after 1 day"},
	} {
		var s Storage
		if s.Ages(x.hours); s != x.want {
			t.Errorf("%s: %+v, want %+v", name, s, x.want)
		}
		if got := (Term{Least: 10, Most: 30}).Of(Sum{Days: 90}, s); got != x.of {
			t.Errorf("%s: %s, want %s", name, got, x.of)
		}
		if got := s.AgeText(); got != x.text {
			t.Errorf("%s: %q, want %q", name, got, x.text)
		}
	}
	own := 12.0
	f := facts(Always(Mode{Name: "a", Idle: Record, Event: Record}))
	f.Slot.Age = &own
	got := Judge(time.Time{}, f, Wishes{Name: "x", Plan: *f.Slot.Plan, Term: Term{Least: 10}})
	if len(got) != 1 || got[0].Code != "recording.few-days" {
		t.Errorf("its own age doesn't count: %+v", got)
	}
}

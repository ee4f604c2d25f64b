package recording

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

func byNight() Plan {
	p := Plan{Modes: []Mode{
		{Name: "by day", Idle: Nothing, Event: View, Causes: []Cause{Motion}, Lead: 5, Tail: 10},
		{Name: "by night", Idle: View, Event: Record, Causes: []Cause{Camera, Motion}, Lead: 5, Tail: 20}}}
	for d := range WeekDays {
		for h := range HalfHours {
			if h < 11 || h >= 42 || d == 6 {
				p.Week[d][h] = 1
			}
		}
	}
	return p
}

// random plans that are valid, of up to four modes.
func random(r *rand.Rand) Plan {
	var p Plan
	for i := range 1 + r.IntN(MostModes) {
		m := Mode{Name: []string{"by day", "by night", "ferry in", "closed"}[i], Idle: Levels()[r.IntN(4)]}
		m.Event = m.Idle
		if r.IntN(3) > 0 {
			m.Causes = Causes()[r.IntN(4):]
			m.Event = Record
			m.Lead, m.Tail = r.IntN(mostLead+1), r.IntN(mostTail+1)
		}
		p.Modes = append(p.Modes, m)
	}
	for d := range WeekDays {
		for h := range HalfHours {
			p.Week[d][h] = uint8(r.IntN(len(p.Modes)))
			if h > 0 && r.IntN(4) > 0 {
				p.Week[d][h] = p.Week[d][h-1]
			}
		}
	}
	return p
}

func TestPlanText(t *testing.T) {
	const want = "by day: nothing, and the view stream when motion comes, from 5 s before to 10 s after; " +
		"by night: the view stream, and the record stream when motion or a camera event comes, from 5 s before to 20 s after; " +
		"Mon to Sat by night 00:00-05:30, by day 05:30-21:00, by night 21:00-24:00; Sun by night"
	if got := byNight().String(); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if got := Always(Mode{Name: "always", Idle: Record, Event: Record}).String(); got != "always: the record stream at all times" {
		t.Error(got)
	}
	hidden := byNight()
	hidden.Modes = append(hidden.Modes, Mode{Name: "never", Idle: Record, Event: Record})
	if !hidden.Equal(byNight()) {
		t.Error("hours that are painted nowhere make another plan")
	}
}

// What a day reads as is what it is typed as, and two plans with one text keep the same.
func TestDaysRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		p := random(r)
		if err := p.Check(); err != nil {
			t.Fatalf("%v: %+v", err, p)
		}
		var names []string
		for _, m := range p.Modes {
			names = append(names, m.Name)
		}
		q := p
		for d := range WeekDays {
			day, err := parseDay(p.Day(d), names)
			if err != nil || day != p.Week[d] {
				t.Fatalf("%q: %v", p.Day(d), err)
			}
			q.Week[d] = day
		}
		if !q.Equal(p) {
			t.Fatal("a plan isn't itself")
		}
		back, err := Decode(encode(p))
		if err != nil || !back.Equal(p) {
			t.Fatalf("%v %+v", err, back)
		}
		d, h := r.IntN(WeekDays), r.IntN(HalfHours)
		q.Week[d][h] = (q.Week[d][h] + 1) % uint8(len(q.Modes))
		if !q.At(d, h).same(p.At(d, h)) && q.Equal(p) {
			t.Fatal("half an hour more makes no difference")
		}
	}
}

func TestParseDay(t *testing.T) {
	names := []string{"by day", "by night"}
	for _, x := range []struct {
		text string
		says string // empty: it is read
	}{
		{"by day", ""}, {"2", ""}, {"BY NIGHT 0-6, 1 6:00-21:00,by night 21:00–24:00", ""},
		{"by day 06:00-21:00", "Nothing is said of 00:00"}, {"by day 0-12, by night 11:30-24", "11:30 is told twice"},
		{"by day 06:15-21:00", "isn't hours of a day"}, {"", "isn't hours of a day"}, {"noon", "isn't hours of a day"},
		{"by day 12-6, by night 6-12", "isn't hours of a day"}, {"by dayx", "isn't hours of a day"}, {strings.Repeat("by day,", 400), "fewer words"},
	} {
		_, err := parseDay(x.text, names)
		if x.says == "" && err != nil || x.says != "" && (err == nil || !strings.Contains(err.Error(), x.says)) {
			t.Errorf("%q: %v, want %q", x.text, err, x.says)
		}
	}
}

func FuzzParseDay(f *testing.F) {
	f.Add("by day 0-12, 2 12:00–24:00")
	f.Fuzz(func(t *testing.T, text string) {
		p := byNight()
		day, err := parseDay(text, []string{"by day", "by night"})
		if err != nil {
			return
		}
		p.Week[2] = day
		if err := p.Check(); err != nil {
			t.Fatal(err)
		}
		if again, err := parseDay(p.Day(2), []string{"by day", "by night"}); err != nil || again != day {
			t.Fatalf("%q reads %q: %v", text, p.Day(2), err)
		}
	})
}

func TestCheckNamesWhatIsWrong(t *testing.T) {
	for says, change := range map[string]func(*Plan){
		"1 to 4 kinds":               func(p *Plan) { p.Modes = nil },
		"named by up to":             func(p *Plan) { p.Modes[0].Name = "by day; x" },
		"names two":                  func(p *Plan) { p.Modes[1].Name = "BY DAY" },
		"choose what is kept":        func(p *Plan) { p.Modes[0].Idle = "all" },
		"0 to 60 s before":           func(p *Plan) { p.Modes[0].Lead = 61 },
		"say what counts":            func(p *Plan) { p.Modes[0].Causes = nil },
		"it would keep less":         func(p *Plan) { p.Modes[0].Idle, p.Modes[0].Event = Record, View },
		"nothing would be kept":      func(p *Plan) { p.Modes[0].Idle, p.Modes[0].Event = Nothing, Nothing },
		"nothing that can happen":    func(p *Plan) { p.Modes[0].Causes = []Cause{"rain"} },
		"that isn't in the plan":     func(p *Plan) { p.Week[3][7] = 2 },
		"named by up to 24 letters,": func(p *Plan) { p.Modes[0].Name = "1 by day" },
	} {
		p := byNight()
		p.Modes = slices.Clone(p.Modes)
		change(&p)
		if err := p.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, want %q", err, says)
		}
	}
}

// counted counts happenings of a made-up line of seconds as a recorder does.
func counted(line []bool) Activity {
	a := Activity{Cause: Motion, Seconds: float64(len(line))}
	bounds := append(slices.Clone(gapBounds), 0)
	for _, b := range bounds {
		a.Gaps = append(a.Gaps, Gap{UpTo: b})
	}
	put := func(n int) {
		for i := range a.Gaps {
			if g := &a.Gaps[i]; n > 0 && (g.UpTo == 0 || float64(n) <= g.UpTo) {
				g.Count++
				g.Seconds += float64(n)
				return
			}
		}
	}
	gap := 0
	for _, on := range line {
		if on {
			put(gap)
			a.Active, gap = a.Active+1, 0
		} else {
			gap++
		}
	}
	put(gap)
	return a
}

// kept counts what a recorder would keep second by second.
func kept(line []bool, lead, tail int) float64 {
	on := 0
	for i := range line {
		for k := max(0, i-tail); k <= min(len(line)-1, i+lead); k++ {
			if line[k] {
				on++
				break
			}
		}
	}
	return float64(on) / float64(len(line))
}

// What counted gaps say is within two hundredths of what is kept second by second, for happenings
// that come evenly and for those that come by chance.
func TestDutyAgainstSeconds(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 16 {
		line := make([]bool, 40000)
		every, long, chance := 10+r.IntN(300), 1+r.IntN(20), r.IntN(2) == 0
		for i := r.IntN(50); i < len(line); {
			for k := i; k < min(len(line), i+long); k++ {
				line[k] = true
			}
			step := every
			if chance {
				step = int(r.ExpFloat64() * float64(every))
			}
			i += long + step + 1
		}
		lead, tail := r.IntN(20), r.IntN(60)
		a := counted(line)
		if got, want := a.Duty(float64(lead+tail)), kept(line, lead, tail); math.Abs(got-want) > 0.03 {
			t.Fatalf("every %d for %d, by chance %t, %d before and %d after: %.3f, and %.3f was kept", every, long, chance, lead, tail, got, want)
		}
		if last := a.Duty(0); math.Abs(last-a.Active/a.Seconds) > 1e-9 {
			t.Fatalf("without anything around it it is %f, and %f went on", last, a.Active/a.Seconds)
		}
		for w, before := 0.0, 0.0; w < 100; w += 7 {
			if d := a.Duty(w); d < before || d > 1 {
				t.Fatalf("more around it keeps less: %f after %f", d, before)
			} else {
				before = d
			}
		}
	}
	if (Activity{}).Duty(10) != 0 {
		t.Error("nothing was heard")
	}
}

func TestLoad(t *testing.T) {
	rates := Rates{Day: Rate{Record: 4000, View: 400, Keys: 1000}, Night: Rate{Record: 2000}}
	all := Channel{Plan: Always(Mode{Name: "always", Idle: Record, Event: Record}), Rates: rates}
	// 14 hours of day at 4,000 kbit/s, 10 of night at 2,000.
	if got, want := all.Load(0).Bytes, 125.0*3600*(14*4000+10*2000); math.Abs(got-want) > 1 {
		t.Errorf("%f, want %f", got, want)
	}
	ev := Channel{Plan: Always(Mode{Name: "always", Idle: View, Event: Record, Causes: []Cause{Motion}, Lead: 5, Tail: 15}), Rates: Rates{Day: Rate{Record: 4000, View: 400}, Night: Rate{Record: 4000, View: 400}}}
	l := ev.Load(0.25)
	if want := 125.0 * 86400 * (0.25*4000 + 0.75*400); math.Abs(l.Bytes-want) > 1 || !l.Assumed || math.Abs(l.Duty-0.25) > 1e-9 {
		t.Errorf("%+v, want %f", l, want)
	}
	heard := Activity{Cause: Motion, Seconds: 7200, Active: 720, Gaps: []Gap{{UpTo: 0, Count: 72, Seconds: 6480}}}
	dark := heard
	dark.Night = true
	ev.Activity = []Activity{heard, dark}
	l = ev.Load(0.9)
	if want := 0.1 + 0.9*20/90; math.Abs(l.Duty-want) > 1e-9 || l.Assumed {
		t.Errorf("duty %f, want %f", l.Duty, want)
	}
	// While something goes on, a tenth of the time, it sends 8,000 kbit/s, and 3,556 else.
	ev.Rates.BusyDay, ev.Rates.BusyNight = Rate{Record: 8000}, Rate{Record: 8000}
	rest, lead := (4000-0.1*8000)/0.9, l.Duty-0.1
	if got, want := ev.Load(0).Bytes, 125.0*86400*(0.1*8000+lead*rest+(1-l.Duty)*400); math.Abs(got-want) > 1 {
		t.Errorf("%f, want %f", got, want)
	}
	ev.Rates.Day.View = 0
	if l := ev.Load(0); !l.Unknown {
		t.Error("a rate that isn't known is taken for none")
	}
}

// More is never kept by a plan that keeps less, and a week's bytes are the sum of its cells.
func TestLoadIsMonotone(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 9))
	rates := Rates{Day: Rate{4000, 500, 900}, Night: Rate{2500, 300, 700}}
	for range 300 {
		p := random(r)
		c := Channel{Plan: p, Rates: rates}
		before := c.Load(0.2)
		more := Channel{Plan: Plan{Modes: slices.Clone(p.Modes), Week: p.Week}, Rates: rates}
		for i := range more.Plan.Modes {
			more.Plan.Modes[i].Idle = Record
			more.Plan.Modes[i].Event = Record
		}
		if after := more.Load(0.2); after.Bytes < before.Bytes-1e-6 {
			t.Fatalf("%f, and with all %f", before.Bytes, after.Bytes)
		}
		longer := Channel{Plan: Plan{Modes: slices.Clone(p.Modes), Week: p.Week}, Rates: rates, Activity: []Activity{counted(randomLine(r))}}
		short := longer.Load(0.2).Bytes
		for i := range longer.Plan.Modes {
			longer.Plan.Modes[i].Tail += 30
		}
		if longer.Load(0.2).Bytes < short-1e-6 {
			t.Fatal("a longer tail keeps less")
		}
	}
}

func both(r Rate) Rates { return Rates{Day: r, Night: r} }

func randomLine(r *rand.Rand) []bool {
	line := make([]bool, Enough+r.IntN(4000))
	for i := range line {
		line[i] = r.IntN(20) == 0 || i > 0 && line[i-1] && r.IntN(3) > 0
	}
	return line
}

func TestTerm(t *testing.T) {
	term := Term{Least: 30, Most: 45}
	for _, x := range []struct {
		days    float64
		deletes int
		want    string
	}{{29.99, 0, tooFew}, {0, 45, notKnown}, {0, 20, tooFew}, {30, 0, Within}, {45, 0, Within}, {45.5, 0, TooMany}, {90, 45, Within}, {90, 20, tooFew}, {0, 0, notKnown}, {math.Inf(1), 0, TooMany}} {
		if got := term.Says(x.days, x.deletes); got != x.want {
			t.Errorf("%v days, deleted after %d: %s, want %s", x.days, x.deletes, got, x.want)
		}
	}
	if (Term{}).Says(1, 0) != Within {
		t.Error("a site that asks for nothing is short of something")
	}
	if s := SumOf(Storage{Usable: 6e12, Other: 1e11}, nil, 0); s.Days != 60 {
		t.Errorf("%+v", s)
	}
}

func facts(p Plan, hears ...Cause) Facts {
	return Facts{Recorder: "Quay recorder", Channel: 3, At: moment.Now(), Way: "RTSP", Slot: &Slot{Plan: &p, Hears: hears}, Storage: Storage{Usable: 4e12, Buffer: 10}, Sum: Sum{Bytes: 1e11, Days: 40}}
}

func TestJudge(t *testing.T) {
	good := Wishes{Name: "Quay by night", Plan: byNight(), Term: Term{Least: 30, Most: 45}}
	better := Always(Mode{Name: "always", Idle: View, Event: Record, Causes: []Cause{Motion}})
	same := Always(Mode{Name: "always", Idle: Record, Event: Record, Causes: []Cause{Motion}})
	for name, x := range map[string]struct {
		f    Facts
		w    Wishes
		code string // empty: nothing is wrong
	}{
		"well":        {facts(byNight(), Motion, Camera), good, ""},
		"never":       {facts(byNight()), good, "recording.never"},
		"never more":  {facts(better), Wishes{Name: "x", Plan: better}, "recording.never-more"},
		"no better":   {facts(same), Wishes{Name: "x", Plan: same}, "recording.part-deaf"}, // the same is kept all the time
		"part":        {facts(byNight(), Motion), good, "recording.part-deaf"},
		"undecided":   {facts(byNight(), Motion, Camera), Wishes{}, "recording.undecided"},
		"other":       {facts(Always(Mode{Name: "always", Idle: Record, Event: Record}), Motion, Camera), good, "recording.differs"},
		"would never": {facts(Always(Mode{Name: "always", Idle: Record, Event: Record})), good, "recording.would-never"},
		"too few":     {func() Facts { f := facts(byNight(), Motion, Camera); f.Sum.Days = 19.6; return f }(), good, "recording.few-days"},
		"too many":    {func() Facts { f := facts(byNight(), Motion, Camera); f.Sum.Days = 90; return f }(), good, "recording.many-days"},
		"deaf":        {func() Facts { f := facts(byNight(), Motion, Camera); f.ByPlan, f.Pegged = true, 2; return f }(), good, "recording.deaf"},
		"lead":        {func() Facts { f := facts(byNight(), Motion, Camera); f.Storage.Buffer = 4; return f }(), good, "recording.lead"},
		"no licence":  {func() Facts { f := facts(byNight(), Motion, Camera); f.Slot.Unlicensed = true; return f }(), good, "recording.licence"},
		"lost":        {func() Facts { f := facts(byNight(), Motion, Camera); f.State = "lost"; return f }(), good, "recording.no-picture"},
		"paused":      {func() Facts { f := facts(byNight(), Motion, Camera); f.State = "paused"; return f }(), good, "recording.no-picture"},
		"refused":     {func() Facts { f := facts(byNight(), Motion, Camera); f.State = "refused"; return f }(), good, "recording.no-picture"},
		"connecting":  {func() Facts { f := facts(byNight(), Motion, Camera); f.State = "connecting"; return f }(), good, "recording.no-picture"},
		"receiving":   {func() Facts { f := facts(byNight(), Motion, Camera); f.State = "receiving"; return f }(), good, ""},
		"silent recorder": {func() Facts {
			f := facts(byNight(), Motion, Camera)
			f.Trouble = "Quay recorder doesn't answer."
			return f
		}(), good, "recording.recorder"},
		"a bound":                    {func() Facts { f := facts(byNight(), Motion, Camera); f.Sum.Unknown = true; return f }(), good, "recording.days-unknown"},
		"a bound that is too little": {func() Facts { f := facts(byNight(), Motion, Camera); f.Sum.Unknown, f.Sum.Days = true, 12; return f }(), good, "recording.few-days"},
		"no rate known": {func() Facts {
			f := facts(byNight(), Motion, Camera)
			f.Sum = Sum{Unknown: true, Days: math.Inf(1)}
			return f
		}(), good, "recording.days-unknown"},
		"room unknown":                   {func() Facts { f := facts(byNight(), Motion, Camera); f.Sum.Days = 0; return f }(), good, "recording.days-unknown"},
		"room unknown and nothing asked": {func() Facts { f := facts(byNight(), Motion, Camera); f.Sum.Days = 0; return f }(), Wishes{Name: "x", Plan: byNight()}, ""},
		"keeps nothing":                  {facts(Always(Mode{Name: "never", Idle: Nothing, Event: Nothing})), Wishes{Name: "x", Plan: Always(Mode{Name: "never", Idle: Nothing, Event: Nothing})}, "recording.nothing"},
		"not placed":                     {Facts{Recorder: "Quay recorder"}, good, ""},
		"doesn't tell":                   {Facts{Slot: &Slot{}}, good, ""},
		"its own plan":                   {Facts{Slot: &Slot{}, Recorder: "Harbour desk", Own: "over ONVIF recording control"}, good, "recording.own-plan"},
	} {
		got := Judge(moment.Now(), x.f, x.w)
		if x.code == "" && len(got) != 0 || x.code != "" && !slices.ContainsFunc(got, func(f finding.Finding) bool { return f.Code == x.code }) {
			t.Errorf("%s: %+v, want %q", name, got, x.code)
		}
		for _, f := range got {
			if f.Sentence == "" || f.WayOut == "" || f.Words == "" || len(strings.Fields(f.Words)) > 4 {
				t.Errorf("%s: %+v", name, f)
			}
		}
	}
}

// What would never record isn't proposed; what is written is what was wanted, and then nothing is
// proposed any more.
func TestPropose(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for range 300 {
		has, wants := random(r), random(r)
		f := facts(has, Causes()[:r.IntN(4)]...)
		got := Propose(moment.Now(), f, Wishes{Name: "x", Plan: wants})
		never := slices.ContainsFunc(f.Problems(wants, true), func(p Problem) bool { return p.Never })
		if want := !never && !has.Equal(wants); (len(got) == 1) != want {
			t.Fatalf("%d proposed: never %t\n%s\n%s", len(got), never, has, wants)
		}
		if why, idle := f.Hinders(Wishes{Name: "x", Plan: wants}); idle != has.Equal(wants) || (len(got) == 1) != (len(why) == 0 && !idle) {
			t.Fatalf("%d proposed, idle %t, and can't for %q\n%s\n%s", len(got), idle, why, has, wants)
		}
		if len(got) == 0 {
			continue
		}
		to, err := Decode(got[0].Args["plan"])
		if err != nil || to.String() != got[0].To {
			t.Fatalf("%v: %s isn't %s", err, to, got[0].To)
		}
		back, ok := got[0].Inverse()
		if old, err := Decode(back.Args["plan"]); !ok || err != nil || old.String() != got[0].From {
			t.Fatalf("undo: %v %s", err, old)
		}
		f.Slot.Plan = &to
		if again := Propose(moment.Now(), f, Wishes{Name: "x", Plan: wants}); len(again) != 0 {
			t.Fatalf("a second run proposes %+v", again)
		}
	}
	if got := Propose(moment.Now(), Facts{Slot: &Slot{}, Own: "by hand"}, Wishes{Name: "x", Plan: byNight()}); len(got) != 0 {
		t.Errorf("a plan is written where none can be: %+v", got)
	}
	if c := Age("Quay recorder", 4, Storage{Oldest: 50}, 45); c.From != "until it is full" || c.To != "deleted after 45 days" || !c.Removes {
		t.Errorf("%+v", c)
	}
}

// Each step's days are what the sums say of the channels that it would make, no step loses days,
// and those that get there come first, the cheapest first.
func TestSteps(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 14))
	found := 0
	for range 200 {
		var all []Channel
		plans := []Plan{random(r), random(r)}
		for i := range 1 + r.IntN(6) {
			all = append(all, Channel{Name: string(rune('A' + i)), Plan: plans[r.IntN(2)], Rates: both(Rate{Record: 1000 + 5000*r.Float64(), View: 300, Keys: 700}), Activity: []Activity{counted(randomLine(r))}})
		}
		s := Storage{Usable: 1e12}
		now := SumOf(s, all, 0.1)
		steps := Steps(s, all, 0.1, int(now.Days)+3)
		short := false
		for i, x := range steps {
			found++
			tried := slices.Clone(all)
			for _, at := range x.Places {
				if x.Mode != "" {
					tried[at].Plan = x.Plan
				} else {
					for _, half := range []*Rate{&tried[at].Rates.Day, &tried[at].Rates.Night} {
						half.Record, half.Keys = half.Record*rateStep, half.Keys*rateStep
					}
				}
			}
			if got := SumOf(s, tried, 0.1).Days; math.Abs(got-x.Days) > 1e-9*x.Days || x.Gain < 0.05 || math.Abs(x.Gain-(got-now.Days)) > 1e-9*got {
				t.Fatalf("%s: %f days, and the sum says %f", x.Title, x.Days, got)
			}
			if there := int(x.Days+1e-9) >= int(now.Days)+3; there && short {
				t.Fatalf("step %d gets there and comes after one that doesn't", i)
			} else {
				short = !there
			}
		}
		if got := Steps(s, all, 0.1, int(now.Days)); got != nil {
			t.Fatalf("%f days are enough, and %+v is asked", now.Days, got)
		}
	}
	if found < 200 {
		t.Errorf("only %d steps were looked at", found)
	}
}

func TestWords(t *testing.T) {
	for in, want := range map[float64]string{0: "0 B", 999: "999 B", 1500: "1.5 kB", 315e9: "315 GB", 6e12: "6.0 TB", 121.4e9: "121 GB"} {
		if got := Size(in); got != want {
			t.Errorf("%f: %q, want %q", in, got, want)
		}
	}
	if DaysText(math.Inf(1)) != "any number of days" || DaysText(19.99) != "19 days" || DaysText(1) != "1 day" || daysWord(19.99, 30) != "19 of 30 d" {
		t.Error("days in words")
	}
	if got := differences(Always(Mode{Name: "always", Idle: Record, Event: Record}), byNight()); !strings.Contains(got, "no hours by day") || !strings.Contains(got, "other hours on Mon") {
		t.Error(got)
	}
}

// A plan's short name is of what is painted, in the order of a week, each once.
func TestAPlansShortName(t *testing.T) {
	day, night, never := Mode{Name: "by day"}, Mode{Name: "by night"}, Mode{Name: "never painted"}
	week := func(paint func(d, h int) int) (w Week) {
		for d := range w {
			for h := range w[d] {
				w[d][h] = uint8(paint(d, h))
			}
		}
		return w
	}
	for want, p := range map[string]Plan{
		"by day":           Always(day),
		"by night, by day": {Modes: []Mode{day, never, night}, Week: week(func(_, h int) int { return 2 * (1 - min(1, h/10)) })},
		"by day, by night": {Modes: []Mode{day, never, night}, Week: week(func(d, _ int) int { return 2 * (d / 6) })},
		"":                 {Week: week(func(int, int) int { return 0 })},
	} {
		if got := p.Short(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// A recorder that listens by plan alone is deaf in the hours of modes that wait for no camera event; another never is.
func TestAPlanMayBeDeaf(t *testing.T) {
	mode := func(name string, causes ...Cause) Mode {
		return Mode{Name: name, Idle: Record, Event: Record, Causes: causes}
	}
	both := Always(mode("day", Motion))
	both.Modes = append(both.Modes, mode("night", Camera), mode("never")) // the last is painted in no hour
	both.Week[3][7] = 1
	for name, x := range map[string]struct {
		byPlan bool
		plan   Plan
		want   []string
	}{
		"listens anyway": {false, both, nil},
		"in part":        {true, both, []string{"day"}},
		"hears":          {true, Always(mode("all", Motion, Camera)), nil},
		"never":          {true, Always(mode("all")), []string{"all"}},
		"no plan":        {true, Plan{}, nil},
	} {
		if got := (Facts{ByPlan: x.byPlan}).Deaf(x.plan); !slices.Equal(got, x.want) {
			t.Errorf("%s: %v", name, got)
		}
	}
}

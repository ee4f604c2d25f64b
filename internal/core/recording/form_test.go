package recording

import (
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
)

// threeKinds is a plan of three kinds of hours, the name of one within another's.
func threeKinds() Plan {
	p := Plan{Modes: []Mode{
		{Name: "night", Idle: View, Event: Record, Causes: []Cause{Motion}, Lead: 5, Tail: 10},
		{Name: "by night", Idle: Nothing, Event: Nothing},
		{Name: "ferry in", Idle: View, Event: Record, Causes: []Cause{Camera, Contact}, Tail: 600, Lead: 60}}}
	for h := range HalfHours {
		p.Week[0][h], p.Week[1][h], p.Week[6][h] = uint8(h%3), 1, 2
	}
	return p
}

// A plan's form reads as the plan, of any plan that may be.
func TestAPlansFormReadsAsThePlan(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 5))
		p := Plan{}
		for i := range 1 + r.IntN(MostModes) {
			m := Mode{Name: []string{"by day", "day", "closed", "ferry 2"}[i], Idle: Levels()[r.IntN(3)], Lead: r.IntN(mostLead + 1), Tail: r.IntN(mostTail + 1)}
			if m.Event = m.Idle; r.IntN(2) == 0 {
				m.Event, m.Causes = Record, Causes()[r.IntN(4):]
			}
			p.Modes = append(p.Modes, m)
		}
		for d := range WeekDays {
			for h := range HalfHours {
				p.Week[d][h] = uint8(r.IntN(len(p.Modes)))
			}
		}
		q, days, err := ParseForm(p.Form())
		if err != nil || !p.Equal(q) || p.String() != q.String() || q.Week != p.Week || days[3] != p.Day(3) {
			t.Fatalf("seed %d: %v\n%s\n%s", seed, err, p, q)
		}
	}
}

// What a form changes of a plan, and what it can't.
func TestAPlansFormIsChanged(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct {
		change      func(url.Values)
		kinds, mon  string // names of the kinds, and which of them holds on Monday at 0:00, 0:30 and 1:00
		wrong, typd string // what is said of it, and what then stands for Monday
	}{
		"as it is":               {func(url.Values) {}, "night,by night,ferry in", "012", "", ""},
		"the first dropped":      {func(v url.Values) { v.Set("drop", "0") }, "by night,ferry in", "001", "", ""},
		"the second dropped":     {func(v url.Values) { v.Set("drop", "1") }, "night,ferry in", "001", "", ""},
		"the last dropped":       {func(v url.Values) { v.Set("drop", "2") }, "night,by night", "010", "", ""},
		"one dropped that isn't": {func(v url.Values) { v.Set("drop", "3") }, "night,by night,ferry in", "012", "", ""},
		"dropped by no number":   {func(v url.Values) { v.Set("drop", "x") }, "night,by night,ferry in", "012", "", ""},
		"one more":               {func(v url.Values) { v.Set("more", "1") }, "night,by night,ferry in,hours 4", "012", "", ""},
		"one more of the most": {func(v url.Values) {
			v.Set("m3_name", "d")
			v.Set("m3_idle", "view")
			v.Set("m3_lead", "0")
			v.Set("m3_tail", "0")
			v.Set("more", "1")
		}, "night,by night,ferry in,d", "012", "", ""},
		"one of the row missing": {func(v url.Values) {
			v.Del("m1_name")
			v.Set("d0", "2 0-24")
			v.Set("d1", "1 0-24")
			v.Set("d6", "1 0-24")
		}, "night,ferry in", "111", "", ""},
		"a beyond of the row":       {func(v url.Values) { v.Set("m4_name", "e") }, "night,by night,ferry in", "012", "", ""},
		"no figure for the lead":    {func(v url.Values) { v.Set("m0_lead", "5 s") }, "night,by night,ferry in", "012", "night: say in whole seconds", ""},
		"no figure in what goes":    {func(v url.Values) { v.Set("m0_lead", ""); v.Set("drop", "0") }, "by night,ferry in", "001", "", ""},
		"a lead beyond the most":    {func(v url.Values) { v.Set("m0_lead", "61") }, "night,by night,ferry in", "012", "0 to 60 s before", ""},
		"no cause":                  {func(v url.Values) { v.Del("m0_cause") }, "night,by night,ferry in", "012", "", ""},
		"hours that nobody named":   {func(v url.Values) { v.Set("d0", "closed 0-24") }, "night,by night,ferry in", "000", "Mon: ", "closed 0-24"},
		"two of one name":           {func(v url.Values) { v.Set("m1_name", "Night") }, "night,Night,ferry in", "000", "", "x"},
		"the only one dropped":      {func(v url.Values) { v.Del("m1_name"); v.Del("m2_name"); v.Set("drop", "0") }, "", "000", "A plan has 1 to 4", ""},
		"nothing at all":            {func(v url.Values) { clear(v) }, "", "000", "A plan has 1 to 4", ""},
		"what is kept isn't chosen": {func(v url.Values) { v.Set("m1_idle", "") }, "night,by night,ferry in", "012", "by night: choose what is kept", ""},
	} {
		v := threeKinds().Form()
		tc.change(v)
		p, days, err := ParseForm(v)
		names, mon := []string{}, ""
		for _, m := range p.Modes {
			names = append(names, m.Name)
		}
		for h := range 3 {
			mon += string('0' + rune(p.Week[0][h]))
		}
		said := ""
		if err != nil {
			said = err.Error()
		}
		if tc.typd == "x" { // which is said of it first doesn't matter
			if err == nil {
				t.Errorf("%s: taken", name)
			}
			continue
		}
		if strings.Join(names, ",") != tc.kinds || mon != tc.mon || !strings.Contains(said, tc.wrong) || (said == "") != (tc.wrong == "") ||
			tc.typd != "" && days[0] != tc.typd {
			t.Errorf("%s: %v, %s, %q, %q", name, names, mon, said, days[0])
		}
	}
}

// What is read without trouble reads the same again.
func FuzzParseForm(f *testing.F) {
	f.Add(threeKinds().Form().Encode())
	f.Add("m0_name=a&m0_idle=view&m0_lead=0&m0_tail=0&d0=&drop=0&more=1")
	f.Fuzz(func(t *testing.T, text string) {
		v, err := url.ParseQuery(text)
		if err != nil {
			return
		}
		p, _, err := ParseForm(v)
		if err != nil {
			return
		}
		if err := p.Check(); err != nil {
			t.Fatal(err)
		}
		if q, _, err := ParseForm(p.Form()); err != nil || !q.Equal(p) || q.String() != p.String() {
			t.Fatalf("%s reads %s: %v", p, q, err)
		}
	})
}

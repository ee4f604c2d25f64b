package clock

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

var began = time.Date(2026, 11, 24, 3, 0, 0, 0, time.UTC)

// readings of a clock that runs ppm fast, each wrong by at most within.
func readings(rnd *rand.Rand, ppm float64, n int, every, within time.Duration, start time.Duration) []Point {
	var out []Point
	for i := range n {
		at := began.Add(time.Duration(i) * every)
		noise := time.Duration((rnd.Float64()*2 - 1) * float64(within))
		out = append(out, Point{at, start + time.Duration(float64(at.Sub(began))*ppm/1e6) + noise, within})
	}
	return out
}

// The true drift lies within three standard errors, as often as it should.
func TestFitDriftFindsTheDrift(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 5))
	far := 0
	for range 500 {
		ppm := rnd.Float64()*400 - 200
		n := 4 + rnd.IntN(40)
		d, ok := FitDrift(readings(rnd, ppm, n, time.Minute, 25*time.Millisecond, time.Duration(rnd.IntN(4000))*time.Millisecond))
		if !ok || d.N != n || d.Error <= 0 {
			t.Fatalf("%v %+v", ok, d)
		}
		if math.Abs(d.PPM-ppm) > 3*d.Error {
			far++
		}
	}
	if far > 15 {
		t.Errorf("%d of 500 are further off than three standard errors", far)
	}
}

// A good crystal is hardly ever called a drifting one.
func TestAStandingClockDoesNotDrift(t *testing.T) {
	rnd := rand.New(rand.NewPCG(11, 13))
	wrong := 0
	for range 500 {
		if d, ok := FitDrift(readings(rnd, 0, 3+rnd.IntN(30), 20*time.Second, 30*time.Millisecond, 0)); ok && d.Sure() {
			wrong++
		}
	}
	if wrong > 15 {
		t.Errorf("%d of 500 clocks that stand were said to drift", wrong)
	}
}

func TestFitDriftBeginsAnewWhenTheClockWasSet(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 1))
	old := readings(rnd, 900, 20, time.Minute, 20*time.Millisecond, time.Hour)
	since := readings(rnd, 40, 30, time.Minute, 5*time.Millisecond, 0)
	for i := range since {
		since[i].At = since[i].At.Add(time.Hour)
	}
	d, ok := FitDrift(append(old, since...))
	if !ok || d.N != len(since) || math.Abs(d.PPM-40) > 3*d.Error || !d.From.Equal(since[0].At) {
		t.Errorf("%v %+v", ok, d)
	}
	for _, few := range [][]Point{nil, since[:2], {since[0], since[0], since[0]}} {
		if d, ok := FitDrift(few); ok {
			t.Errorf("%d readings give %+v", len(few), d)
		}
	}
}

// A clock that stands and was set by hand between two readings, by little or by much, minutes or days
// apart, doesn't drift for sure; what really drifts does, as soon as the readings tell it from that.
func TestASettingIsNoDrift(t *testing.T) {
	rnd := rand.New(rand.NewPCG(17, 19))
	for range 3000 {
		within := []time.Duration{15 * time.Millisecond, 50 * time.Millisecond, 500 * time.Millisecond}[rnd.IntN(3)]
		every := []time.Duration{5 * time.Second, time.Minute, time.Hour, 24 * time.Hour}[rnd.IntN(4)]
		n := 3 + rnd.IntN(12)
		points := readings(rnd, 0, n, every, within, 0)
		by := time.Duration((rnd.Float64()*2 - 1) * float64([]time.Duration{time.Second, 10 * time.Second, 10 * time.Minute}[rnd.IntN(3)]))
		for i := rnd.IntN(n + 1); i < n; i++ {
			points[i].Off += by
		}
		if d, ok := FitDrift(points); ok && d.Sure() {
			t.Fatalf("set by %s once in %d readings every %s, each ±%s: %s for sure", by, n, every, within, d)
		}
	}
	for range 300 {
		ppm := []float64{-9600, -40, 40, 2400}[rnd.IntN(4)]
		every := time.Duration(float64(100*time.Millisecond) / math.Abs(ppm) * 1e6) // 100 ms between two readings
		if d, ok := FitDrift(readings(rnd, ppm, 6, max(every, 2*time.Second), 15*time.Millisecond, time.Second)); !ok || !d.Sure() {
			t.Fatalf("%.0f ppm over six readings every %s isn't sure: %+v", ppm, every, d)
		}
	}
}

func TestWhenADriftLeavesTheBand(t *testing.T) {
	d := Drift{PPM: 40, Error: 1, N: 9, From: began}
	if at := d.Leaves(began, time.Second, UsableWithin); at.Sub(began).Round(time.Second) != 100000*time.Second {
		t.Errorf("+1 s at 40 ppm leaves after %v", at.Sub(began))
	}
	if at := (Drift{PPM: -40}).Leaves(began, time.Second, UsableWithin); at.Sub(began).Round(time.Second) != 150000*time.Second {
		t.Errorf("+1 s at −40 ppm leaves after %v", at.Sub(began))
	}
	for _, none := range []time.Time{(Drift{}).Leaves(began, 0, UsableWithin),
		d.Leaves(began, time.Minute, UsableWithin), (Drift{PPM: 0.001}).Leaves(began, 0, UsableWithin)} {
		if !none.IsZero() {
			t.Errorf("%v", none)
		}
	}
	if d.String() != "+40 ± 1 ppm" || (Drift{PPM: -7.4, Error: 0.2}).String() != "−7 ± 1 ppm" {
		t.Error(d.String())
	}
}

func TestJudgeDriftAndItsWayOut(t *testing.T) {
	r := Reading{At: began, Offset: Offset{}, Zone: "UTC0", Drift: &Drift{PPM: 40, Error: 4, N: 12, From: began.Add(-time.Hour)}}
	f := Facts{Camera: &r, Reference: Reference{Name: "Quay recorder", Address: "127.40.1.5"}}
	got := Judge(began, f, Wishes{})
	if len(got) != 1 || got[0].Code != "clock.drift" || got[0].Severity != finding.Needs || !strings.Contains(got[0].Sentence, "3.5 s a day") || !strings.Contains(got[0].Sentence, "2026-11-25 at") {
		t.Fatalf("%+v", got)
	}
	out := Propose(began, f, Wishes{})
	if len(out) != 1 || out[0].Kind != SetSource || out[0].To != "NTP 127.40.1.5" {
		t.Errorf("%+v", out)
	}
	f.Reference.Address = ""
	if out := Propose(began, f, Wishes{}); len(out) != 0 {
		t.Errorf("nothing to follow, and %+v", out)
	}
	if out := Propose(began, f, Wishes{Source: "127.40.2.9"}); len(out) != 1 || out[0].To != "NTP 127.40.2.9" {
		t.Errorf("a named server: %+v", out)
	}
	if out := Propose(began, f, Wishes{Source: DHCP}); len(out) != 1 || out[0].To != "NTP from DHCP" {
		t.Errorf("DHCP: %+v", out)
	}
	r.NTP = true
	if got := Judge(began, f, Wishes{}); len(got) != 0 {
		t.Errorf("a clock that follows drifts: %+v", got)
	}
	r.NTP, r.Drift = false, &Drift{PPM: 6, Error: 4}
	if got := Judge(began, f, Wishes{}); len(got) != 0 {
		t.Errorf("chance is called a drift: %+v", got)
	}
}

func TestDateOrders(t *testing.T) {
	for format, want := range map[string]string{"MM/dd/yyyy": "mdy", "dd/MM/yyyy": "dmy", "yyyy-MM-dd": "ymd",
		"dddd, MMMM dd, yyyy": "mdy", "M/d/yyyy": "mdy", "yyyy/MM/dd": "ymd", "dd MMMM, yyyy": "dmy", "": "", "yyyy": "", "dd/MM/yyyy/dd": "", "%d.%m.%Y": ""} {
		if got := Order(format); got != want {
			t.Errorf("%q is %q, want %q", format, got, want)
		}
	}
	for format, want := range map[string]int{"HH:mm:ss": 24, "hh:mm:ss tt": 12, "H:mm:ss": 24, "h:mm:ss tt": 12, "": 0, "mm:ss": 0} {
		if got := Hours(format); got != want {
			t.Errorf("%q counts %d hours, want %d", format, got, want)
		}
	}
	cam := Reading{At: began, Zone: "UTC0", Dates: "MM/dd/yyyy", Times: "hh:mm:ss tt"}
	f := Facts{Camera: &cam, Reference: Reference{Name: "Quay recorder", Dates: "dd/MM/yyyy", Times: "HH:mm:ss"}}
	got := Judge(began, f, Wishes{})
	if len(got) != 1 || got[0].Code != "clock.text" || !strings.Contains(got[0].Sentence,
		"month-day-year where Quay recorder writes day-month-year, and 12 hours where Quay recorder counts 24") {
		t.Fatalf("%+v", got)
	}
	out := Propose(began, f, Wishes{})
	if len(out) != 1 || out[0].Kind != SetText || out[0].To != "dd/MM/yyyy HH:mm:ss" || out[0].Args["old_dates"] != "MM/dd/yyyy" {
		t.Errorf("%+v", out)
	}
	f.Reference.Dates, f.Reference.Times = "", ""
	if got := Judge(began, f, Wishes{}); len(got) != 0 {
		t.Errorf("a recorder that doesn't say: %+v", got)
	}
}

func FuzzOrder(f *testing.F) {
	for _, s := range []string{"MM/dd/yyyy", "dddd", "", "ddddddddd MMMM yyyy", "\xff"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if o := Order(s); o != "" && len(o) != 3 {
			t.Errorf("%q", o)
		}
	})
}

func TestRecordersOwnClocks(t *testing.T) {
	at := func(d time.Duration) Reading { return Reading{At: began, Offset: Offset{d, d}} }
	for off, want := range map[time.Duration]finding.Severity{3 * time.Second: finding.Needs,
		-20 * time.Second: finding.Needs, 40 * time.Second: finding.Blocks} {
		got := JudgeRecorder(moment.Now(), at(off), "Quay recorder", "")
		if len(got) != 1 || got[0].Code != "clock.recorder" || got[0].Severity != want {
			t.Errorf("%v: %+v", off, got)
		}
		if out := ProposeRecorder(at(off)); len(out) != 1 || out[0].Kind != SetRecorder || out[0].Undo.Note == "" {
			t.Errorf("%v: %+v", off, out)
		}
	}
	if got, out := JudgeRecorder(moment.Now(), at(500*time.Millisecond), "r", ""), ProposeRecorder(at(500*time.Millisecond)); len(got)+len(out) != 0 {
		t.Errorf("%+v %+v", got, out)
	}
}

// Where the time was written with a zone, or came from NTP, no drift is fitted across.
func TestUnset(t *testing.T) {
	hand := Reading{Zone: "WET0"}
	for name, x := range map[string]struct {
		earlier, later Reading
		want           bool
	}{
		"by hand":           {hand, hand, true},
		"another zone":      {hand, Reading{Zone: "UTC0"}, false},
		"daylight switched": {hand, Reading{Zone: "WET0", Daylight: true}, false},
		"NTP before":        {Reading{Zone: "WET0", NTP: true}, hand, false},
		"NTP now":           {hand, Reading{Zone: "WET0", NTP: true}, false},
	} {
		if got := Unset(x.earlier, x.later); got != x.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

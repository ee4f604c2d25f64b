package clock

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
)

var now = at("2026-11-24T03:00:00Z")

// Whatever the round trip and the true offset, the bounds hold it, and each
// further poll only narrows them.
func TestBoundsAlwaysHoldTheTrueOffset(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 8))
	for range 2000 {
		truth := time.Duration(rnd.Int64N(int64(4*time.Hour))) - 2*time.Hour
		o := Offset{-24 * time.Hour, 24 * time.Hour}
		moment := now
		for range 6 {
			sent := moment
			middle := sent.Add(time.Duration(rnd.Int64N(int64(300 * time.Millisecond))))
			received := middle.Add(time.Duration(rnd.Int64N(int64(300 * time.Millisecond))))
			says := middle.Add(truth).Truncate(time.Second)
			next, ok := o.Meet(Bound(sent, received, says))
			if !ok {
				t.Fatalf("a steady clock seems stepped: %v and %v", o, Bound(sent, received, says))
			}
			if next.High-next.Low > o.High-o.Low {
				t.Fatalf("bounds grew")
			}
			o = next
			moment = received.Add(time.Duration(rnd.Int64N(int64(time.Second))))
		}
		if truth < o.Low || truth > o.High {
			t.Fatalf("true offset %v outside %v", truth, o)
		}
	}
}

// Polls every 45 ms see the second change within a second, and bound the clock to half
// of their distance and the round trip.
func TestPollsOverAnEdgeNarrowTheBounds(t *testing.T) {
	const trip, pace = 4 * time.Millisecond, 45 * time.Millisecond
	for phase := time.Duration(0); phase < time.Second; phase += 7 * time.Millisecond {
		truth, moment := 3600*time.Second+phase, now
		o := Offset{-24 * time.Hour, 24 * time.Hour}
		polls := 0
		for ; o.Error() > 60*time.Millisecond && polls < 40; polls++ {
			n, ok := o.Meet(Bound(moment, moment.Add(trip), moment.Add(trip/2).Add(truth).Truncate(time.Second)))
			if !ok {
				t.Fatal("stepped")
			}
			o, moment = n, moment.Add(trip+pace)
		}
		if o.Error() > (pace+3*trip)/2 && o.Error() > 60*time.Millisecond || polls > 24 || truth < o.Low || truth > o.High {
			t.Errorf("phase %v: after %d polls %v", phase, polls, o)
		}
	}
}

func TestASteppedClockIsNoticed(t *testing.T) {
	a := Bound(now, now, now.Add(10*time.Second))
	b := Bound(now, now, now.Add(20*time.Second))
	if _, ok := a.Meet(b); ok {
		t.Error("bounds ten seconds apart meet")
	}
}

func TestBands(t *testing.T) {
	exactly := func(d time.Duration) Offset { return Offset{d, d} }
	for _, tc := range []struct {
		d      time.Duration
		window time.Duration
		want   Band
	}{
		{0, 0, InStep}, {time.Second, 0, InStep}, {-time.Second, 0, InStep},
		{time.Second + 1, 0, Usable}, {-5 * time.Second, 0, Usable},
		{5*time.Second + 1, 0, AtRisk}, {30 * time.Second, 0, AtRisk},
		{-30*time.Second - 1, 0, Refused}, {40 * time.Second, time.Minute, AtRisk}, {8 * time.Second, 6 * time.Second, Refused},
	} {
		if got := BandOf(exactly(tc.d), tc.window); got != tc.want {
			t.Errorf("BandOf(%v, window %v) = %s, want %s", tc.d, tc.window, got, tc.want)
		}
	}
}

func TestCauses(t *testing.T) {
	off := func(d time.Duration) Offset { return Offset{d - 500*time.Millisecond, d + 500*time.Millisecond} }
	for _, tc := range []struct {
		name string
		d    time.Duration
		ntp  bool
		want Cause
	}{
		{"in step", time.Second, false, None},
		{"one hour ahead", time.Hour, false, WrongZone},
		{"one hour behind and a bit", -time.Hour - 20*time.Second, false, WrongZone},
		{"a quarter off", 15 * time.Minute, false, WrongZone},
		{"eight seconds", -8 * time.Second, false, ByHand},
		{"seventy minutes", 70 * time.Minute, false, ByHand},
		{"26 years", -26 * 365 * 24 * time.Hour, false, NeverSet},
		{"NTP that isn't reached", 22 * time.Second, true, NotReached},
		{"an hour off with NTP set", time.Hour, true, NotReached},
	} {
		if got := CauseOf(Reading{NTP: tc.ntp}, off(tc.d)); got != tc.want {
			t.Errorf("%s: %q, want %q", tc.name, got, tc.want)
		}
	}
}

func berth1() Facts {
	return Facts{
		Camera: &Reading{At: now, Offset: Offset{3599700 * time.Millisecond, 3600700 * time.Millisecond}, Device: now.Add(time.Hour),
			Zone: "WET0", Daylight: false},
		Reference: Reference{Name: "Terminal recorder", Offset: Offset{0, 20 * time.Millisecond}, Why: "planned", Address: "127.40.2.5"},
	}
}

func TestAnHourAheadStopsTheRecorderAndSaysWhy(t *testing.T) {
	w := Wishes{Zone: "WET0WEST,M3.5.0/1,M10.5.0"}
	got := Judge(now, berth1(), w)
	if len(got) != 2 || got[0].Code != "clock.refused" || got[0].Severity != finding.Blocks || got[1].Code != "clock.zone" {
		t.Fatalf("findings: %+v", got)
	}
	for _, part := range []string{"1 h ahead of Terminal recorder", "set by hand", "30 s", "refused"} {
		if !strings.Contains(got[0].Sentence, part) {
			t.Errorf("%q doesn't say %q", got[0].Sentence, part)
		}
	}
	if got[0].Words != "+1 h" {
		t.Errorf("words %q", got[0].Words)
	}
	changes := Propose(now, berth1(), w)
	if len(changes) != 2 || changes[0].Kind != SetZone || changes[1].Kind != SetSource {
		t.Fatalf("changes: %+v", changes)
	}
	if changes[1].From != "set by hand" || changes[1].To != "NTP 127.40.2.5" {
		t.Errorf("%s → %s", changes[1].From, changes[1].To)
	}
}

func TestTimeIsSetOnceWhereNoNTPIsServed(t *testing.T) {
	f := berth1()
	f.Reference.Address = ""
	got := Propose(now, f, Wishes{})
	if len(got) != 1 || got[0].Kind != SetTime || got[0].Undo.Kind != finding.Irreversible {
		t.Errorf("changes: %+v", got)
	}
}

// After its proposals are made, a camera has nothing left to propose.
func TestProposalsEnd(t *testing.T) {
	w := Wishes{Zone: "WET0WEST,M3.5.0/1,M10.5.0"}
	f := berth1()
	f.Camera.Zone, f.Camera.Daylight = w.Zone, true
	f.Camera.NTP, f.Camera.Servers = true, []string{"127.40.2.5"}
	f.Camera.Offset = Offset{-100 * time.Millisecond, 900 * time.Millisecond}
	if c := Propose(now, f, w); len(c) != 0 {
		t.Errorf("still proposes %+v", c)
	}
	if j := Judge(now, f, w); len(j) != 0 {
		t.Errorf("still finds %+v", j)
	}
	if len(Propose(now, Facts{}, w)) != 0 || len(Judge(now, Facts{}, w)) != 0 {
		t.Error("a clock that wasn't read is judged")
	}
}

func TestZoneFindingsTellApart(t *testing.T) {
	summer := at("2026-07-01T00:00:00Z")
	for _, tc := range []struct {
		zone     string
		daylight bool
		site     string
		when     time.Time
		part     string
	}{
		{"CET1CEST,M3.5.0,M10.5.0/3", true, "CET-1CEST,M3.5.0,M10.5.0/3", now, "sign turned round"},
		{"WET0", false, "WET0WEST,M3.5.0/1,M10.5.0", now, "next change of the clocks"},
		{"WET0WEST,M3.5.0/1,M10.5.0", false, "WET0WEST,M3.5.0/1,M10.5.0", summer, "UTC+00:00, the site's UTC+01:00"},
		{"somewhere", false, "WET0", now, "can't be read"},
	} {
		f := Facts{Camera: &Reading{Zone: tc.zone, Daylight: tc.daylight}}
		got := Judge(tc.when, f, Wishes{Zone: tc.site})
		if len(got) != 1 || !strings.Contains(got[0].Sentence, tc.part) {
			t.Errorf("%s: %+v, want a sentence with %q", tc.zone, got, tc.part)
		}
	}
}

func TestBrief(t *testing.T) {
	for d, want := range map[time.Duration]string{
		time.Hour: "+1 h", -time.Hour - 200*time.Millisecond: "−1 h", -8400 * time.Millisecond: "−8 s", 22 * time.Second: "+22 s",
		-26 * 8766 * time.Hour: "−26 years", 5 * time.Minute: "+5 min", 72 * time.Hour: "+3 days", 3599 * time.Second: "+1 h", 90 * time.Minute: "+1.5 h",
	} {
		if got := Brief(d); got != want {
			t.Errorf("Brief(%v) = %q, want %q", d, got, want)
		}
	}
}

package clock

import (
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
)

const site = "WET0WEST,M3.5.0/1,M10.5.0"

func find(all []finding.Finding, code string) finding.Finding {
	for _, f := range all {
		if f.Code == code {
			return f
		}
	}
	return finding.Finding{}
}

// What the finding says to do and what the change does are one, whatever the site wishes; NTP is
// never switched off unsaid.
func TestTheWayOutIsTheChange(t *testing.T) {
	now := at("2026-11-26T10:00:00Z")
	off := Exact(now, now, now.Add(22*time.Second))
	reading := func(r Reading) *Reading { r.Offset, r.At, r.Zone, r.Daylight = off, now, site, true; return &r }
	for _, tc := range []struct {
		name      string
		camera    *Reading
		serves    string // where the recorder serves NTP
		w         Wishes
		wayOut    string
		kind, to  string
		undo      finding.UndoKind
		undoSends string
	}{
		{"by hand, the recorder serves", reading(Reading{}), "192.0.2.5", Wishes{}, "from Terminal recorder, which holds it", SetSource, "NTP 192.0.2.5", finding.Compensating, ""},
		{"by hand, nothing serves", reading(Reading{}), "", Wishes{}, "serves no NTP", SetTime, "in step with Terminal recorder", finding.Irreversible, ""},
		{"the site names a server", reading(Reading{}), "192.0.2.5", Wishes{Source: "192.0.2.9"}, "from the site's time server", SetSource, "NTP 192.0.2.9", finding.Compensating, ""},
		{"the site goes by DHCP", reading(Reading{}), "192.0.2.5", Wishes{Source: DHCP}, "the server that its network names", SetSource, "NTP from DHCP", finding.Compensating, ""},
		{"NTP that isn't reached, the recorder serves", reading(Reading{NTP: true, Servers: []string{"192.0.2.123"}}), "192.0.2.5", Wishes{}, "from Terminal recorder", SetSource, "NTP 192.0.2.5", finding.Reversible, ""},
		{"NTP that isn't reached, nothing serves", reading(Reading{NTP: true, Servers: []string{"192.0.2.123"}}), "", Wishes{}, "switches its NTP off",
			SetTime, "set by hand, in step with Terminal recorder", finding.Compensating, "192.0.2.123"},
		{"DHCP's server isn't reached", reading(Reading{NTP: true, FromDHCP: true}), "192.0.2.5", Wishes{Source: DHCP}, "the server that its network names already",
			SetTime, "set by hand, in step with Terminal recorder", finding.Compensating, DHCP},
		{"the right server isn't reached", reading(Reading{NTP: true, Servers: []string{"192.0.2.5"}}), "192.0.2.5", Wishes{}, "UDP port 123 leads from it to 192.0.2.5",
			SetTime, "set by hand, in step with Terminal recorder", finding.Compensating, "192.0.2.5"},
		{"two servers, neither reached", reading(Reading{NTP: true, Servers: []string{"a", "b"}}), "", Wishes{}, "switches its NTP off",
			SetTime, "set by hand, in step with Terminal recorder", finding.Irreversible, ""},
	} {
		tc.w.Zone = site
		f := Facts{Camera: tc.camera, Reference: Reference{ID: 1, Name: "Terminal recorder", Address: tc.serves}}
		fd := find(Judge(now, f, tc.w), "clock.at-risk")
		if !strings.Contains(fd.WayOut, tc.wayOut) {
			t.Errorf("%s: the way out is %q", tc.name, fd.WayOut)
		}
		all := Propose(now, f, tc.w)
		if len(all) != 1 || all[0].Kind != tc.kind || all[0].To != tc.to || all[0].Undo.Kind != tc.undo || all[0].Undo.Args["server"] != tc.undoSends {
			t.Errorf("%s: %+v", tc.name, all)
			continue
		}
		c := all[0]
		if tc.camera.NTP && c.Kind == SetTime && !strings.Contains(c.Title+c.To, "NTP is switched off") {
			t.Errorf("%s: NTP is switched off unsaid: %+v", tc.name, c)
		}
		// It reads what it was to become only once it is so.
		inStep := *tc.camera
		inStep.Offset = Exact(now, now, now)
		if c.Kind == SetTime {
			want := c.To
			if tc.camera.NTP {
				want = c.From
			}
			if got := ReadsSet(Facts{Camera: &inStep, Reference: f.Reference}, c.From, c.To, c.Args); got != want {
				t.Errorf("%s: in step, NTP still on, reads %q", tc.name, got)
			}
			inStep.NTP = false
			if got := ReadsSet(Facts{Camera: &inStep, Reference: f.Reference}, c.From, c.To, c.Args); got != c.To {
				t.Errorf("%s: in step by hand reads %q", tc.name, got)
			}
		}
	}
}

// An inverted sign is named in winter and in summer.
func TestAnInvertedSignIsNamedAllYear(t *testing.T) {
	for _, when := range []string{"2026-01-15T00:00:00Z", "2026-07-15T00:00:00Z"} {
		now := at(when)
		r := Reading{At: now, Device: now, Offset: Exact(now, now, now), Zone: "CET1CEST,M3.5.0,M10.5.0/3", Daylight: true}
		f := find(Judge(now, Facts{Camera: &r, Reference: Reference{Name: "this server"}}, Wishes{Zone: "CET-1CEST,M3.5.0,M10.5.0/3"}), "clock.zone")
		if !strings.Contains(f.Sentence, "the sign turned round") {
			t.Errorf("in %s: %q", when, f.Sentence)
		}
	}
}

func TestLocalTimeIsJudgedApart(t *testing.T) {
	for _, tc := range []struct {
		when     string
		daylight bool
		ahead    time.Duration
		says     string
	}{
		{"2026-07-15T12:00:00Z", true, time.Hour, ""},
		{"2026-07-15T12:00:00Z", true, time.Hour - time.Second, ""},
		{"2026-07-15T12:00:00Z", true, 0, "1 h behind"},
		{"2026-07-15T12:00:00Z", true, 2 * time.Hour, "1 h ahead of"},
		{"2026-07-15T12:00:00Z", false, 0, ""}, // its daylight rule is off: that is the zone's finding
		{"2026-01-15T12:00:00Z", true, 0, ""},
	} {
		now := at(tc.when)
		r := Reading{At: now, Device: now, Offset: Exact(now, now, now), Zone: site, Daylight: tc.daylight, HasLocal: true, LocalAhead: tc.ahead}
		got := find(Judge(now, Facts{Camera: &r, Reference: Reference{Name: "this server"}}, Wishes{Zone: site}), "clock.local")
		if tc.says == "" && got.Code != "" || tc.says != "" && !strings.Contains(got.Sentence, tc.says) {
			t.Errorf("%+v: %q", tc, got.Sentence)
		}
	}
}

// A camera that keeps the site's zone is held against its recorder's zone too.
func TestTheRecordersZoneIsHeldAgainstToo(t *testing.T) {
	now := at("2026-11-26T10:00:00Z")
	r := Reading{At: now, Device: now, Offset: Exact(now, now, now), Zone: site, Daylight: true}
	for zone, want := range map[string]bool{"": false, site: false, "GMT0BST,M3.5.0/1,M10.5.0/2": false, "WET0": true, "CET-1CEST,M3.5.0,M10.5.0/3": true, "nonsense": false} {
		f := Facts{Camera: &r, Reference: Reference{ID: 1, Name: "Quay recorder", Zone: zone}}
		if got := find(Judge(now, f, Wishes{Zone: site}), "clock.recorder-zone"); (got.Code != "") != want {
			t.Errorf("%q: %+v", zone, got)
		}
	}
}

// A recorder is judged for its time, its cause, its drift and its zone.
func TestARecordersOwnClock(t *testing.T) {
	now := at("2026-11-26T10:00:00Z")
	reading := func(d time.Duration, zone string, drift *Drift) Reading {
		return Reading{At: now, Device: now.Add(d), Offset: Exact(now, now, now.Add(d)), Zone: zone, Daylight: true, Drift: drift}
	}
	for _, tc := range []struct {
		name string
		r    Reading
		want map[string]string // by code, a part of the sentence
	}{
		{"in step", reading(0, site, nil), nil},
		{"it says nothing of its zone", reading(0, "", nil), nil},
		{"an hour ahead", reading(time.Hour, site, nil), map[string]string{"clock.recorder": "summer time or a zone further east"}},
		{"never set", reading(-27*365*24*time.Hour, site, nil), map[string]string{"clock.recorder": "never set"}},
		{"some seconds", reading(-9*time.Second, site, nil), map[string]string{"clock.recorder": "9.0 s behind true time: every"}},
		{"another zone", reading(0, "CET-1CEST,M3.5.0,M10.5.0/3", nil), map[string]string{"clock.recorder-zone": "keeps UTC+01:00 now and the site UTC+00:00"}},
		{"it drifts", reading(0, site, &Drift{PPM: 40, Error: 2, N: 9, From: now.Add(-time.Hour)}), map[string]string{"clock.recorder-drift": "It leaves what is usable on 2026-11-27"}},
		{"by chance", reading(0, site, &Drift{PPM: 4, Error: 2, N: 9}), nil},
	} {
		got := JudgeRecorder(now, tc.r, "Quay recorder", site)
		if len(got) != len(tc.want) {
			t.Errorf("%s: %+v", tc.name, got)
		}
		for code, part := range tc.want {
			if f := find(got, code); !strings.Contains(f.Sentence, part) || f.WayOut == "" {
				t.Errorf("%s: %+v", tc.name, f)
			}
		}
	}
}

// A clock that is off already has a date too: when it leaves its sign-in window.
func TestADriftThatIsOffAlreadyHasADate(t *testing.T) {
	now := at("2026-11-26T10:00:00Z")
	drift := func(off time.Duration, ppm float64, window time.Duration) string {
		r := Reading{At: now, Device: now, Offset: Exact(now, now, now.Add(off)), Zone: site, Daylight: true, Drift: &Drift{PPM: ppm, Error: 1, N: 9, From: now}}
		return find(Judge(now, Facts{Camera: &r, Reference: Reference{Name: "this server"}, Window: window}, Wishes{Zone: site}), "clock.drift").Sentence
	}
	if got := drift(20*time.Second, 40, 0); !strings.Contains(got, "leaves its sign-in window of 30 s on 2026-11-29 at 07:26 UTC") { // 10 s at 40 ppm
		t.Errorf("%q", got)
	}
	if got := drift(20*time.Second, 40, time.Minute); !strings.Contains(got, "of 60 s on 2026-12-07 at 23:46 UTC") {
		t.Errorf("%q", got)
	}
	if got := drift(40*time.Second, 40, 0); got == "" || strings.Contains(got, "leaves") {
		t.Errorf("beyond its window already: %q", got)
	}
	if got := drift(time.Second, 40, 0); !strings.Contains(got, "leaves what is usable on") {
		t.Errorf("%q", got)
	}
}

// Daylight saving that lasts all year is no daylight saving (RFC 8536, section 3.3.1).
func TestDaylightAllYearIsAZoneOfItsOwn(t *testing.T) {
	for _, when := range []string{"2026-01-01T04:30:00Z", "2026-07-01T00:00:00Z", "2027-12-31T23:59:59Z", "2028-01-01T05:00:00Z"} {
		now := at(when)
		if !sameZone(mustZone(t, "EST5EDT,0/0,J365/25"), mustZone(t, "EDT4"), now) {
			t.Errorf("at %s they differ: %s and %s", when, mustZone(t, "EST5EDT,0/0,J365/25").Offset(now), mustZone(t, "EDT4").Offset(now))
		}
	}
}

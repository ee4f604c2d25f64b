package identity

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
)

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

func TestReconcile(t *testing.T) {
	known := []Known{
		{ID: 1, Place: "Slipway", Address: addr("127.40.1.11"), Expected: true},
		{ID: 2, Place: "Ramp", Address: addr("127.40.1.12"), UUID: "u2", MAC: "m2", Expected: true},
		{ID: 3, Place: "Loft", Address: addr("127.40.1.18"), Expected: true},
		{ID: 4, Place: "Swapped", Address: addr("127.40.1.19"), UUID: "u4", Serial: "s4"},
	}
	seen := []Sighting{
		{Address: addr("127.40.1.11"), UUID: "u1"},
		{Address: addr("127.40.1.77"), UUID: "u2", MAC: "m2"},
		{Address: addr("127.40.1.19"), UUID: "u9", Serial: "s9"},
		{Address: addr("127.40.1.99"), UUID: "u5"},
	}
	want := map[string]Outcome{"Slipway": Matched, "Ramp": Moved, "Loft": Missing, "Swapped": Doubtful, "": Unexpected}
	got := Reconcile(known, seen)
	if len(got) != 5 {
		t.Fatalf("%d matches, want 5", len(got))
	}
	for _, m := range got {
		place := ""
		if m.Known != nil {
			place = m.Known.Place
		}
		if m.Outcome != want[place] {
			t.Errorf("%q: %s, want %s", place, m.Outcome, want[place])
		}
	}
}

// No sighting is used twice and none is lost.
func TestReconcileIsAPartition(t *testing.T) {
	known := []Known{{ID: 1, Address: addr("127.40.1.1"), UUID: "a"}, {ID: 2, Address: addr("127.40.1.2"), UUID: "a"}, {ID: 3, Address: addr("127.40.1.1")}}
	seen := []Sighting{{Address: addr("127.40.1.1"), UUID: "a"}, {Address: addr("127.40.1.2"), UUID: "b"}}
	count := map[netip.Addr]int{}
	for _, m := range Reconcile(known, seen) {
		if m.Seen != nil {
			count[m.Seen.Address]++
		}
	}
	for _, s := range seen {
		if count[s.Address] != 1 {
			t.Errorf("%v appears %d times", s.Address, count[s.Address])
		}
	}
}

func TestMergeKeepsWhatEitherSaid(t *testing.T) {
	a := Sighting{Address: addr("127.40.1.11"), Ways: []Way{Multicast}, UUID: "u", Model: "OTV 412", Ports: []int{8554}}
	b := Sighting{Address: addr("127.40.1.11"), Ways: []Way{Directed, Multicast}, Firmware: "4.1", Ports: []int{8080}, RTSPPort: 8554}
	m := Merge(a, b)
	if m.UUID != "u" || m.Firmware != "4.1" || m.WaysText() != "multicast, directed" || len(m.Ports) != 2 || m.Ports[0] != 8080 {
		t.Errorf("%+v", m)
	}
}

// The order in which answers come changes nothing.
func TestMergeDoesNotDependOnTheOrder(t *testing.T) {
	at := addr("127.40.1.11")
	all := []Sighting{{Address: at, Ways: []Way{SpokeRTSP}, Ports: []int{8554}}, {Address: at, Ways: []Way{Directed}}, {Address: at, Ways: []Way{Multicast}}, {Address: at, Ways: []Way{AskedTime}, Ports: []int{8080}}}
	for shift := range all {
		m := all[shift]
		for i := 1; i < len(all); i++ {
			m = Merge(m, all[(shift+i)%len(all)])
		}
		if m.WaysText() != "multicast, directed, time, RTSP" || len(m.Ports) != 2 || m.Ports[0] != 8080 {
			t.Errorf("from %d on: %s %v", shift, m.WaysText(), m.Ports)
		}
	}
}

func TestCleanMAC(t *testing.T) {
	for in, want := range map[string]string{"00-1A-2b-3C-4d-5E": "00:1a:2b:3c:4d:5e", "001a.2b3c.4d5e": "00:1a:2b:3c:4d:5e", "0": "", "00:1a:2b:3c:4d:5g": "", "": ""} {
		if got := CleanMAC(in); got != want {
			t.Errorf("CleanMAC(%q) = %q, want %q", in, got, want)
		}
	}
	if CleanUUID(" URN:UUID:AB-1 ") != "ab-1" {
		t.Error("the URN isn't stripped")
	}
}

func TestScopes(t *testing.T) {
	model, name, maker, mac := Scopes([]string{"onvif://www.onvif.org/hardware/OTV 412", "onvif://www.onvif.org/name/Ottervale", "onvif://www.onvif.org/MAC/00:1A:2B:3C:4D:5E", "http://elsewhere/x", "onvif://www.onvif.org/Profile/T", "onvif://www.onvif.org/manufacturer/Ottervale"})
	if model != "OTV 412" || name != "Ottervale" || maker != "Ottervale" || mac != "00:1a:2b:3c:4d:5e" {
		t.Errorf("%q %q %q %q", model, name, maker, mac)
	}
}

func TestJudge(t *testing.T) {
	now := time.Now()
	k := Known{Place: "Loft", Address: addr("127.40.1.18"), Kind: Camera, Expected: true, Make: "Skerryvane", Model: "SKV M1"}
	see := func(ways ...Way) *Sighting {
		return &Sighting{Address: k.Address, At: now, Ways: ways, Make: k.Make, Model: k.Model}
	}
	other := see(Multicast)
	other.Model = "OTV 300"
	trouble := see(Multicast)
	trouble.Trouble = "It answered 50 MB."
	for _, tc := range []struct {
		name string
		f    Facts
		code string
		sev  finding.Severity
	}{
		{"silent", Facts{LookedAt: now, Tried: "ports refused"}, "find.silent", finding.Blocks},
		{"RTSP only", Facts{LookedAt: now, Inside: true, Seen: see(SpokeRTSP)}, "find.rtsp-only", finding.Needs},
		{"only directed", Facts{LookedAt: now, Inside: true, Seen: see(Directed)}, "find.only-directed", finding.Note},
		{"other model", Facts{LookedAt: now, Inside: true, Seen: other}, "find.other-model", finding.Needs},
		{"other identity", Facts{LookedAt: now, Inside: true, Seen: see(Multicast), Outcome: Doubtful}, "find.other-device", finding.Needs},
		{"moved", Facts{LookedAt: now, Inside: true, Seen: see(Multicast), Outcome: Moved}, "find.moved", finding.Note},
		{"bad answer", Facts{LookedAt: now, Inside: true, Seen: trouble}, "find.bad-answer", finding.Needs},
	} {
		got := Judge(now, tc.f, Wishes{Known: k})
		if len(got) != 1 || got[0].Code != tc.code || got[0].Severity != tc.sev || got[0].WayOut == "" || len(got[0].Evidence) == 0 {
			t.Errorf("%s: %+v", tc.name, got)
		}
	}
	if got := Judge(now, Facts{LookedAt: now, Inside: true, Seen: see(Multicast, Directed)}, Wishes{Known: k}); len(got) != 0 {
		t.Errorf("a well found camera has findings: %+v", got)
	}
	if got := Judge(now, Facts{}, Wishes{Known: k}); len(got) != 0 {
		t.Errorf("not looked for yet, and judged: %+v", got)
	}
	silent := Judge(now, Facts{LookedAt: now, Tried: "two probes"}, Wishes{Known: k})[0]
	if silent.Evidence[0].Value != "127.40.1.18" || silent.Evidence[1].Value != "two probes" || !strings.Contains(silent.Sentence, "nothing answers") {
		t.Errorf("silent doesn't say what was tried where: %+v", silent)
	}
}

package identity

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/testbed/moment"
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
	known := []Known{{ID: 1, Address: addr("127.40.1.1"), UUID: "a"}, {ID: 2, Address: addr("127.40.1.2"), UUID: "a"},
		{ID: 3, Address: addr("127.40.1.1")}}
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
	all := []Sighting{{Address: at, Ways: []Way{SpokeRTSP}, Ports: []int{8554}}, {Address: at, Ways: []Way{Directed}},
		{Address: at, Ways: []Way{Multicast}}, {Address: at, Ways: []Way{AskedTime}, Ports: []int{8080}}}
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
	for in, want := range map[string]string{"00-1A-2b-3C-4d-5E": "00:1a:2b:3c:4d:5e",
		"001a.2b3c.4d5e": "00:1a:2b:3c:4d:5e", "0": "", "00:1a:2b:3c:4d:5g": "", "": ""} {
		if got := CleanMAC(in); got != want {
			t.Errorf("CleanMAC(%q) = %q, want %q", in, got, want)
		}
	}
	if CleanUUID(" URN:UUID:AB-1 ") != "ab-1" {
		t.Error("the URN isn't stripped")
	}
}

func TestScopes(t *testing.T) {
	model, name, maker, mac := Scopes([]string{"onvif://www.onvif.org/hardware/OTV 412",
		"onvif://www.onvif.org/name/Ottervale", "onvif://www.onvif.org/MAC/00:1A:2B:3C:4D:5E", "http://elsewhere/x", "onvif://www.onvif.org/Profile/T", "onvif://www.onvif.org/manufacturer/Ottervale"})
	if model != "OTV 412" || name != "Ottervale" || maker != "Ottervale" || mac != "00:1a:2b:3c:4d:5e" {
		t.Errorf("%q %q %q %q", model, name, maker, mac)
	}
}

func TestJudge(t *testing.T) {
	now := moment.Now()
	k := Known{Place: "Loft", Address: addr("127.40.1.18"), MAC: "02:d5:1a:00:00:01", Kind: Camera, Expected: true, Make: "Skerryvane", Model: "SKV M1"}
	see := func(ways ...Way) *Sighting {
		return &Sighting{Address: k.Address, At: now, Ways: ways, Make: k.Make, Model: k.Model}
	}
	other := see(Multicast)
	other.Model = "OTV 300"
	linked := see(Multicast)
	linked.MAC, linked.LinkMAC = "02:d5:1a:00:00:01", "02:d5:1a:00:00:02"
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
		{"other identity", Facts{LookedAt: now, Inside: true, Seen: see(Multicast), Outcome: Doubtful}, "find.other-device", finding.Blocks},
		{"moved", Facts{LookedAt: now, Inside: true, Seen: see(Multicast), Outcome: Moved, MovedFrom: addr("127.40.1.9")}, "find.moved", finding.Note},
		{"moved?", Facts{LookedAt: now, Tried: "ports refused", Outcome: Moved, Elsewhere: []netip.Addr{addr("127.40.1.9")}}, "find.moved-unproven", finding.Blocks},
		{"echoed", Facts{LookedAt: now, Inside: true, Seen: see(Multicast), Elsewhere: []netip.Addr{addr("127.40.1.9")}}, "find.echoed", finding.Blocks},
		{"echoes", Facts{LookedAt: now, Inside: true, Seen: see(Multicast), Claims: []Claim{{1, "Ramp", addr("127.40.1.9")}}}, "find.claims", finding.Blocks},
		{"another MAC on the link", Facts{LookedAt: now, Inside: true, Seen: linked}, "find.link-mac", finding.Needs},
		{"another MAC once signed in", Facts{LookedAt: now, Inside: true, Seen: see(Multicast), Info: &Sighting{MAC: "02:d5:1a:00:00:02"}}, "find.not-listed", finding.Needs},
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

func TestJudgeAtDepth(t *testing.T) {
	now := moment.Now()
	k := Known{Place: "Loft", Address: addr("127.40.1.18"), Kind: Camera, Expected: true, Make: "Skerryvane", Model: "SKV M1"}
	see := func(f func(s *Sighting)) *Sighting {
		s := &Sighting{Address: k.Address, At: now, Ways: []Way{Multicast, Directed, AskedTime, SpokeRTSP},
			Make: k.Make, Model: k.Model, UUID: "a", MAC: "m"}
		f(s)
		return s
	}
	plain := func(*Sighting) {}
	behind := &Behind{Recorder: "Quay recorder", Port: 3, At: now, HandsOut: "127.40.90.0/24"}
	fixed, dead := *behind, *behind
	fixed.Fixed, dead.Dead, dead.Slot = true, "it names another", 3
	onPort := func(s *Sighting) { s.Ways = []Way{OnAPort} }
	ip := netplan.IPConfig{Address: k.Address, Bits: 16, Gateway: addr("127.40.9.1")}
	quay := netplan.Network{ID: 1, Name: "Quay", Prefix: netip.MustParsePrefix("127.40.1.0/24")}
	both := []netplan.Network{quay, {ID: 2, Name: "Terminal", Prefix: netip.MustParsePrefix("127.40.2.0/24")}}
	for _, tc := range []struct {
		name  string
		f     Facts
		w     Wishes
		codes string
	}{
		{"well", Facts{Inside: true, Seen: see(plain)}, Wishes{Known: k}, ""},
		{"factory address", Facts{Seen: see(plain)}, Wishes{Known: k}, "find.factory-address"},
		{"two on one address", Facts{Inside: true, Seen: see(func(s *Sighting) { s.Also = []string{"b"} })},
			Wishes{Known: k}, "find.two-on-one"},
		{"a clone", Facts{Inside: true, Seen: see(func(s *Sighting) { s.Clones = []string{"127.40.1.19"} })},
			Wishes{Known: k}, "find.shared-endpoint"},
		{"reset", Facts{Inside: true, WasUUID: "z", Seen: see(plain)}, Wishes{Known: k}, "find.endpoint-changed?"},
		{"ONVIF off", Facts{Inside: true, Seen: see(func(s *Sighting) {
			s.Ways, s.Page = []Way{SpokeRTSP, ShowedWeb},
				"http://127.40.1.18:8080/"
		})}, Wishes{Known: k}, "find.onvif-off"},
		{"new in the box", Facts{Inside: true, Seen: see(func(s *Sighting) { s.NoPassword = true })}, Wishes{Known: k},
			"find.first-password?"},
		{"an old page", Facts{Inside: true, Seen: see(func(s *Sighting) { s.OldPage = "a Java applet" })},
			Wishes{Known: k}, "find.old-page?"},
		{"behind a port", Facts{Behind: behind, Seen: see(onPort)}, Wishes{Known: k}, "find.behind-port?"},
		{"on a port, and reached", Facts{Behind: behind, Seen: see(plain)}, Wishes{Known: k}, ""},
		{"fixed on a port", Facts{Behind: &fixed, Seen: see(onPort)}, Wishes{Known: k}, "find.behind-port? find.fixed-on-port"},
		{"a dead entry", Facts{Behind: &dead, Seen: see(onPort)}, Wishes{Known: k}, "find.behind-port? find.dead-entry"},
		{"mask and gateway", Facts{Inside: true, Network: quay, Networks: both, IPConfig: &ip, Seen: see(plain)}, Wishes{Known: k},
			"find.gateway find.mask"},
		{"old firmware", Facts{Inside: true, Firmware: "4.0.9", Seen: see(plain)}, Wishes{Known: k, Least: "4.1"}, "find.firmware"},
		{"new firmware", Facts{Inside: true, Firmware: "4.10", Seen: see(plain)}, Wishes{Known: k, Least: "4.9"}, ""},
		{"which views", Facts{Inside: true, Sources: []string{"a", "b"}, Seen: see(plain)}, Wishes{Known: k}, "find.sources"},
		{"views picked", Facts{Inside: true, Sources: []string{"a", "b"}, Chosen: 1, Seen: see(plain)}, Wishes{Known: k}, ""},
		{"mute", Facts{Inside: true, Seen: see(func(s *Sighting) { s.Ways, s.Ports = nil, []int{80} })}, Wishes{Known: k}, "find.mute"},
		{"a recorder's own screen", Facts{Inside: true, Seen: see(func(s *Sighting) { s.Ways = []Way{ShowedWeb} })},
			Wishes{Known: Known{Kind: Recorder, Expected: true}}, "find.own-screen?"},
	} {
		tc.f.LookedAt = now
		var codes []string
		for _, x := range Judge(now, tc.f, tc.w) {
			code := x.Code
			if x.Severity == finding.Note {
				code += "?"
			}
			codes = append(codes, code)
			if x.WayOut == "" || x.Words == "" || len(x.Evidence) == 0 {
				t.Errorf("%s: %+v", tc.name, x)
			}
		}
		slices.Sort(codes)
		if got := strings.Join(codes, " "); got != tc.codes {
			t.Errorf("%s: %q, want %q", tc.name, got, tc.codes)
		}
	}
}

func TestProposeWhereADeviceBelongs(t *testing.T) {
	now := moment.Now()
	quay := netplan.Network{ID: 1, Name: "Quay", Prefix: netip.MustParsePrefix("127.40.1.0/24")}
	f := Facts{Seen: &Sighting{Address: addr("127.40.250.64")}, IPConfig: &netplan.IPConfig{Address: addr("127.40.250.64"), Bits: 24}}
	to := &netplan.IPConfig{Address: addr("127.40.1.28"), Bits: 24, Gateway: addr("127.40.1.1")}
	got := Propose(now, f, Wishes{MoveTo: to}, true)
	if len(got) != 1 || got[0].Kind != SetIPConfig || got[0].Risk != finding.Address || got[0].To != "127.40.1.28/24 via 127.40.1.1" || got[0].Args["old_ip"] != "127.40.250.64/24" {
		t.Fatalf("%+v", got)
	}
	if closed := Propose(now, f, Wishes{MoveTo: to}, false); len(closed) != 0 {
		t.Errorf("nothing is written to a device that isn't open: %+v", closed)
	}
	terminal := netplan.Network{ID: 2, Name: "Terminal", Prefix: netip.MustParsePrefix("127.40.2.0/24")}
	f = Facts{Inside: true, Network: quay, Networks: []netplan.Network{quay, terminal}, Seen: &Sighting{Address: addr("127.40.1.7")},
		IPConfig: &netplan.IPConfig{Address: addr("127.40.1.7"), Bits: 16, Gateway: addr("127.40.1.1")}}
	if got := Propose(now, f, Wishes{}, true); len(got) != 1 || got[0].Risk != finding.NoRisk || got[0].To != "127.40.1.7/24 via 127.40.1.1" {
		t.Errorf("a wrong mask: %+v", got)
	}
	f.IPConfig.Bits, f.Hidden = 24, true
	if got := Propose(now, f, Wishes{}, true); len(got) != 1 || got[0].Kind != SetDiscovery || got[0].Undo.Kind != finding.Reversible {
		t.Errorf("hidden: %+v", got)
	}
	dead := Facts{Seen: f.Seen, Behind: &Behind{Recorder: "Quay recorder", RecorderID: 2, Slot: 3, SlotText: "Old at x", Dead: "gone"}}
	if got := Propose(now, dead, Wishes{}, false); len(got) != 1 || got[0].Kind != RemoveEntry || got[0].Undo.Kind != finding.Irreversible || got[0].Undo.Note == "" || got[0].From != "Old at x" {
		t.Errorf("a dead entry: %+v", got)
	}
}

// Versions are ordered: nothing is older than itself, and of two that differ one is.
func TestOlder(t *testing.T) {
	in := []string{"", "0.9", "1.0", "1.0a", "1.0b", "1.0.1", "1.2", "1.10", "4.1.7", "4.1.07", "V4.1.8", "8.14", "10.0"}
	for i, a := range in[1:10] {
		if older(a, a) || !older(in[0], a) {
			t.Errorf("%q (%d) is older than itself, or nothing isn't older", a, i)
		}
	}
	for _, tc := range [][2]string{{"0.9", "1.0"}, {"1.9", "1.10"}, {"1.0", "1.0.1"}, {"1.0a", "1.0b"},
		{"4.1.7", "4.1.10"}, {"8.14", "10.0"}} {
		if !older(tc[0], tc[1]) || older(tc[1], tc[0]) {
			t.Errorf("%q isn't older than %q", tc[0], tc[1])
		}
	}
	for _, tc := range [][2]string{{"4.1.7", "4.1.07"}, {"V5.5.0", "5.5.0"}, {"v5.5", "5.5.0"}, {"Build 12", "fw12"}, {"", "0"}} {
		if older(tc[0], tc[1]) || older(tc[1], tc[0]) {
			t.Errorf("one of %q and %q is older", tc[0], tc[1])
		}
	}
	for _, tc := range [][2]string{{"V5.5.0", "5.6.0"}, {"5.5.0", "V5.6.0"}, {"Version 9", "v10"}, {"5.5", "5.5.1"}, {"V5.5.0", "V5.5.0 build 180101"}} {
		if !older(tc[0], tc[1]) || older(tc[1], tc[0]) {
			t.Errorf("%q isn't older than %q", tc[0], tc[1])
		}
	}
}

func TestClonesAreToldApart(t *testing.T) {
	seen := []Sighting{{Address: addr("127.40.1.11"), UUID: "a", MAC: "1"},
		{Address: addr("127.40.1.12"), UUID: "a", MAC: "2"}, {Address: addr("127.40.1.13"), UUID: "b", MAC: "3"}}
	known := []Known{{Address: addr("127.40.2.9"), UUID: "b", MAC: "9"}, {Address: addr("127.40.1.14"), UUID: "b", MAC: "3"}}
	Clones(known, seen)
	if got := fmt.Sprint(seen[0].Clones, seen[1].Clones, seen[2].Clones); got != "[127.40.1.12] [127.40.1.11] [127.40.2.9]" {
		t.Error(got)
	}
	m := Merge(Sighting{UUID: "b"}, Sighting{UUID: "a"})
	n := Merge(Sighting{UUID: "a"}, Sighting{UUID: "b"})
	if m.UUID != "a" || len(m.Also) != 1 || m.Also[0] != "b" || n.UUID != m.UUID || n.Also[0] != m.Also[0] {
		t.Errorf("%+v %+v", m, n)
	}
}

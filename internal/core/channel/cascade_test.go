package channel

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

const served = "rtsp://192.0.2.5:8554/channel/%d"

func feed(n int, name string) Offer {
	return Offer{Pick: Pick{Recorder: 1, Channel: n}, Place: "Quay recorder", Address: "192.0.2.5", URI: fmt.Sprintf(served, n),
		Slot: Slot{Number: n, Name: name, State: Receiving, Codec: "H264", Kbps: 2000, Width: 1280, Height: 720}}
}

func taken(n int, name, from, state string) Slot {
	return Slot{Number: n, Name: name, Address: "192.0.2.5", From: from, State: state, Detail: "404 Not Found"}
}

var reached = map[string]string{"192.0.2.5": "Quay recorder"}

// Each way in which two recorders can stand to each other has its own word, and what mends it.
func TestHowADeskStandsToARecorder(t *testing.T) {
	desk := Recorder{Name: "Harbour desk", Limits: Limits{Channels: 8, Codecs: []string{"H264"}}, Slots: []Slot{
		taken(1, "Slipway", "RTSP://192.0.2.5:8554/channel/1/", Receiving), taken(2, "CAM 2", fmt.Sprintf(served, 2), Receiving),
		taken(4, "Net loft", fmt.Sprintf(served, 4), Lost), taken(5, "Gangway", fmt.Sprintf(served, 5), Receiving), taken(6, "Old", fmt.Sprintf(served, 9), Receiving),
		taken(8, "Pier", fmt.Sprintf(served, 7), Connecting), {Number: 7, Name: "From elsewhere", Address: "192.0.2.9", From: "rtsp://192.0.2.9/x", State: Receiving}}}
	picked := Cascade{Picks: []Pick{{1, 1}, {1, 2}, {1, 3}, {1, 4}, {1, 7}, {1, 8}}}
	steps := Steps(desk, picked, []Offer{feed(1, "Slipway"), feed(2, "Berth"), feed(3, "Ice plant"), feed(4, "Net loft"), feed(5, "Gangway"), feed(6, "Crew mess"), feed(7, "Pier")}, reached)
	var got []string
	for _, s := range steps {
		p := &CascadePlanner{Recorder: 2, R: desk}
		c, why, ok := p.Mend(s)
		got = append(got, strings.TrimSuffix(fmt.Sprintf("%d %s %v %s %s", s.Offer.Channel, s.Is, ok, c.Kind, why), " "))
	}
	want := "1 in step false ; 2 renamed true channel.cascade.name; 3 missing true channel.cascade; 4 nothing comes false ; 5 extra true channel.remove; 6 not taken false ; 7 connecting false ; 8 gone false ; 0 extra true channel.remove"
	if all := strings.Join(got, "; "); all != want {
		t.Errorf("\n%s\nwant\n%s", all, want)
	}
}

// Whatever stands, mending what can be mended leaves nothing that can be mended, takes no channel twice
// and breaks no limit; and a second time nothing is proposed.
func TestADeskThatWasMendedIsInStep(t *testing.T) {
	for seed := range 300 {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		desk := Recorder{Name: "Harbour desk", Limits: Limits{Channels: 1 + r.IntN(10), Codecs: []string{"H264"}}}
		var picked Cascade
		var offered []Offer
		for n := range 10 {
			f := feed(n+1, fmt.Sprintf("Place %d", n+1))
			if r.IntN(4) > 0 {
				offered = append(offered, f)
			}
			if r.IntN(2) == 0 {
				picked = picked.With(f.Pick, true)
			}
			if len(desk.Slots) < desk.Limits.Channels && r.IntN(3) == 0 {
				desk.Slots = append(desk.Slots, taken(len(desk.Slots)+1, []string{f.Slot.Name, "other"}[r.IntN(2)], f.URI, Receiving))
			}
		}
		full := false
		p := &CascadePlanner{Recorder: 2, R: desk}
		after := desk
		after.Slots = append([]Slot{}, desk.Slots...)
		for _, s := range Steps(desk, picked, offered, reached) {
			c, _, ok := p.Mend(s)
			full = full || s.Is == Missing && !ok
			if !ok {
				continue
			}
			var n int
			_, _ = fmt.Sscan(c.Args["channel"], &n)
			after.Slots = apply(after.Slots, c.Kind, n, c.Args["name"], c.Args["uri"])
		}
		seen := map[int]bool{}
		for _, s := range after.Slots {
			if seen[s.Number] || s.Number < 1 || s.Number > desk.Limits.Channels {
				t.Fatalf("seed %d: channel %d twice, or beyond %d", seed, s.Number, desk.Limits.Channels)
			}
			seen[s.Number] = true
		}
		for _, s := range Steps(after, picked, offered, reached) {
			if s.Out() && s.Is != Gone && !(s.Is == Missing && full) {
				t.Fatalf("seed %d: %+v is still out of step", seed, s)
			}
		}
	}
}

func apply(slots []Slot, kind string, n int, name, uri string) []Slot {
	var out []Slot
	for _, s := range slots {
		switch {
		case s.Number != n:
			out = append(out, s)
		case kind == NameTaken:
			s.Name = name
			out = append(out, s)
		}
	}
	if kind == TakeChannel {
		out = append(out, taken(n, name, uri, Receiving))
	}
	return out
}

// One name: each place that says another is in the finding and in the changes, but for a camera's own
// name that its make gave it, which goes along with others and isn't a reason.
func TestACameraHasOneNameWhereverItIs(t *testing.T) {
	rec := Recorder{Name: "Quay recorder"}
	desk := Recorder{Name: "Harbour desk"}
	for _, tc := range []struct {
		name, held, taken string
		own               *Own
		says              string
		kinds             string
	}{
		{"one name", "Slipway", "Slipway", &Own{Name: "Slipway"}, "", ""},
		{"the recorder's", "CAM 1", "Slipway", nil, `It is called "CAM 1" on Quay recorder and "Slipway" here.`, "channel.name"},
		{"the desk's", "Slipway", "CAM 1", nil, `It is called "CAM 1" on Harbour desk and "Slipway" here.`, "channel.name/2"},
		{"the camera's", "Slipway", "Slipway", &Own{Name: "Door"}, `It is called "Door" on the camera itself and "Slipway" here.`, "channel.name.device"},
		{"the camera's, which can't be changed", "Slipway", "Slipway", &Own{Name: "Door", Settled: true}, `It is called "Door" on the camera itself and "Slipway" here.`, ""},
		{"the make's", "Slipway", "Slipway", OwnName("Ottervale  OTV 412", "Ottervale", "OTV 412", false), "", ""},
		{"all", "A", "B", OwnName("OTV 412", "Ottervale", "OTV 412", false), `It is called "A" on Quay recorder, "B" on Harbour desk and "Slipway" here.`, "channel.name channel.name/2 channel.name.device"},
	} {
		f := Facts{Recorder: &rec, Slot: &Slot{Number: 3, Name: tc.held, State: Receiving}, Own: tc.own,
			Others: []Named{{RecorderID: 2, Recorder: desk, Slot: Slot{Number: 9, Name: tc.taken, State: Receiving}}}}
		says := ""
		for _, x := range Judge(moment.Now(), f, Wishes{Name: "Slipway"}) {
			says += x.Sentence
		}
		var keys []string
		for _, c := range Propose(moment.Now(), f, Wishes{Name: "Slipway"}) {
			keys = append(keys, c.Key)
			if c.To != "Slipway" || c.Args["old_name"] != c.From {
				t.Errorf("%s: %+v", tc.name, c)
			}
		}
		if says != tc.says || strings.Join(keys, " ") != tc.kinds {
			t.Errorf("%s: %q, %v", tc.name, says, keys)
		}
	}
}

// What a hand is shown is what the limits would be: a camera that is larger than the others is counted by
// another row of the tables.
func TestGaugesWithACameraMore(t *testing.T) {
	r := Recorder{Limits: Limits{Channels: 12, Licences: 10, Watts: 30, Tables: []Table{{Channels: 6, Megapixels: 8}, {Channels: 12, Megapixels: 4}}},
		Slots: []Slot{{Width: 1920, Height: 1080}, {Width: 1280, Height: 720}}, Ports: []Port{{Number: 1, Watts: 15.4}, {Number: 2, Watts: 30, Denied: true}}}
	words := func(all []Gauge) string {
		var out []string
		for _, g := range all {
			out = append(out, fmt.Sprintf("%s %g/%g", g.Name, g.Used, g.Most))
		}
		return strings.Join(out, ", ")
	}
	if got := words(Gauges(r)); got != "IP channels 2/12, Up to 4 MP 2/12, Licences 2/10, Port watts 15.4/30" {
		t.Error(got)
	}
	if got := words(GaugesWith(r, 100, 3840, 2160)); got != "IP channels 3/12, Up to 8 MP 3/6, Licences 3/10, Port watts 15.4/30" {
		t.Error(got)
	}
	if got := words(GaugesWith(r, 100, 4096, 3072)); !strings.Contains(got, "Up to 8 MP 3/6") {
		t.Errorf("larger than any row: %s", got)
	}
	if len(r.Slots) != 2 {
		t.Error("it was written")
	}
	views := r.PortViews()
	if len(views[0].Findings) != 0 || len(views[1].Findings) != 1 || views[1].Findings[0].Sentence != "Port 2 gives no power: its device asks for 30.0 W, and 14.6 of 30 W are left." {
		t.Errorf("%+v", views)
	}
}

// A recorder is turned over once nothing is planned or taken the other way.
func TestARecorderIsTurnedOver(t *testing.T) {
	taken := &Cascade{Picks: []Pick{{1, 1}, {1, 2}}}
	for _, tc := range []struct {
		now     *Cascade
		on      bool
		cameras int
		why     string
	}{
		{nil, true, 0, ""},
		{nil, true, 1, "1 camera is planned for Harbour desk: plan another recorder for it first."},
		{nil, true, 2, "2 cameras are planned for Harbour desk: plan another recorder for them first."},
		{nil, false, 2, ""},
		{&Cascade{}, false, 0, ""},
		{&Cascade{}, true, 0, ""},
		{taken, true, 0, ""},
		{taken, false, 0, "Harbour desk holds channels of other recorders, 2 of them: take them out first."},
	} {
		if why := tc.now.Turned("Harbour desk", tc.on, tc.cameras); why != tc.why {
			t.Errorf("%v %t %d: %q", tc.now, tc.on, tc.cameras, why)
		}
	}
}

// What is picked is taken once, and only of what is offered; what is out of step is mended, and what only a person can mend is told.
func TestWhatIsTakenAndMendedTogether(t *testing.T) {
	desk := Recorder{Name: "Harbour desk", Limits: Limits{Channels: 4, Codecs: []string{"H264"}}, Slots: []Slot{
		taken(1, "Slipway", fmt.Sprintf(served, 1), Receiving), taken(2, "CAM 2", fmt.Sprintf(served, 2), Receiving), taken(3, "Net loft", fmt.Sprintf(served, 4), Lost)}}
	picked := Cascade{Picks: []Pick{{1, 1}, {1, 2}, {1, 4}, {1, 8}}}
	steps := Steps(desk, picked, []Offer{feed(1, "Slipway"), feed(2, "Berth"), feed(3, "Ice plant"), feed(4, "Net loft"), feed(5, "Gangway")}, reached)
	text := func(all []finding.Change, not []NotTaken) string {
		var out []string
		for _, c := range all {
			out = append(out, c.Key)
		}
		for _, r := range not {
			out = append(out, r.Whose+": "+r.Why)
		}
		return strings.Join(out, "; ")
	}
	for _, tc := range []struct {
		name  string
		picks []Pick
		want  string
	}{
		{"none", nil, ""},
		{"one", []Pick{{1, 3}}, "channel.cascade/4"},
		{"one twice", []Pick{{1, 3}, {1, 3}}, "channel.cascade/4"},
		{"more than fit", []Pick{{1, 3}, {1, 5}}, "channel.cascade/4; Gangway of Quay recorder: all 4 IP channels are taken"},
		{"one that is taken", []Pick{{1, 1}}, ""},
		{"one that isn't there", []Pick{{1, 9}, {2, 3}}, ""},
	} {
		p := &CascadePlanner{Recorder: 2, R: desk}
		if got := text(p.Takes(steps, tc.picks)); got != tc.want {
			t.Errorf("%s: %s", tc.name, got)
		}
	}
	p := &CascadePlanner{Recorder: 2, R: desk}
	got := text(p.Mends(steps))
	if want := "channel.cascade.name/2; Net loft of Quay recorder: Channel 3 of Harbour desk holds it and receives nothing: 404 Not Found; " +
		"channel 8: Channel 8 was taken over, and its recorder has none of that number any more, or wasn't read"; got != want {
		t.Errorf("mended: %s", got)
	}
	if got := text((&CascadePlanner{Recorder: 2, R: desk}).Mends(nil)); got != "" {
		t.Errorf("of nothing: %s", got)
	}
}

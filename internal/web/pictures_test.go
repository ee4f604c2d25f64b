package web

import (
	"math"
	"net/netip"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/store"
)

// The strip is symmetric, grows with the offset and ends at ten hours.
func TestTheClockStrip(t *testing.T) {
	if clockX(0) != 520 {
		t.Errorf("zero is at %g", clockX(0))
	}
	last := clockX(0)
	for _, d := range []time.Duration{100 * time.Millisecond, time.Second, 5 * time.Second, 30 * time.Second, time.Hour, 10 * time.Hour} {
		x := clockX(d)
		if x <= last || math.Abs((x-520)+(clockX(-d)-520)) > 1e-9 {
			t.Errorf("%v is at %g, its opposite at %g", d, x, clockX(-d))
		}
		last = x
	}
	if clockX(26*8766*time.Hour) != clockX(10*time.Hour) {
		t.Error("26 years run off the strip")
	}
}

func TestAnAddressField(t *testing.T) {
	at := netip.MustParseAddr("127.40.1.11")
	silent := netip.MustParseAddr("127.40.1.18")
	by := map[netip.Addr]findRow{
		at:     {Device: store.Device{ID: 1, Place: "Slipway", Expected: true}, Heard: "multicast", Mark: stage.Mark{State: stage.Ready}},
		silent: {Device: store.Device{ID: 2, Place: "Loft", Expected: true}, Mark: stage.Mark{State: stage.Blocked}},
	}
	f := makeField(store.Network{Prefix: netip.MustParsePrefix("127.40.1.0/24")}, by)
	if len(f.Cells) != 256 || f.Found != 1 || f.Folded {
		t.Fatalf("%d cells, %d found", len(f.Cells), f.Found)
	}
	for i, want := range map[int]string{0: "reserved", 11: "found", 18: "silent", 19: "free", 255: "reserved"} {
		if c := f.Cells[i]; c.Kind != want || c.X != i%16 || c.Y != i/16 {
			t.Errorf("cell %d is %+v, want %s", i, c, want)
		}
	}
	if big := makeField(store.Network{Prefix: netip.MustParsePrefix("127.40.0.0/20")}, by); !big.Folded || big.Found != 1 || len(big.Cells) != 0 {
		t.Errorf("a /20: %+v", big)
	}
	for want, r := range map[string]findRow{
		"unexpected":      {Heard: "x"},
		"trouble":         {Heard: "x", Device: store.Device{Expected: true}, Mark: stage.Mark{State: stage.Needs}},
		"recorder":        {Heard: "x", Recorder: true},
		"silent-recorder": {Recorder: true},
	} {
		if got := kindOf(r); got != want {
			t.Errorf("%+v is %s, want %s", r, got, want)
		}
	}
}

func TestBarsTellDeclaredFromMeasured(t *testing.T) {
	p := stream.Profile{Width: 1280, Height: 720, FPS: 15, Kbps: 2048, GOP: 15}
	good := bars(p, stream.Measured{Width: 1280, Height: 720, FPS: 14.9, MeanKbps: 77, KeyEvery: time.Second})
	for _, b := range good {
		if b.Off || b.D < 0 || b.D > 100 || b.M < 0 || b.M > 100 {
			t.Errorf("%+v", b)
		}
	}
	for i, b := range bars(p, stream.Measured{Width: 640, Height: 360, FPS: 5, MeanKbps: 9000, KeyEvery: 8 * time.Second}) {
		if !b.Off || b.M > 100 || b.D > 100 {
			t.Errorf("bar %d isn't off, or runs over: %+v", i, b)
		}
	}
}

func TestTheWaterfall(t *testing.T) {
	w := waterfalls([]proof.Bar{{Leg: proof.Camera, To: 400 * time.Millisecond, Took: 400 * time.Millisecond, Verdict: proof.OnTime, Error: 30 * time.Millisecond}, {Leg: proof.Recorder, From: 400 * time.Millisecond, To: 9 * time.Second, Took: 8600 * time.Millisecond, Verdict: proof.Late}})
	if w[0].Took != "0.40 s ± 0.03" || w[0].Class != "ready" || w[1].Class != "needs" || w[1].X+w[1].W > 100.1 {
		t.Errorf("%+v", w)
	}
	for want, b := range map[string]proof.Bar{"under 0.03 s": {Took: time.Millisecond, Error: 30 * time.Millisecond}, "under 0.01 s": {Took: time.Millisecond}, "1.20 s": {Took: 1200 * time.Millisecond}} {
		if got := took(b); got != want {
			t.Errorf("%+v is %q, want %q", b, got, want)
		}
	}
	d := drawings([]rule.Rule{{Name: "l", Kind: rule.Crosses, Line: scene.Line{{X: -1, Y: 1}, {X: 1, Y: -1}}}})
	if len(d) != 1 || d[0].Points != "0.0,0.0 1000.0,562.0" || d[0].Area {
		t.Errorf("%+v", d)
	}
}

func TestFilterWords(t *testing.T) {
	at := netip.MustParseAddr("127.40.1.11")
	r := row{Device: store.Device{Place: "Slipway", Make: "Ottervale", Model: "OTV 412", Address: &at}, Marks: map[stage.Stage]stage.Mark{stage.Clock: {State: stage.Blocked}, stage.Find: {State: stage.Ready}}, Proposals: map[stage.Stage][]finding.Change{}}
	networks := []store.Network{{Name: "Quay", Prefix: netip.MustParsePrefix("127.40.1.0/24")}, {Name: "Quay recorder's ports", Prefix: netip.MustParsePrefix("127.40.90.0/24")}}
	for q, want := range map[string]bool{
		"": true, "SLIP": true, "412 otter": true, "ramp": false, "make:otter": true, "make:tarn": false, "net:quay": true, "net:127.40.1": true, "net:127.40.2": false,
		"state:blocked": true, "state:ready": true, "state:needs": false, "stage:clock state:blocked": true, "stage:find state:blocked": false, "stage:clock": true, "stage:prove": false,
		"state:needsyou": false, "127.40.1.11": true,
	} {
		if got := parseFilter(q, networks).takes(r); got != want {
			t.Errorf("%q: %v", q, got)
		}
	}
}

func TestAges(t *testing.T) {
	now := time.Now()
	for want, d := range map[string]time.Duration{"just now": time.Second, "12 s ago": 12 * time.Second, "3 min ago": 200 * time.Second, "5 h ago": 5 * time.Hour, "4 days ago": 100 * time.Hour} {
		if got := ago(now, now.Add(-d)); got != want {
			t.Errorf("%v is %q, want %q", d, got, want)
		}
	}
	if ago(now, time.Time{}) != "" || !strings.HasPrefix(plural(2, "camera"), "2 cameras") || plural(1, "camera") != "1 camera" {
		t.Error("words")
	}
}

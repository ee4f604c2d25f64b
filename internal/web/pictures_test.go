package web

import (
	"math"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
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
	by := map[netip.Addr]store.Dot{
		at:     {ID: 1, Kind: identity.Camera, Place: "Slipway", Expected: true, Heard: true, State: stage.Ready},
		silent: {ID: 2, Kind: identity.Camera, Place: "Loft", Expected: true, State: stage.Blocked},
	}
	quay := netip.MustParsePrefix("127.40.1.0/24")
	f := makeField(store.Network{Prefix: quay}, quay, by)
	if len(f.Cells) != 256 || f.Tiles != nil {
		t.Fatalf("%d cells", len(f.Cells))
	}
	for i, want := range map[int]string{0: "reserved", 11: "found", 18: "silent", 19: "free", 255: "reserved"} {
		if c := f.Cells[i]; c.Kind != want || c.X != i%16 || c.Y != i/16 {
			t.Errorf("cell %d is %+v, want %s", i, c, want)
		}
	}
	folded := foldedField(store.Network{Name: "Bulk", Prefix: netip.MustParsePrefix("127.40.0.0/20")}, quay, by)
	if len(folded.Tiles) != 16 || len(folded.Cells) != 0 || folded.Part == nil || len(folded.Part.Cells) != 256 || folded.Part.Cells[11].Kind != "found" || folded.Part.Found != 1 {
		t.Fatalf("a /20: %+v", folded)
	}
	if x := folded.Tiles[1]; !x.Open || x.X != 1 || x.Y != 0 || x.Third() != 1 || x.Kind != "silent" || x.Label() != "127.40.1.0/24: 1 found, 1 expected and silent" {
		t.Errorf("its part: %+v, %q", x, x.Label())
	}
	if x := folded.Tiles[15]; x.Open || x.X != 3 || x.Y != 3 || x.Third() != 15 || x.Kind != "free" {
		t.Errorf("its last part: %+v", x)
	}
	for bits, n := range map[string]int{"/23": 2, "/22": 4, "/21": 8} {
		if got := foldedField(store.Network{Prefix: netip.MustParsePrefix("127.40.0.0" + bits)}, netip.Prefix{}, by); len(got.Tiles) != n || got.Part != nil {
			t.Errorf("a %s has %d parts", bits, len(got.Tiles))
		}
	}
	if first := foldedField(store.Network{Prefix: netip.MustParsePrefix("127.40.0.0/20")}, quay, by).Part.Cells[0]; first.Kind != "free" {
		t.Errorf("within a /20 %s is %s", first.Label, first.Kind) // only the whole network's ends are reserved
	}
	for want, x := range map[string]store.Dot{
		"unexpected":      {Kind: identity.Camera, Heard: true},
		"trouble":         {Kind: identity.Camera, Heard: true, Expected: true, State: stage.Needs},
		"recorder":        {Kind: identity.Recorder, Heard: true},
		"silent-recorder": {Kind: identity.Recorder},
	} {
		if got := kindOf(x); got != want {
			t.Errorf("%+v is %s, want %s", x, got, want)
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

// The Board's rows are written without a template: what a device says stays text.
func TestCellsEscapeWhatDevicesSay(t *testing.T) {
	evil := `"><script>alert(1)</script>`
	u, err := url.Parse("/sites/1/board?q=a%22b&sort=clock")
	if err != nil {
		t.Fatal(err)
	}
	b := base{URL: u, Query: `a"b`, MayChange: true}
	r := row{Device: store.Device{ID: 7, Place: evil, Make: evil, Model: evil}, Marks: map[stage.Stage]stage.Mark{stage.Clock: {State: stage.State(evil), Words: evil, Sentence: evil}}}
	got := string(cells(b, []row{r}))
	if strings.Contains(got, "<script") || strings.Contains(got, `"">`) || strings.Count(got, "<td class=\"cell\"") != 10 || !strings.Contains(got, "q=a%22b&amp;sort=clock") {
		t.Error(got)
	}
	if b.MayChange = false; strings.Contains(string(cells(b, []row{r})), "checkbox") {
		t.Error("a viewer selects")
	}
}

func TestTabs(t *testing.T) {
	var all []row
	for i := range 20 {
		all = append(all, row{Device: store.Device{ID: int64(i + 1)}})
	}
	if tabs, more := tabsOf(all[:3], &all[1]); len(tabs) != 3 || more != 0 {
		t.Errorf("%d tabs, %d more", len(tabs), more)
	}
	tabs, more := tabsOf(all, &all[15])
	if len(tabs) != maxTabs || more != 12 || tabs[maxTabs-1].Device.ID != 16 || all[7].Device.ID != 8 {
		t.Errorf("%+v, %d more", tabs, more)
	}
}

func TestWhatCanBeTakenBack(t *testing.T) {
	undo := finding.Undo{Kind: finding.Reversible}
	all := []store.Change{
		{ID: 4, DeviceID: 1, Key: "a", State: store.Failed, Undo: undo},
		{ID: 3, DeviceID: 1, Key: "a", State: store.Verified, Undo: undo}, // not the newest of its thing
		{ID: 2, DeviceID: 1, Key: "b", State: store.Verified, Undo: undo},
		{ID: 1, DeviceID: 2, Key: "b", State: store.Verified, Undo: finding.Undo{Kind: finding.Irreversible}},
	}
	var back []int64
	for _, p := range pastOf(all) {
		if p.Back != "" {
			back = append(back, p.ID)
		}
	}
	if !slices.Equal(back, []int64{2}) {
		t.Errorf("%v can be taken back", back)
	}
}

func TestHowLongARunStillTakes(t *testing.T) {
	now := time.Now()
	for want, r := range map[string]store.Run{
		"":                  {Total: 100, Done: 2, StartedAt: now.Add(-time.Minute)},
		"about 11 s more":   {Total: 200, Done: 100, StartedAt: now.Add(-10 * time.Second)},
		"about 2 min more":  {Total: 100, Done: 25, Failed: 5, StartedAt: now.Add(-30 * time.Second)},
		"about 10 min more": {Total: 1000, Done: 100, StartedAt: now.Add(-61 * time.Second)},
	} {
		if got := timeLeft(now, r); got != want {
			t.Errorf("%+v: %q, want %q", r, got, want)
		}
	}
	for n, want := range map[int]string{0: "0", 999: "999", 3000: "3,000", 1234567: "1,234,567", -1200: "-1,200"} {
		if got := stage.Thousands(n); got != want {
			t.Errorf("%d: %q", n, got)
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

// A crowd on the strip: every camera is in one group, groups of one state stand apart,
// and none mixes states or bands.
func TestACrowdOnTheStrip(t *testing.T) {
	var all []store.ClockDot
	offsets := []time.Duration{-26 * 8766 * time.Hour, -time.Hour, -20 * time.Second, -3 * time.Second, -900 * time.Millisecond, -200 * time.Millisecond, 0, 100 * time.Millisecond, 700 * time.Millisecond, 1100 * time.Millisecond, 4 * time.Second, 22 * time.Second, time.Hour, 26 * time.Hour}
	for i := range 3000 {
		st := []stage.State{stage.Ready, stage.Ready, stage.Needs, stage.Blocked}[i%4]
		all = append(all, store.ClockDot{ID: int64(i + 1), Low: offsets[i%len(offsets)] - time.Second/2, High: offsets[i%len(offsets)] + time.Second/2, State: st})
	}
	offset := func(x store.ClockDot) clock.Offset { return clock.Offset{Low: x.Low, High: x.High} }
	groups := groupsOf(all, offset)
	in, last := map[int64]int{}, map[[2]string]float64{}
	for _, g := range groups {
		for _, x := range g.of {
			in[x.ID]++
			if x.State != g.state || clock.BandOf(clock.Offset{Low: offset(x).Mid(), High: offset(x).Mid()}, 0) != g.band {
				t.Errorf("%+v is in a group of %s, %s", x, g.state, g.band)
			}
		}
		// The two sides of a band are far apart from each other.
		k := [2]string{string(g.state), string(g.band)}
		if was, ok := last[k]; ok && g.from-was <= apart {
			t.Errorf("groups of %v begin at %g and %g", k, was, g.from)
		}
		last[k] = g.from
		if x := g.x(); x < clockX(g.least)-1e-6 || x > clockX(g.most)+1e-6 {
			t.Errorf("a group from %v to %v stands at %g", g.least, g.most, x)
		}
	}
	if len(in) != len(all) || len(groups) > 60 {
		t.Errorf("%d of %d cameras in %d groups", len(in), len(all), len(groups))
	}
	for id, n := range in {
		if n != 1 {
			t.Errorf("camera %d is in %d groups", id, n)
		}
	}
	if got := someOf(all[:7]); got != ", , , ,  and 2 more" {
		t.Errorf("%q", got)
	}
}

package channel

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/testbed/moment"
)

// A limit is named where it binds, and alone only where lifting it alone would help.
func TestLimitsThatBind(t *testing.T) {
	spare := []Analog{{Number: 1, On: true, Next: true}}
	for name, x := range map[string]struct {
		r    Recorder
		d    Demand
		says []string // none: it fits
		way  string
	}{
		"room":                                 {Recorder{Limits: Limits{Channels: 2, Licences: 2, MbitIn: 10}, Slots: []Slot{{Number: 1, Kbps: 4000}}}, Demand{Kbps: 6000}, nil, ""},
		"the sum is just the limit, in floats": {Recorder{Limits: Limits{Channels: 99, MbitIn: 80}, Slots: many(79, Slot{Kbps: 1000.0 / 3 * 3})}, Demand{Kbps: 1000}, nil, ""},
		"a kbit over":                          {Recorder{Limits: Limits{Channels: 9, MbitIn: 8}, Slots: many(1, Slot{Kbps: 7001})}, Demand{Kbps: 1000}, nil, ""},
		"two kbit over":                        {Recorder{Limits: Limits{Channels: 9, MbitIn: 8}, Slots: many(1, Slot{Kbps: 7002})}, Demand{Kbps: 1000}, []string{"it takes 8 Mbit/s"}, "Set a lower bit rate"},
		"a rate that isn't known":              {Recorder{Limits: Limits{Channels: 9, MbitIn: 8}, Slots: many(1, Slot{Kbps: 9000})}, Demand{}, nil, ""},
		"channels":                             {Recorder{Limits: Limits{Channels: 1, Licences: 9}, Slots: many(1, Slot{})}, Demand{}, []string{"all 1 IP channels"}, "Free a channel"},
		"licences":                             {Recorder{Limits: Limits{Channels: 9, Licences: 1}, Slots: many(1, Slot{})}, Demand{}, []string{"all 1 licences"}, "Add a licence"},
		"both":                                 {Recorder{Limits: Limits{Channels: 1, Licences: 1}, Slots: many(1, Slot{})}, Demand{}, []string{"all 1 IP channels are taken and all 1 licences are used"}, "Free a channel"},
		"both, with an input to spare":         {Recorder{Analog: spare, Limits: Limits{Capacity: Capacity{Base: 1, Gain: 1}, Licences: 1}, Slots: many(1, Slot{})}, Demand{}, []string{"IP channels", "licences"}, "Free a channel"},
		"licences, with an input to spare":     {Recorder{Analog: spare, Limits: Limits{Capacity: Capacity{Base: 4, Gain: 1}, Licences: 1}, Slots: many(1, Slot{})}, Demand{}, []string{"licences"}, "Add a licence"},
		"channels, with an input to spare":     {Recorder{Analog: spare, Limits: Limits{Capacity: Capacity{Base: 1, Gain: 1}}, Slots: many(1, Slot{})}, Demand{}, []string{"IP channels"}, "switch off analog input A1"},
		"a dark channel counts":                {Recorder{Limits: Limits{Channels: 9, MbitIn: 8}, Slots: many(2, Slot{State: Lost, As: Figures{Kbps: 4000}})}, Demand{Kbps: 500}, []string{"8.0 are taken already"}, "Set a lower"},
		"one sends less than it may":           {Recorder{Limits: Limits{Channels: 9, MbitIn: 8}, Slots: many(2, Slot{State: Receiving, Kbps: 100, As: Figures{Kbps: 4000}})}, Demand{Kbps: 500}, []string{"8.0 are taken already"}, ""},
		"one sends more than it may":           {Recorder{Limits: Limits{Channels: 9, MbitIn: 8}, Slots: many(2, Slot{State: Receiving, Kbps: 4000, As: Figures{Kbps: 100}})}, Demand{Kbps: 500}, []string{"8.0 are taken already"}, ""},
		"decoding":                             {Recorder{Limits: Limits{Channels: 9, DecodeMP: 100}, Slots: many(2, Slot{As: Figures{Width: 1000, Height: 1000, FPS: 25}})}, Demand{Megapixels: 2, FPS: 26}, []string{"it decodes 100 megapixels a second, 50"}, "Set fewer pictures"},
		"decoding, just":                       {Recorder{Limits: Limits{Channels: 9, DecodeMP: 100}, Slots: many(2, Slot{As: Figures{Width: 1000, Height: 1000, FPS: 25}})}, Demand{Megapixels: 2, FPS: 25}, nil, ""},
		"a table":                              {Recorder{Limits: Limits{Channels: 9, Tables: []Table{{1, 8}}}, Slots: many(1, Slot{Width: 1, Height: 1})}, Demand{Megapixels: 1}, []string{"1 of 8 megapixels"}, "smaller picture"},
	} {
		got := x.r.BindsFor(x.d)
		if len(x.says) == 0 && got != "" || len(x.says) > 0 && got == "" {
			t.Errorf("%s: %q", name, got)
		}
		for _, says := range x.says {
			if !strings.Contains(got, says) {
				t.Errorf("%s: %q, want %q", name, got, says)
			}
		}
		if got != "" && !strings.Contains(x.r.wayOut(x.d), x.way) {
			t.Errorf("%s: the way out is %q, want %q", name, x.r.wayOut(x.d), x.way)
		}
	}
}

func many(n int, s Slot) (out []Slot) {
	for i := range n {
		s.Number = i + 1
		out = append(out, s)
	}
	return out
}

// What is named alone is what would help: with that limit lifted, and no other, the source fits.
func TestOneLimitAloneIsNamedWhereLiftingItHelps(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	for range 2000 {
		rec := Recorder{Limits: Limits{Channels: 1 + r.IntN(6), Licences: r.IntN(6), MbitIn: float64(r.IntN(20)), DecodeMP: float64(r.IntN(200))}, Slots: many(r.IntN(6), Slot{Kbps: float64(r.IntN(4000)), Width: 1000, Height: 1000, FPS: 20})}
		d := Demand{Kbps: r.IntN(6000), Megapixels: 2, FPS: 20}
		all := rec.binding(d)
		if len(all) != 1 {
			continue
		}
		lifted := rec
		switch all[0].of {
		case "channels":
			lifted.Limits.Channels = 99
		case "licences":
			lifted.Limits.Licences = 99
		case "rate":
			lifted.Limits.MbitIn = 1e6
		case "decoding":
			lifted.Limits.DecodeMP = 1e6
		}
		if why := lifted.BindsFor(d); why != "" {
			t.Fatalf("%s is named alone, and lifted %s", all[0].of, why)
		}
	}
}

func TestNumbersAreKept(t *testing.T) {
	for name, x := range map[string]struct {
		held   []int
		wishes []int
		most   int
		want   []int
	}{
		"what doesn't fit goes last":   {nil, []int{20, 1, 2, 3}, 16, []int{4, 1, 2, 3}},
		"all fit":                      {nil, []int{3, 1, 2}, 16, []int{3, 1, 2}},
		"one is taken":                 {[]int{1}, []int{1, 2}, 16, []int{3, 2}},
		"two wish one":                 {nil, []int{5, 5}, 16, []int{5, 1}},
		"no wish":                      {nil, []int{0, 0, 1}, 16, []int{2, 3, 1}},
		"on the bound and beyond":      {nil, []int{4, 5}, 4, []int{4, 1}},
		"more than there are":          {[]int{1, 2}, []int{9, 9, 9}, 4, []int{3, 4, 0}},
		"none":                         {nil, nil, 4, []int{}},
		"what it holds lies elsewhere": {[]int{9}, []int{1, 9}, 4, []int{1, 2}},
	} {
		r := Recorder{}
		for _, n := range x.held {
			r.Slots = append(r.Slots, Slot{Number: n})
		}
		if got := r.Numbers(x.wishes, x.most); !slices.Equal(got, x.want) {
			t.Errorf("%s: %v, want %v", name, got, x.want)
		}
	}
	r := rand.New(rand.NewPCG(41, 42))
	for range 1000 {
		most, rec, wishes := 1+r.IntN(12), Recorder{}, []int{}
		for n := 1; n <= most; n++ {
			if r.IntN(3) == 0 {
				rec.Slots = append(rec.Slots, Slot{Number: n})
			}
		}
		for range r.IntN(14) {
			wishes = append(wishes, r.IntN(16))
		}
		seen := map[int]bool{}
		for _, s := range rec.Slots {
			seen[s.Number] = true
		}
		given := 0
		for i, n := range rec.Numbers(wishes, most) {
			if n == 0 {
				continue
			}
			given++
			if n > most || seen[n] {
				t.Fatalf("channel %d of %d is given, or given twice", n, most)
			}
			if seen[n] = true; n != wishes[i] && wishes[i] > 0 && wishes[i] <= most && !seen[wishes[i]] {
				t.Fatalf("%d was wished, free, and %d given", wishes[i], n)
			}
		}
		if given != min(len(wishes), most-len(rec.Slots)) {
			t.Fatalf("%d of %d are given %d channels of %d", given, len(wishes), most, len(rec.Slots))
		}
	}
}

// A proposal names channels that there are, and what is placed by it is placed there.
func TestAProposalNamesChannelsThatThereAre(t *testing.T) {
	r := rand.New(rand.NewPCG(51, 52))
	for range 300 {
		all, bins := made(r, 1+r.IntN(12), 1+r.IntN(3))
		for i := range all {
			all[i].Channel = r.IntN(14)
		}
		got := Assign(all, bins)
		for _, b := range bins {
			most := b.Recorder.ChannelsNow()
			if slices.Contains(got.Restarts, b.ID) {
				most = b.Recorder.Limits.Capacity.Of(b.Recorder.off(true) + len(b.Recorder.Spare()))
			}
			for _, p := range all {
				if n := got.Number[p.ID]; got.To[p.ID] == b.ID && (n < 1 || n > most) {
					t.Fatalf("channel %d of %d is proposed", n, most)
				}
			}
		}
	}
}

// Each recorder is reckoned with what it would take of a source: two that take H.264 alone hold its
// 720p where neither would hold its 4K.
func TestEachRecorderIsReckonedWithItsStream(t *testing.T) {
	small := Recorder{Name: "Small", Limits: Limits{Channels: 4, MbitIn: 4, Tables: []Table{{4, 1}}}}
	large := Recorder{Name: "Large", Limits: Limits{Channels: 1}}
	var all []Placing
	for i := range 3 {
		all = append(all, Placing{ID: int64(i + 1), Fits: map[int64]Fit{1: {Kbps: 1500, Megapixels: 0.92}, 2: {Kbps: 12000, Megapixels: 8.3}}})
	}
	got := Assign(all, []Bin{{1, small}, {2, large}})
	on := map[int64]int{}
	for _, b := range got.To {
		on[b]++
	}
	if on[1] != 2 || on[2] != 1 || !got.Exact {
		t.Errorf("%v, exact %t: %v", got.To, got.Exact, got.Why)
	}
}

func TestCapacityWithoutAMaximum(t *testing.T) {
	for _, x := range []struct {
		c    Capacity
		off  int
		want int
	}{{Capacity{Base: 2, Gain: 1}, 8, 10}, {Capacity{Base: 2, Gain: 2}, 3, 8}, {Capacity{Base: 2, Gain: 1, Most: 5}, 8, 5}, {Capacity{Base: 2, Gain: 1, Most: 5}, 3, 5}, {Capacity{Base: 2, Gain: 1, Most: 5}, -1, 2}, {Capacity{}, 3, 0}} {
		if got := x.c.Of(x.off); got != x.want {
			t.Errorf("%+v with %d off: %d, want %d", x.c, x.off, got, x.want)
		}
	}
}

func TestPowerOfEveryClass(t *testing.T) {
	for class, want := range map[int]float64{-1: 0, 0: 15.4, 1: 4, 2: 7, 3: 15.4, 4: 30, 5: 45, 6: 60, 7: 75, 8: 90, 9: 0} {
		if got := powerOf(class); got != want {
			t.Errorf("class %d: %g W, want %g", class, got, want)
		}
	}
}

func TestWhoIsTakenAndHow(t *testing.T) {
	list := &ModelList{Models: []string{"Tarnlight *", "Corriemoor CRM R2"}}
	every := []Way{{Native, nil}, {ONVIF, nil}, {RTSP, nil}}
	for name, x := range map[string]struct {
		l   Limits
		m   *ModelList
		c   Camera
		way string // empty: it isn't taken
	}{
		"ways untold":                             {Limits{}, nil, Camera{Make: "Ottervale"}, ONVIF},
		"ways untold, RTSP alone":                 {Limits{}, nil, Camera{RTSPAlone: true}, RTSP},
		"ways untold, no others, not listed":      {Limits{NoOthers: true}, list, Camera{Make: "Ottervale", Model: "OTV 412"}, ""},
		"ways untold, no others, listed":          {Limits{NoOthers: true}, list, Camera{Make: "Tarnlight", Model: "TRN C1"}, ONVIF},
		"ways untold, no others, the list untold": {Limits{NoOthers: true}, nil, Camera{Make: "Ottervale"}, ONVIF},
		"no others, not listed":                   {Limits{NoOthers: true, Ways: every}, list, Camera{Make: "Ottervale", Model: "OTV 412"}, ""},
		"listed, RTSP alone":                      {Limits{NoOthers: true, Ways: every[:2]}, list, Camera{Make: "Corriemoor", Model: "CRM R2", RTSPAlone: true}, Native},
		"not listed, RTSP alone":                  {Limits{Ways: every[:2]}, list, Camera{Make: "Corriemoor", Model: "CRM E4", RTSPAlone: true}, ""},
		"the list untold, RTSP alone":             {Limits{Ways: every[:2]}, nil, Camera{Make: "Corriemoor", Model: "CRM R2", RTSPAlone: true}, ""},
		"the list untold, RTSP alone, and RTSP":   {Limits{Ways: every}, nil, Camera{RTSPAlone: true}, RTSP},
	} {
		got := Recorder{Limits: x.l, Models: x.m}.Choose(x.c)
		if got.Way != x.way || (got.Refused == "") != (x.way != "") {
			t.Errorf("%s: %+v, want %q", name, got, x.way)
		}
	}
}

func TestOfABenchSheetThePortIsTheServices(t *testing.T) {
	for service, want := range map[string]string{"http://192.0.2.4/onvif": "80", "http://192.0.2.4:8080/onvif": "8080", "https://192.0.2.4/onvif": "443, over HTTPS", "https://192.0.2.4:8443/x": "8443", "HTTPS://192.0.2.4/": "443, over HTTPS", "": "80"} {
		if got := portOf(service); got != want {
			t.Errorf("%s: %s, want %s", service, got, want)
		}
	}
}

func TestADeadEntryIsNoPausedOne(t *testing.T) {
	p := Port{Linked: true, Address: "192.0.2.13"}
	for name, x := range map[string]struct {
		s    Slot
		dead bool
	}{
		"lost": {Slot{State: Lost}, true}, "refused": {Slot{State: Refused}, true}, "paused": {Slot{State: Paused}, false}, "told to be paused": {Slot{State: Lost, Paused: true}, false},
		"receiving": {Slot{State: Receiving}, false}, "connecting": {Slot{State: Connecting}, false}, "the same camera": {Slot{State: Lost, Address: "192.0.2.13"}, false},
	} {
		if got := DeadEntry(x.s, p); (got != "") != x.dead {
			t.Errorf("%s: %q", name, got)
		}
	}
}

// What a recorder says that it receives may be none that can be recorded.
func TestWhatIsReceivedIsJudged(t *testing.T) {
	at := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	for name, x := range map[string]struct {
		change func(*Facts, *Slot)
		code   string // empty: nothing is wrong
		sev    finding.Severity
	}{
		"well":                              {func(_ *Facts, s *Slot) { s.LastKey = at.Add(-time.Second) }, "", 0},
		"a lost packet in a thousand":       {func(_ *Facts, s *Slot) { s.Lost = 0.001 }, "", 0},
		"on the bound":                      {func(_ *Facts, s *Slot) { s.Lost = lostMost }, "", 0},
		"two in a hundred":                  {func(_ *Facts, s *Slot) { s.Lost = 0.02 }, "channel.loss", finding.Needs},
		"a third":                           {func(_ *Facts, s *Slot) { s.Lost = 0.35 }, "channel.loss", finding.Blocks},
		"a key frame an hour ago":           {func(_ *Facts, s *Slot) { s.LastKey = at.Add(-time.Hour) }, "channel.key", finding.Blocks},
		"by a clock that is an hour ahead":  {func(f *Facts, s *Slot) { f.Ahead, s.LastKey = time.Hour, at.Add(time.Hour-time.Second) }, "", 0},
		"by a clock that is an hour behind": {func(f *Facts, s *Slot) { f.Ahead, s.LastKey = -time.Hour, at.Add(-2*time.Hour) }, "channel.key", finding.Blocks},
		"its clock isn't known":             {func(f *Facts, s *Slot) { f.AheadKnown, s.LastKey = false, at.Add(-time.Hour) }, "", 0},
		"another stream":                    {func(_ *Facts, s *Slot) { s.Profile = "sub" }, "channel.stream", finding.Needs},
		"no profile told":                   {func(_ *Facts, s *Slot) { s.Profile = "" }, "", 0},
	} {
		r := &Recorder{Name: "Quay recorder", At: at, Slots: []Slot{{Number: 2, Name: "Slipway", Address: "192.0.2.11", State: Receiving, Profile: "main"}}}
		f := Facts{Address: "192.0.2.11", Recorder: r, Slot: &r.Slots[0], AheadKnown: true}
		x.change(&f, &r.Slots[0])
		got := Judge(at, f, Wishes{Name: "Slipway", Stream: "main", RecorderID: 3})
		if x.code == "" && len(got) > 0 || x.code != "" && (len(got) != 1 || got[0].Code != x.code || got[0].Severity != x.sev) {
			t.Errorf("%s: %+v, want %q", name, got, x.code)
		}
		changes := Propose(at, f, Wishes{Name: "Slipway", Stream: "main", RecorderID: 3})
		if (len(changes) == 1) != (x.code == "channel.stream") {
			t.Errorf("%s: %+v", name, changes)
		}
		if len(changes) == 1 {
			back, ok := changes[0].Inverse()
			if !ok || back.From != changes[0].To || back.Args["stream"] != "sub" || changes[0].From != "Slipway at 192.0.2.11, stream sub" {
				t.Errorf("%+v, undone %+v", changes[0], back)
			}
		}
	}
}

func TestNamesThatARecorderTakes(t *testing.T) {
	for _, x := range []struct {
		l    Limits
		name string
		ok   bool
	}{
		{Limits{}, "Überfahrt · 1", true}, {Limits{NameMax: 4}, "Böse", true}, {Limits{NameMax: 4}, "Fünf!", false}, {Limits{NameBytes: 4}, "Böse", false}, {Limits{NameBytes: 5}, "Böse", true},
		{Limits{NameChars: "A-Za-z0-9 _-"}, "Berth 1_ramp-2", true}, {Limits{NameChars: "A-Za-z0-9 _-"}, "Berth · 1", false}, {Limits{NameChars: "a-c"}, "abcd", false}, {Limits{NameChars: "a-c"}, "", true}, {Limits{NameChars: "-"}, "-", true},
	} {
		r := &Recorder{Name: "Quay recorder", Limits: x.l}
		r.Limits.Channels = 4
		if got := r.nameTrouble(x.name); (got == "") != x.ok {
			t.Errorf("%q by %+v: %q", x.name, x.l, got)
		}
		changes := Propose(moment.Now(), Facts{Address: "192.0.2.1", Recorder: r}, Wishes{Name: x.name, Stream: "main", RecorderID: 1})
		if (len(changes) == 1) != x.ok {
			t.Errorf("%q by %+v is proposed: %+v", x.name, x.l, changes)
		}
	}
}

// What goes with a channel that is taken out is said by how the recorder is spoken to.
func TestWhatGoesWithAChannel(t *testing.T) {
	for speech, says := range map[Speech]string{OwnInterface: "stays until it is written over", OverONVIF: "is deleted with it, at once and for good", BySheet: "isn't known"} {
		r := Recorder{Name: "Harbour desk", Speech: speech, Slots: []Slot{{Number: 1, Name: "Slipway", State: Receiving}}}
		c, ok := r.Out(3, 1)
		if !ok || !strings.Contains(c.Why, says) || !c.Removes {
			t.Errorf("%q: %+v", speech, c)
		}
		if speech == OverONVIF && !strings.Contains(c.Undo.Note, "recordings") {
			t.Errorf("%q: %+v", speech, c.Undo)
		}
	}
}

// A channel is retired only where another recorder, read now, receives it, may record it and keeps it.
func TestWhatMayBeRetired(t *testing.T) {
	always := recording.Always(recording.Mode{Name: "always", Idle: recording.Record, Event: recording.Record})
	never := recording.Always(recording.Mode{Name: "never", Idle: recording.Nothing, Event: recording.Nothing})
	deaf := recording.Always(recording.Mode{Name: "events", Idle: recording.Nothing, Event: recording.Record, Causes: []recording.Cause{recording.Motion}})
	well := Slot{State: Receiving, Recording: recording.Slot{Plan: &always}}
	with := func(f func(*Slot)) *Slot { s := well; f(&s); return &s }
	for name, x := range map[string]struct {
		s       *Slot
		trouble string
		cannot  []Act
		stays   bool
	}{
		"well": {&well, "", nil, false}, "nobody holds it": {nil, "", nil, true}, "silent now": {&well, "No answer.", nil, true},
		"lost": {with(func(s *Slot) { s.State = Lost }), "", nil, true}, "connecting": {with(func(s *Slot) { s.State = Connecting }), "", nil, true},
		"paused": {with(func(s *Slot) { s.Paused = true }), "", nil, true}, "unlicensed": {with(func(s *Slot) { s.Recording.Unlicensed = true }), "", nil, true},
		"keeps nothing": {with(func(s *Slot) { s.Recording.Plan = &never }), "", nil, true}, "waits for what doesn't reach it": {with(func(s *Slot) { s.Recording.Plan = &deaf }), "", nil, true},
		"its plan untold": {with(func(s *Slot) { s.Recording.Plan = nil }), "", nil, true}, "it has no plans": {with(func(s *Slot) { s.Recording.Plan = nil }), "", []Act{ActPlan}, false},
	} {
		if got := retires(Recorder{Name: "New", Cannot: x.cannot}, x.s, x.trouble); (got != "") != x.stays {
			t.Errorf("%s: %q", name, got)
		}
	}
}

// A view that another recorder holds than the one that it is planned for is told, with the way there.
func TestPlannedForAnother(t *testing.T) {
	held := Facts{Recorder: &Recorder{Name: "Quay recorder"}, Slot: &Slot{Number: 3}}
	to := &Recorder{Name: "Terminal recorder", Limits: Limits{Channels: 4}}
	got := Moves(held, Facts{Planned: to.Name, Recorder: to}, Wishes{Recorder: to.Name, Stream: "main"})
	if got.Severity != finding.Needs || !strings.Contains(got.Sentence, "Channel 3 of Quay recorder") || !strings.Contains(got.WayOut, "Move it there: Quay recorder lets it go once Terminal recorder receives it") {
		t.Errorf("%+v", got)
	}
	to.Slots = many(4, Slot{})
	if got = Moves(held, Facts{Planned: to.Name, Recorder: to}, Wishes{Recorder: to.Name, Stream: "main"}); !strings.Contains(got.WayOut, "all 4 IP channels are taken") {
		t.Errorf("%+v", got)
	}
}

// What a channel counts as: the stream that it asks for as it is declared, else what came of it before.
func TestPlacedAs(t *testing.T) {
	main := stream.Profile{Token: "main", Kbps: 4000, Width: 1920, Height: 1080, FPS: 25}
	before := Recorder{Slots: []Slot{{Number: 1, Address: "a", Profile: "x", Kbps: 900, Width: 640, Height: 360}, {Number: 2, Address: "a", Kbps: 7}}}
	for name, x := range map[string]struct {
		s    Slot
		want Figures
	}{
		"declared":        {Slot{Number: 1, Address: "a", Profile: "main"}, Figures{4000, 1920, 1080, 25}},
		"as before":       {Slot{Number: 1, Address: "a", Profile: "x"}, Figures{900, 640, 360, 0}},
		"another camera":  {Slot{Number: 1, Address: "b", Profile: "x"}, Figures{}},
		"another channel": {Slot{Number: 3, Address: "a", Profile: "x"}, Figures{}},
		"no profile":      {Slot{Number: 2, Address: "a"}, Figures{Kbps: 7}},
	} {
		if got := PlacedAs(x.s, before, []stream.Profile{main}); got != x.want {
			t.Errorf("%s: %+v, want %+v", name, got, x.want)
		}
	}
}

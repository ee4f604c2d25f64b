package channel

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/recording"
)

// four has four channels, the second taken.
func four() Recorder {
	return Recorder{Name: "Pier recorder", Limits: Limits{Channels: 4}, Slots: []Slot{{Number: 2, Name: "Slipway"}}}
}

func TestAChosenChannel(t *testing.T) {
	for number, want := range map[int]string{
		1: "", 4: "", // the first, and the bound
		2:  "Channel 2 of Pier holds Slipway: take that out first, or choose another.",
		0:  "Pier has channels 1 to 4 now.",
		-1: "Pier has channels 1 to 4 now.",
		5:  "Pier has channels 1 to 4 now.",
	} {
		if got := four().Chosen(number, "Pier"); got != want {
			t.Errorf("%d: %q, want %q", number, got, want)
		}
	}
	beyond := four() // one that holds something beyond what it has, as after a restart that took channels away
	beyond.Slots = append(beyond.Slots, Slot{Number: 7, Name: "Old slip"})
	if got := beyond.Chosen(7, "Pier"); !strings.Contains(got, "holds Old slip") {
		t.Errorf("%q", got)
	}
	if got := (Recorder{}).Chosen(1, "Nothing"); got != "Nothing has channels 1 to 0 now." {
		t.Errorf("a recorder that has none: %q", got)
	}
}

func TestSuccession(t *testing.T) {
	for _, tc := range []struct {
		old, numbers, order []int
	}{
		{nil, []int{}, []int{}},
		{[]int{1, 3}, []int{1, 3}, []int{0, 1}},
		{[]int{2, 3}, []int{1, 3}, []int{1, 0}},                   // the second is taken: who keeps its number goes first
		{[]int{12, 1}, []int{3, 1}, []int{1, 0}},                  // a number that it hasn't
		{[]int{1, 1}, []int{1, 3}, []int{0, 1}},                   // two of one number
		{[]int{9, 8, 7, 6}, []int{1, 3, 4, 0}, []int{0, 1, 2, 3}}, // one too many
	} {
		numbers, order := four().Succession(tc.old)
		if !slices.Equal(numbers, tc.numbers) || !slices.Equal(order, tc.order) {
			t.Errorf("%v: %v in order %v, want %v in order %v", tc.old, numbers, order, tc.numbers, tc.order)
		}
	}
}

// Whatever is taken over: no number twice, none that is taken, each once in the order, those that keep theirs first.
func TestSuccessionHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		rec := Recorder{Limits: Limits{Channels: 1 + r.IntN(8)}}
		for n := range rec.Limits.Channels {
			if r.IntN(3) == 0 {
				rec.Slots = append(rec.Slots, Slot{Number: n + 1})
			}
		}
		old := make([]int, r.IntN(6))
		for i := range old {
			old[i] = 1 + r.IntN(12)
		}
		numbers, order := rec.Succession(old)
		seen := map[int]bool{}
		for _, s := range rec.Slots {
			seen[s.Number] = true
		}
		for _, n := range numbers {
			if n != 0 && (seen[n] || n > rec.ChannelsNow()) {
				t.Fatalf("%v on %d channels with %v: %v", old, rec.ChannelsNow(), rec.Slots, numbers)
			}
			seen[n] = true
		}
		if sorted := slices.Sorted(slices.Values(order)); len(sorted) != len(old) || len(sorted) > 0 && sorted[len(sorted)-1] != len(old)-1 || len(slices.Compact(sorted)) != len(old) {
			t.Fatalf("%v in order %v", old, order)
		}
		lost := false
		for _, i := range order {
			if numbers[i] == old[i] && lost {
				t.Fatalf("%v: %v in order %v", old, numbers, order)
			}
			lost = lost || numbers[i] != old[i]
		}
	}
}

func TestWhoSucceeds(t *testing.T) {
	at := func(n int) []finding.Change {
		return []finding.Change{{Why: "It is taken over.", Args: map[string]string{"channel": fmt.Sprint(n)}}}
	}
	fit, planned := Wishes{Stream: "main", RecorderID: 7}, Facts{Planned: "Pier recorder", Recorder: &Recorder{Limits: Limits{Channels: 4}}}
	for _, tc := range []struct {
		name    string
		changes []finding.Change
		f       Facts
		w       Wishes
		why     string
		note    string
	}{
		{"its number is kept", at(2), planned, fit, "", "It is taken over."},
		{"its number is another", at(3), planned, fit, "", "It is taken over. Its number was 2 on Quay recorder, which Pier recorder hasn't free."},
		{"there is no room", nil, planned, fit, "those before it take the last channels", ""},
		{"none of its streams fits", nil, planned, Wishes{Unfit: true, RecorderID: 7}, "none of its streams is one that Pier recorder takes", ""},
	} {
		before := slices.Clone(tc.changes)
		got, why := Succeeds(tc.changes, tc.f, tc.w, 2, "Quay recorder", "Pier recorder")
		if why != tc.why || len(got) != len(tc.changes) || len(got) > 0 && got[0].Why != tc.note {
			t.Errorf("%s: %v, %q", tc.name, got, why)
		}
		if len(before) > 0 && tc.changes[0].Why != before[0].Why {
			t.Errorf("%s: what was given is changed", tc.name)
		}
	}
}

func TestRetire(t *testing.T) {
	always := recording.Plan{Modes: []recording.Mode{{Name: "always", Idle: recording.Record, Event: recording.Record}}}
	keeps := Slot{State: Receiving, Recording: recording.Slot{Plan: &always}}
	dark := keeps
	dark.State = "lost"
	pier := Recorder{Name: "Pier recorder"}
	slots := func(n ...int) (r Recorder) {
		for _, x := range n {
			r.Slots = append(r.Slots, Slot{Number: x, Name: fmt.Sprint("Berth ", x)})
		}
		return r
	}
	for _, tc := range []struct {
		name string
		old  Recorder
		by   []Succession
		out  int
		left []string
	}{
		{"it holds nothing", slots(), nil, 0, nil},
		{"one that nobody knows", slots(1), nil, 0, []string{"channel 1, Berth 1: it holds none of this site's cameras"}},
		{"one that nobody else holds", slots(1), []Succession{{1, nil}}, 0, []string{"channel 1, Berth 1: no other recorder holds it"}},
		{"one that is kept", slots(1), []Succession{{1, []Successor{{pier, keeps, ""}}}}, 1, nil},
		{"one that isn't received", slots(1), []Succession{{1, []Successor{{pier, dark, ""}}}}, 0, []string{"channel 1, Berth 1: Pier recorder doesn't receive it (lost)"}},
		{"one whose recorder is silent", slots(1), []Succession{{1, []Successor{{pier, keeps, "no answer"}}}}, 0, []string{"channel 1, Berth 1: Pier recorder can't be read now"}},
		{"the second of two keeps it", slots(1), []Succession{{1, []Successor{{pier, dark, ""}, {pier, keeps, ""}}}}, 1, nil},
		{"the first of two keeps it", slots(1), []Succession{{1, []Successor{{pier, keeps, ""}, {pier, dark, ""}}}}, 1, nil},
		{"both of two views are kept", slots(1), []Succession{{1, []Successor{{pier, keeps, ""}}}, {1, []Successor{{pier, keeps, ""}}}}, 1, nil},
		{"one of two views is kept", slots(1), []Succession{{1, []Successor{{pier, keeps, ""}}}, {1, []Successor{{pier, dark, ""}}}}, 0,
			[]string{"channel 1, Berth 1: Pier recorder doesn't receive it (lost)"}},
		{"the other of two views is kept", slots(1), []Succession{{1, nil}, {1, []Successor{{pier, keeps, ""}}}}, 0, []string{"channel 1, Berth 1: no other recorder holds it"}},
		{"one goes, one stays", slots(1, 2), []Succession{{1, []Successor{{pier, keeps, ""}}}, {2, nil}}, 1, []string{"channel 2, Berth 2: no other recorder holds it"}},
	} {
		out, left := tc.old.Retire(7, tc.by)
		if len(out) != tc.out || !slices.Equal(left, tc.left) {
			t.Errorf("%s: %d go, %q stay", tc.name, len(out), left)
		}
	}
}

func TestWhatABenchSheetWaitsFor(t *testing.T) {
	whole := Typing{Found: true, Opened: true, Streams: 2, Record: "main", ONVIF: true}
	for want, change := range map[string]func(*Typing){
		"":                        func(*Typing) {},
		"not found yet":           func(t *Typing) { *t = Typing{} },
		"no account opens it yet": func(t *Typing) { t.Opened = false },
		"streams not read yet":    func(t *Typing) { t.Streams, t.Record = 0, "" },
		"none of its streams is one that it takes": func(t *Typing) { t.Record = "" },
		"it speaks no ONVIF":                       func(t *Typing) { t.ONVIF = false },
	} {
		x := whole
		if change(&x); x.Waits() != want {
			t.Errorf("%+v: %q, want %q", x, x.Waits(), want)
		}
	}
}

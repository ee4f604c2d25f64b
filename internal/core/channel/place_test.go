package channel

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"duskyharbor/internal/testbed/moment"
)

// However many sources are placed together, no two get one channel, and no limit of the
// recorder is broken by them all.
func TestPlacedTogetherTheyFit(t *testing.T) {
	for range 300 {
		r := Recorder{Name: "Quay recorder", Limits: Limits{Channels: 1 + rand.Intn(12), MbitIn: float64(rand.Intn(40)),
			Licences: rand.Intn(12)}}
		for n := 1; n <= r.Limits.Channels; n++ {
			if rand.Intn(3) == 0 {
				r.Slots = append(r.Slots, Slot{Number: n, Address: fmt.Sprintf("192.0.2.%d", n), Kbps: float64(rand.Intn(4000))})
			}
		}
		before := len(r.Slots)
		var p Planner
		taken := map[string]bool{}
		for _, s := range r.Slots {
			taken[fmt.Sprint(s.Number)] = true
		}
		mbit, placed := 0.0, 0
		_, mbit = r.Used()
		for i := range 20 {
			kbps := 1 + rand.Intn(6000) // what isn't known isn't held against a limit
			out := p.Next(moment.Now(), Facts{Address: fmt.Sprintf("192.0.2.%d", 100+i), Recorder: &r},
				Wishes{RecorderID: 7, Stream: "main", Kbps: kbps, Channel: rand.Intn(14)})
			if len(out) == 0 {
				continue
			}
			n := out[0].Args["channel"]
			if taken[n] {
				t.Fatalf("channel %s is given twice", n)
			}
			taken[n] = true
			placed++
			mbit += float64(kbps) / 1000
		}
		total := before + placed
		if len(r.Slots) != before {
			t.Fatal("the table that was read is written")
		}
		if placed > 0 && (total > r.Limits.Channels || r.Limits.Licences > 0 && total > r.Limits.Licences || r.Limits.MbitIn > 0 && mbit > r.Limits.MbitIn+sumTolerance/1000.0+1e-9) {
			t.Fatalf("%d placed beside %d, %.1f Mbit/s: beyond %+v", placed, before, mbit, r.Limits)
		}
	}
	var p Planner
	if out := p.Next(moment.Now(), Facts{}, Wishes{RecorderID: 7}); out != nil {
		t.Errorf("placed on a recorder that wasn't read: %v", out)
	}
}

// A source goes on the channel that was proposed for it or on none, beside those before it; what keeps it
// off leaves the others' places as they were.
func TestOnTheChannelThatWasProposed(t *testing.T) {
	r := Recorder{Name: "Quay recorder", Limits: Limits{Channels: 4, Licences: 4, MbitIn: 10, Codecs: []string{"H264"}},
		Slots: []Slot{{Number: 2, Address: "192.0.2.2", Kbps: 2000}}}
	on := func(p *Planner, n, kbps int) (string, string) {
		changes, why := p.On(moment.Now(), Facts{Planned: r.Name, Address: fmt.Sprintf("192.0.2.%d", 100+n), Recorder: &r},
			Wishes{Recorder: r.Name, RecorderID: 7, Stream: "main", Kbps: kbps, Channel: n})
		if len(changes) == 0 {
			return "", why
		}
		return changes[0].Args["channel"], why
	}
	var p Planner
	for _, x := range []struct {
		n, kbps int
		says    string // empty: it is put there
	}{
		{1, 2000, ""},
		{1, 2000, "channel 1 of Quay recorder is taken"},
		{2, 2000, "channel 2 of Quay recorder is taken"},
		{5, 2000, "channel 5 of Quay recorder isn't there before its restart"},
		{3, 9000, "it takes 10 Mbit/s"},
		{3, 4000, ""},
		{4, 3000, "it takes 10 Mbit/s"}, // 2 + 2 + 4 are taken, with those before it
		{4, 2000, ""},
	} {
		got, why := on(&p, x.n, x.kbps)
		if x.says == "" && (got != fmt.Sprint(x.n) || why != "") || x.says != "" && (got != "" || !strings.Contains(why, x.says)) {
			t.Errorf("channel %d with %d kbit/s: %q, %q; want %q", x.n, x.kbps, got, why, x.says)
		}
	}
}

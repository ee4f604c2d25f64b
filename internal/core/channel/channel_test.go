package channel

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/testbed/moment"
)

func terminal(slots ...Slot) *Recorder {
	return &Recorder{Name: "Terminal recorder", Limits: Limits{Channels: 16, MbitIn: 80, Licences: 12,
		Codecs: []string{"H264"}}, Slots: slots}
}

var wish = Wishes{Recorder: "Terminal recorder", Channel: 2, Name: "Slipway", Stream: "main", Width: 1280, Height: 720, Kbps: 2048}

func TestPlaceAndJudge(t *testing.T) {
	now := moment.Now()
	free := Facts{Address: "127.40.1.11", Recorder: terminal()}
	if got := Judge(now, free, wish); len(got) != 1 || got[0].Code != "channel.unplaced" {
		t.Errorf("%+v", got)
	}
	c := Propose(now, free, wish)
	if len(c) != 1 || c[0].Args["channel"] != "2" || c[0].From != Empty || c[0].To != "Slipway at 127.40.1.11" {
		t.Fatalf("%+v", c)
	}
	held := func(change func(*Slot)) Facts {
		s := Slot{Number: 2, Name: "Slipway", Address: "127.40.1.11", State: "receiving", Codec: "H264", Width: 1280, Height: 720}
		change(&s)
		r := terminal(s)
		return Facts{Address: s.Address, Recorder: r, Slot: &r.Slots[0]}
	}
	for _, tc := range []struct {
		name string
		f    Facts
		code string
	}{
		{"well", held(func(*Slot) {}), ""},
		{"refused", held(func(s *Slot) { s.State, s.Detail = "refused", "ter:NotAuthorized" }), "channel.refused"},
		{"lost", held(func(s *Slot) { s.State = "lost" }), "channel.lost"},
		{"connecting", held(func(s *Slot) { s.State = "connecting" }), "channel.connecting"},
		{"other size", held(func(s *Slot) { s.Width = 640 }), "channel.size"},
		{"other name", held(func(s *Slot) { s.Name = "CAM 1" }), "channel.name"},
		{"recorder silent", Facts{Trouble: "No answer."}, "channel.recorder"},
	} {
		got := Judge(now, tc.f, wish)
		if tc.code == "" && len(got) != 0 || tc.code != "" && (len(got) != 1 || got[0].Code != tc.code) {
			t.Errorf("%s: %+v, want %q", tc.name, got, tc.code)
		}
		if all := Propose(now, tc.f, wish); slices.ContainsFunc(all, func(c finding.Change) bool { return c.Kind == Place }) {
			t.Errorf("%s: a held source is placed again: %+v", tc.name, all)
		}
	}
}

// Filled one after another by what Propose says, a recorder never holds more than
// its limits, and when it takes no more, the limit is named.
func TestPlacingNeverBreaksALimit(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 4))
	for range 200 {
		r := terminal()
		r.Limits = Limits{Channels: 1 + rnd.IntN(20), Licences: rnd.IntN(20), MbitIn: float64(rnd.IntN(60))}
		for i := range 30 {
			w := Wishes{Name: "x", Stream: "main", Kbps: 500 + rnd.IntN(8000), Channel: rnd.IntN(25)}
			f := Facts{Address: string(rune('a' + i)), Recorder: r}
			changes := Propose(time.Time{}, f, w)
			if len(changes) == 0 {
				if r.Binds(w.Kbps, w.Width*w.Height) == "" {
					t.Fatalf("not placed though nothing binds: %+v", r)
				}
				if j := Judge(time.Time{}, f, w); len(j) != 1 || !strings.Contains(j[0].Sentence, r.Binds(w.Kbps, w.Width*w.Height)) {
					t.Fatalf("the limit isn't named: %+v", j)
				}
				continue
			}
			r.Slots = append(r.Slots, Slot{Number: r.Free(w.Channel), Address: f.Address, Kbps: float64(w.Kbps)})
		}
		used, mbit := r.Used()
		numbers := map[int]bool{}
		for _, s := range r.Slots {
			if numbers[s.Number] || s.Number < 1 || s.Number > r.Limits.Channels {
				t.Fatalf("channel %d is doubled or isn't there", s.Number)
			}
			numbers[s.Number] = true
		}
		if used > r.Limits.Channels || r.Limits.Licences > 0 && used > r.Limits.Licences || r.Limits.MbitIn > 0 && mbit > r.Limits.MbitIn {
			t.Fatalf("limits broken: %d channels, %.1f Mbit/s of %+v", used, mbit, r.Limits)
		}
	}
}

// A channel that asks for another stream than was wanted doesn't read as wanted.
func TestReadText(t *testing.T) {
	s := Slot{Name: "Slipway", Address: "127.40.1.11", Profile: "main"}
	for wanted, want := range map[string]string{"main": SlotText(s.Name, s.Address), "": SlotText(s.Name, s.Address),
		"sub": "Slipway at 127.40.1.11, stream main"} {
		if got := ReadText(s, wanted); got != want {
			t.Errorf("wanted %q: %q", wanted, got)
		}
	}
	if s.Profile = ""; ReadText(s, "sub") != SlotText(s.Name, s.Address) {
		t.Error("a recorder that doesn't tell the stream is taken to ask for another")
	}
}

// A channel of another name gets the place's by one change; one that is too long isn't written, and
// nothing is proposed once both are the same.
func TestOneNameEverywhere(t *testing.T) {
	r := terminal(Slot{Number: 2, Name: "CAM 02", Address: "127.40.1.11", State: Receiving})
	r.Limits.NameMax = 12
	f := Facts{Recorder: r, Slot: &r.Slots[0]}
	got := Propose(moment.Now(), f, Wishes{Name: "Slipway", Stream: "main"})
	if len(got) != 1 || got[0].Kind != Rename || got[0].From != "CAM 02" || got[0].To != "Slipway" {
		t.Fatalf("%+v", got)
	}
	if back, ok := got[0].Inverse(); !ok || back.Args["name"] != "CAM 02" || back.To != "CAM 02" {
		t.Errorf("undo: %+v", back)
	}
	if all := Judge(moment.Now(), f, Wishes{Name: "Slipway"}); len(all) != 1 || all[0].Code != "channel.name" {
		t.Errorf("%+v", all)
	}
	long := Wishes{Name: "Weather deck stair", Stream: "main"}
	if all := Judge(moment.Now(), f, long); len(all) != 1 || all[0].Code != "channel.name-long" || len(Propose(moment.Now(), f, long)) != 0 {
		t.Errorf("%+v", all)
	}
	if all := Judge(moment.Now(), Facts{Recorder: r}, long); len(all) != 1 || all[0].Severity != finding.Blocks || len(Propose(moment.Now(), Facts{Recorder: r}, long)) != 0 {
		t.Errorf("%+v", all)
	}
	if all := Propose(moment.Now(), f, Wishes{Name: "CAM 02", Stream: "main"}); len(all) != 0 {
		t.Errorf("%+v", all)
	}
}

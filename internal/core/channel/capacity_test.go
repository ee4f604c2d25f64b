package channel

import (
	"math/rand/v2"
	"strings"
	"testing"

	"duskyharbor/internal/core/finding"
)

// hybrid is a recorder of eight analog inputs and two IP channels; those of on have a picture.
func hybrid(off int, signal ...int) Recorder {
	r := Recorder{Name: "Quay recorder", Limits: Limits{Channels: 10, Capacity: Capacity{Base: 2, Gain: 1, Most: 10}, RestartFor: 6}}
	for n := 1; n <= 8; n++ {
		a := Analog{Number: n, On: n > off, Next: n > off}
		for _, s := range signal {
			a.Signal = a.Signal || s == n
		}
		r.Analog = append(r.Analog, a)
	}
	return r
}

func filled(r Recorder, n int) Recorder {
	for i := range n {
		r.Slots = append(r.Slots, Slot{Number: i + 1, Width: 1280, Height: 720})
	}
	return r
}

func TestCapacity(t *testing.T) {
	c := Capacity{Base: 2, Gain: 1, Most: 10}
	for off, want := range map[int]int{-1: 2, 0: 2, 3: 5, 8: 10, 20: 10} {
		if got := c.Of(off); got != want {
			t.Errorf("with %d off there are %d, want %d", off, got, want)
		}
	}
	r := hybrid(3)
	if r.ChannelsNow() != 5 || r.Free(7) != 1 || filled(r, 5).Free(0) != 0 {
		t.Errorf("%d channels, %d free", r.ChannelsNow(), r.Free(7))
	}
	r.Analog[5].Next = false
	if r.ChannelsNow() != 5 || r.ChannelsNext() != 6 || len(r.Pending()) != 1 || r.WaitText() != Waiting {
		t.Errorf("%d now, %d next, %+v wait", r.ChannelsNow(), r.ChannelsNext(), r.Pending())
	}
	if plain := (Recorder{Limits: Limits{Channels: 16}}); plain.ChannelsNow() != 16 || plain.ChannelsNext() != 16 || plain.Hybrid() || plain.WaitText() != NothingLeft {
		t.Error("a recorder without analog inputs has its channels")
	}
}

// Any one row that holds is enough.
func TestTables(t *testing.T) {
	l := Limits{Tables: []Table{{6, 8}, {12, 4}}}
	sizes := func(n int, mp float64) (out []float64) {
		for range n {
			out = append(out, mp)
		}
		return out
	}
	for _, x := range []struct {
		sizes []float64
		holds bool
	}{{nil, true}, {sizes(6, 8), true}, {sizes(7, 8), false}, {sizes(12, 4), true}, {sizes(13, 1), false}, {append(sizes(6, 4), 8), false}, {append(sizes(5, 4), 8), true}, {sizes(6, 3840*2160/1e6), true}, {sizes(12, 2688*1520/1e6), true}, {sizes(6, 8.4), true}, {sizes(1, 8.41), false}, {sizes(12, 4.2), true}, {sizes(12, 4.21), false}} {
		if got := l.Fits(x.sizes); (got == "") != x.holds {
			t.Errorf("%v: %q", x.sizes, got)
		}
	}
	if (Limits{}).Fits(sizes(99, 99)) != "" {
		t.Error("a recorder that tells no tables is bound by none")
	}
	r := filled(Recorder{Name: "x", Limits: Limits{Channels: 16, Licences: 16, Tables: []Table{{2, 8}, {4, 1}}}}, 2)
	if got := r.Binds(1000, 4096*2160); !strings.Contains(got, "2 of 8 megapixels or 4 of 1 megapixels") {
		t.Errorf("%q", got)
	}
}

// Room switches off no input with a picture and none more than needed, asks for one restart, and
// what it gives holds what was asked less what it says is missing.
func TestRoom(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 2000 {
		off := r.IntN(9)
		var signal []int
		for n := off + 1; n <= 8; n++ {
			if r.IntN(3) == 0 {
				signal = append(signal, n)
			}
		}
		rec := hybrid(off, signal...)
		rec = filled(rec, r.IntN(rec.ChannelsNow()+1))
		if off < 8 && r.IntN(4) == 0 {
			rec.Analog[7].Next = false
		}
		more := r.IntN(13)
		changes, missing := rec.Room(5, more)
		after, restarts := rec, 0
		after.Analog = append([]Analog(nil), rec.Analog...)
		for i, c := range changes {
			switch c.Kind {
			case RestartIt:
				restarts++
				if i != len(changes)-1 || c.Risk != finding.Restart {
					t.Fatalf("the restart isn't the last: %+v", changes)
				}
			case SwitchInput:
				for k := range after.Analog {
					if c.Args["input"] == string(rune('0'+after.Analog[k].Number)) {
						if after.Analog[k].Signal || !after.Analog[k].Next {
							t.Fatalf("input %d is switched off: %+v", k+1, after.Analog[k])
						}
						after.Analog[k].Next = false
					}
				}
			}
		}
		need := len(rec.Slots) + more
		if after.ChannelsNext() < need-missing || missing > 0 && len(after.Spare()) > 0 {
			t.Fatalf("%d needed, %d after it, %d missing, %d to spare", need, after.ChannelsNext(), missing, len(after.Spare()))
		}
		if restarts > 1 || need <= rec.ChannelsNow() && len(changes) > 0 {
			t.Fatalf("%d needed of %d: %+v", need, rec.ChannelsNow(), changes)
		}
		if n := len(changes) - restarts; n > 0 && (restarts != 1 || after.ChannelsNext() > need) {
			t.Fatalf("%d switched off, %d restarts, %d channels for %d", n, restarts, after.ChannelsNext(), need)
		}
	}
}

func TestRoomyIsNeverMoreThanTheInputsThatAreSpare(t *testing.T) {
	for _, x := range []struct {
		rec                              Recorder
		taking, lacking, wantRoomy, more int
	}{
		{hybrid(2), 4, 1, 1, 5},
		{hybrid(2), 4, 9, 6, 10},
		{hybrid(2, 3, 4, 5, 6, 7, 8), 4, 2, 0, 4}, // a picture on each that is on
		{hybrid(8), 10, 1, 0, 10},
		{hybrid(2), 4, 0, 0, 4},
		{Recorder{Limits: Limits{Channels: 2}}, 2, 3, 0, 2},
	} {
		if roomy, more := x.rec.Roomy(x.taking, x.lacking); roomy != x.wantRoomy || more != x.more {
			t.Errorf("%d take, %d lack: %d and %d, want %d and %d", x.taking, x.lacking, roomy, more, x.wantRoomy, x.more)
		}
	}
	if Lacks(Facts{}, Wishes{Stream: "main"}) || Lacks(Facts{Recorder: &Recorder{}}, Wishes{}) || !Lacks(Facts{Recorder: &Recorder{}}, Wishes{Stream: "main"}) {
		t.Error("who lacks a channel has a stream, and a recorder that was read")
	}
}

func TestSwitchingAnInputWithAPictureSaysSo(t *testing.T) {
	r := hybrid(0, 1)
	r.Analog[0].Name = "Ice house door"
	c, ok := r.Switch(5, 1, false)
	if !ok || c.From != inputOn || c.To != inputOff || !strings.Contains(c.Why, "Ice house door") {
		t.Errorf("%+v", c)
	}
	if back, ok := c.Inverse(); !ok || back.Args["on"] != "true" || back.To != inputOn {
		t.Errorf("undo: %+v", back)
	}
	if _, ok := r.Switch(5, 1, true); ok {
		t.Error("what is on is switched on")
	}
	if _, ok := r.Switch(5, 9, false); ok {
		t.Error("there is no such input")
	}
}

// A channel that is kept for what hangs on an own port is nobody else's, whether something holds it or not.
func TestRoomCountsWhatIsKept(t *testing.T) {
	kept := []Port{{Number: 3, Linked: true, Channel: 3}}
	for _, x := range []struct {
		name  string
		slots []int
		ports []Port
		more  int
		want  int // inputs that are switched off
	}{
		{"a free channel is enough", []int{1, 2, 4}, nil, 1, 0},
		{"the free one is kept", []int{1, 2, 4}, kept, 1, 1},
		{"it holds what it is kept for", []int{1, 2, 3}, kept, 1, 0},
		{"nothing hangs on that port", []int{1, 2, 4}, []Port{{Number: 3, Channel: 3}}, 1, 0},
		{"kept beyond the channels that there are", []int{1, 2, 4}, []Port{{Number: 3, Linked: true, Channel: 9}}, 1, 0},
	} {
		rec := hybrid(2)
		for _, n := range x.slots {
			rec.Slots = append(rec.Slots, Slot{Number: n})
		}
		rec.Ports = x.ports
		changes, missing := rec.Room(5, x.more)
		if n := max(0, len(changes)-1); n != x.want || missing != 0 {
			t.Errorf("%s: %+v, %d missing", x.name, changes, missing)
		}
	}
}

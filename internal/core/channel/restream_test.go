package channel

import (
	"testing"

	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stream"
)

// What a recorder makes of other streams is told by each limit that is used otherwise, and by the days that it keeps.
func TestWhatARecorderMakesOfOtherStreams(t *testing.T) {
	plan := recording.Always(recording.Mode{Name: "always", Idle: recording.Record, Event: recording.Record})
	rate := recording.Rate{Record: 4000, View: 500, Keys: 900}
	slot := Slot{Number: 3, State: Receiving, Codec: "H264", Width: 1280, Height: 720, FPS: 20, Kbps: 4000,
		Recording: recording.Slot{Plan: &plan, Rates: recording.Rates{Day: rate, Night: rate}}}
	other := slot
	other.Number = 4
	// 8,000 kbit/s make 86.4 GB a day.
	r := Recorder{Limits: Limits{Channels: 8, MbitIn: 9}, Slots: []Slot{slot, other}, Storage: recording.Storage{Usable: 86.4e9 * 20}}
	hd, small := stream.Size{Width: 1280, Height: 720}, stream.Size{Width: 640, Height: 360}
	of := func(role stream.Role, size stream.Size, f stream.Forecast) Restream {
		x := Restream{Channel: 3}
		x.Join(role, stream.Encoder{Codec: "H264", Size: size, FPS: 20, Kbps: 4096}, f)
		return x
	}
	placed := r
	placed.Slots = []Slot{slot, other}
	placed.Slots[0].As = Figures{Kbps: 4096, Width: 1280, Height: 720}
	full := r
	full.Storage.Usable = 0
	for _, x := range []struct {
		name string
		r    Recorder
		all  []Restream
		want string
	}{
		{"half", r, []Restream{of(stream.Record, hd, stream.Forecast{Rest: .5, Keys: .5})}, "Quay: Mbit/s in 6.0 of 9 instead of 8.0; keeps 26 days instead of 20 days."},
		{"half again", r, []Restream{of(stream.Record, hd, stream.Forecast{Rest: 1.5, Keys: 1.5})}, "Quay: Mbit/s in 10.0 of 9 instead of 8.0, more than it takes; keeps 16 days instead of 20 days."},
		{"at most", r, []Restream{of(stream.Record, small, stream.Forecast{Cap: 6000, Unknown: true})},
			"Quay: Mbit/s in 10.0 of 9 instead of 8.0, more than it takes; keeps 16 days or more, 20 days now: how much less comes isn't known before it is measured."},
		{"not known", r, []Restream{of(stream.Record, small, stream.Forecast{Unknown: true})},
			"Quay: for how many days it keeps isn't known before it is measured; 20 days now."},
		{"the same", r, []Restream{of(stream.Record, hd, stream.Forecast{Rest: 1, Keys: 1})}, "Quay: it takes and keeps as much as now."},
		{"what it doesn't keep", r, []Restream{of(stream.View, small, stream.Forecast{Rest: 2, Keys: 1})}, "Quay: it takes and keeps as much as now."},
		{"what it was placed as counts on", placed, []Restream{of(stream.Record, small, stream.Forecast{Rest: .5, Keys: .5})}, "Quay: keeps 26 days instead of 20 days."},
		{"room not told", full, []Restream{of(stream.Record, hd, stream.Forecast{Rest: .5, Keys: .5})}, "Quay: Mbit/s in 6.0 of 9 instead of 8.0."},
		{"a channel that is gone", r, []Restream{{Channel: 9}}, "Quay: it takes and keeps as much as now."},
		{"two", r, []Restream{of(stream.Record, hd, stream.Forecast{Rest: .5, Keys: .5}), func() Restream {
			x := of(stream.Record, hd, stream.Forecast{Rest: .5, Keys: .5})
			x.Channel = 4
			return x
		}()},
			"Quay: Mbit/s in 4.0 of 9 instead of 8.0; keeps 40 days instead of 20 days."},
	} {
		if got := Makes("Quay", x.r, x.all, 0.1); got != x.want {
			t.Errorf("%s:\n%s, want\n%s", x.name, got, x.want)
		}
	}
}

package channels

import (
	"testing"

	"duskyharbor/internal/core/channel"
)

// A recorder of 256 channels is drawn whole, what is free of it folded away.
func TestAllChannelsAreDrawn(t *testing.T) {
	for _, n := range []int{1, 64, 100, 256} {
		d := channelsData{Status: &channel.Recorder{Limits: channel.Limits{Channels: n}, Slots: []channel.Slot{{Number: n, Name: "last"}}}}
		d.fill(nil, map[string]string{"1": "Slipway"})
		if len(d.Slots)+len(d.Spare) != n || d.Slots[len(d.Slots)-1].Slot == nil || d.Slots[len(d.Slots)-1].Slot.Name != "last" {
			t.Errorf("%d and %d of %d channels are drawn", len(d.Slots), len(d.Spare), n)
		}
		if len(d.Slots) > freeShown+2 {
			t.Errorf("%d channels stand before what can be done", len(d.Slots))
		}
		if n > 1 && d.Slots[0].Coming != "Slipway" {
			t.Error("who is proposed isn't drawn")
		}
	}
}

package channels

import (
	"testing"

	"duskyharbor/internal/core/channel"
)

// A recorder of 256 channels is drawn whole.
func TestAllChannelsAreDrawn(t *testing.T) {
	for _, n := range []int{1, 64, 100, 256} {
		d := channelsData{Status: &channel.Recorder{Limits: channel.Limits{Channels: n}, Slots: []channel.Slot{{Number: n, Name: "last"}}}}
		d.fill(nil, map[string]string{"1": "Slipway"})
		if len(d.Slots) != n || d.Slots[n-1].Slot == nil || d.Slots[n-1].Slot.Name != "last" {
			t.Errorf("%d of %d channels are drawn", len(d.Slots), n)
		}
		if n > 1 && d.Slots[0].Coming != "Slipway" {
			t.Error("who is proposed isn't drawn")
		}
	}
}

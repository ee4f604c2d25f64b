package channel

import "testing"

func TestWhoHoldsACamera(t *testing.T) {
	var h Holders
	if _, ok := h.Of("192.0.2.7", 0); ok {
		t.Error("nobody knows anything, and somebody holds it")
	}
	h.Add(1, &Recorder{Slots: []Slot{{Number: 4, Address: "192.0.2.7"}, {Number: 5, Address: ""}}})
	h.Add(2, &Recorder{Slots: []Slot{{Number: 1, Address: "192.0.2.7"}, {Number: 2, Address: "192.0.2.8"}}})
	for _, tc := range []struct {
		address  string
		planned  int64
		recorder int64
		slot     int
		ok       bool
	}{
		{"192.0.2.7", 0, 1, 4, true}, // the first that was added
		{"192.0.2.7", 2, 1, 4, true}, // what is goes before what is planned
		{"192.0.2.8", 1, 2, 2, true},
		{"192.0.2.9", 2, 2, 0, true},
		{"192.0.2.9", 0, 0, 0, false},
		{"", 2, 2, 0, true}, // an empty entry holds nobody
		{"", 0, 0, 0, false},
	} {
		got, ok := h.Of(tc.address, tc.planned)
		number := 0
		if got.Slot != nil {
			number = got.Slot.Number
		}
		if ok != tc.ok || got.Recorder != tc.recorder || number != tc.slot {
			t.Errorf("%q planned for %d: recorder %d slot %d %v, want %d %d %v", tc.address, tc.planned, got.Recorder, number, ok, tc.recorder, tc.slot, tc.ok)
		}
	}
}

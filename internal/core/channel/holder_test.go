package channel

import "testing"

func TestWhoHoldsACamera(t *testing.T) {
	var h Holders
	if _, ok := h.Of(SourceProfiles{Address: "192.0.2.7", First: true}, 0); ok {
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
		{"192.0.2.7", 3, 1, 4, true}, // what is goes before what is planned
		{"192.0.2.7", 2, 2, 1, true}, // of two that hold it the planned one
		{"192.0.2.8", 1, 2, 2, true},
		{"192.0.2.9", 2, 2, 0, true},
		{"192.0.2.9", 0, 0, 0, false},
		{"", 2, 2, 0, true}, // an empty entry holds nobody
		{"", 0, 0, 0, false},
	} {
		got, ok := h.Of(SourceProfiles{Address: tc.address, First: true}, tc.planned)
		number := 0
		if got.Slot != nil {
			number = got.Slot.Number
		}
		if ok != tc.ok || got.Recorder != tc.recorder || number != tc.slot {
			t.Errorf("%q planned for %d: recorder %d slot %d %v, want %d %d %v", tc.address, tc.planned, got.Recorder,
				number, ok, tc.recorder, tc.slot, tc.ok)
		}
	}
}

// Views of one device are told apart by the profile that a slot asks for.
func TestWhichViewASlotHolds(t *testing.T) {
	first := SourceProfiles{Address: "192.0.2.7", First: true, Own: []string{"p1", "p1s"}, Others: []string{"p3"}}
	third := SourceProfiles{Address: "192.0.2.7", Own: []string{"p3"}, Others: []string{"p1", "p1s"}}
	for _, tc := range []struct {
		profile      string
		first, third bool
	}{
		{"p1", true, false}, {"p1s", true, false}, {"p3", false, true},
		{"", true, false},     // the recorder doesn't tell
		{"gone", true, false}, // nobody knows that profile
	} {
		s := Slot{Number: 1, Address: "192.0.2.7", Profile: tc.profile}
		if first.Shows(s) != tc.first || third.Shows(s) != tc.third {
			t.Errorf("%q: %v %v", tc.profile, first.Shows(s), third.Shows(s))
		}
		if s.Address = "192.0.2.8"; first.Shows(s) || third.Shows(s) {
			t.Errorf("%q: another device's slot", tc.profile)
		}
	}
	var h Holders
	h.Add(1, &Recorder{Slots: []Slot{{Number: 4, Address: "192.0.2.7", Profile: "p1"}}})
	h.Add(2, &Recorder{Slots: []Slot{{Number: 9, Address: "192.0.2.7", Profile: "p3"}}})
	if got, ok := h.Of(third, 1); !ok || got.Recorder != 2 || got.Slot.Number != 9 {
		t.Errorf("%+v %v", got, ok)
	}
	if got, ok := h.Of(first, 2); !ok || got.Recorder != 1 || got.Slot.Number != 4 {
		t.Errorf("%+v %v", got, ok)
	}
}

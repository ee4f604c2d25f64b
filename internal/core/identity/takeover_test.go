package identity

import (
	"net/netip"
	"testing"

	"duskyharbor/internal/core/netplan"
)

func TestWhoMayTakeOver(t *testing.T) {
	place := Known{Place: "Signal mast", Kind: Camera, Expected: true}
	stranger, listed, rec := Known{Place: "127.40.250.64", Kind: Camera}, Known{Place: "Slipway", Kind: Camera,
		Expected: true}, Known{Place: "Quay recorder", Kind: Recorder}
	for _, tc := range []struct {
		name     string
		place    Known
		newcomer *Known
		answers  bool
		outcome  Outcome
		may      bool
	}{
		{"a stranger", place, &stranger, true, Unexpected, true},
		{"a silent stranger", place, &stranger, false, Unexpected, false},
		{"one of the list", place, &listed, true, Matched, false},
		{"a recorder", place, &rec, true, Unexpected, false},
		{"a recorder's place", rec, &stranger, true, Unexpected, false},
		{"another at its address", place, nil, true, Doubtful, true},
		{"itself", place, nil, true, Matched, false},
		{"nobody at its address", place, nil, false, Doubtful, false},
	} {
		if why := MayTakeOver(tc.place, tc.newcomer, tc.answers, tc.outcome); (why == "") != tc.may {
			t.Errorf("%s: %q, want may: %v", tc.name, why, tc.may)
		}
	}
}

func TestIsSame(t *testing.T) {
	k := Known{UUID: "a", MAC: "b", Serial: "c"}
	for _, tc := range []struct {
		s    Sighting
		want bool
	}{
		{Sighting{UUID: "a"}, true}, {Sighting{UUID: "a", MAC: "b"}, true}, {Sighting{UUID: "x"}, false},
		{Sighting{UUID: "x", MAC: "b"}, false}, // one against one is no proof
		{Sighting{}, false}, {Sighting{UUID: "x", MAC: "b", Serial: "c"}, true},
	} {
		if got := IsSame(k, tc.s); got != tc.want {
			t.Errorf("%+v: %v, want %v", tc.s, got, tc.want)
		}
	}
}

func TestAnOccupiedAddress(t *testing.T) {
	k, to := Known{UUID: "a"}, addr("127.40.1.28")
	for _, tc := range []struct {
		who     Sighting
		answers bool
		free    bool
	}{{Sighting{}, false, true}, {Sighting{UUID: "a"}, true, true}, {Sighting{UUID: "b"}, true,
		false}, {Sighting{Ports: []int{80}}, true, false}} {
		if why := Occupied(k, to, tc.who, tc.answers); (why == "") != tc.free {
			t.Errorf("%+v %v: %q", tc.who, tc.answers, why)
		}
	}
	outside := Facts{}
	network := netplan.Network{Prefix: netip.MustParsePrefix("127.40.1.0/24")}
	if m := MoveTo(outside, to, network); m == nil || m.Address != to || m.Bits != 24 || m.Gateway != addr("127.40.1.1") {
		t.Errorf("a free place: %+v", m)
	}
	for name, f := range map[string]Facts{"taken": {Taken: "Slipway"}, "inside": {Inside: true}} {
		if m := MoveTo(f, to, network); m != nil {
			t.Errorf("%s: moved to %v", name, m)
		}
	}
	if m := MoveTo(outside, addr("127.40.1.255"), network); m != nil {
		t.Errorf("onto the broadcast address: %v", m)
	}
}

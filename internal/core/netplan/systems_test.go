package netplan

import "testing"

func TestPortsSay(t *testing.T) {
	for _, tc := range []struct {
		open    []int
		want    string
		answers bool
	}{
		{nil, "none of the ports that are looked at answers", false},
		{[]int{80}, "port 80 answers", true},
		{[]int{8080, 80}, "ports 80, 8080 answer", true},
	} {
		if says, answers := PortsSay(tc.open); says != tc.want || answers != tc.answers {
			t.Errorf("%v: %q %v", tc.open, says, answers)
		}
	}
	for _, k := range SystemKinds() {
		if !k.Valid() || k.String() == string(k) {
			t.Errorf("%q is called %q", string(k), k)
		}
	}
	if SystemKind("camera").Valid() {
		t.Error("a camera is no system")
	}
}

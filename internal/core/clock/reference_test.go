package clock

import (
	"testing"
	"time"
)

func TestReference(t *testing.T) {
	r := &Reading{Offset: Offset{Low: time.Second, High: 2 * time.Second}}
	for _, tc := range []struct {
		name string
		h    Holder
		want Reference
	}{
		{"nobody", Holder{}, Reference{Name: "this server", Why: Nobody}},
		{"planned, never read", Holder{ID: 3, Name: "Quay recorder", NTP: "192.0.2.5"}, Reference{Name: "this server", Why: Nobody}},
		{"planned", Holder{ID: 3, Name: "Quay recorder", Reading: r},
			Reference{ID: 3, Name: "Quay recorder", Offset: r.Offset, Why: Planned}},
		{"holds it", Holder{ID: 3, Name: "Quay recorder", Reading: r, Holds: true, NTP: "192.0.2.5", Dates: "dd/MM/yyyy"},
			Reference{ID: 3, Name: "Quay recorder", Offset: r.Offset, Why: Holds, Address: "192.0.2.5", Dates: "dd/MM/yyyy"}},
	} {
		if got := ReferenceOf(tc.h); got != tc.want {
			t.Errorf("%s: %+v, want %+v", tc.name, got, tc.want)
		}
	}
}

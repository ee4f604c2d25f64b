package expected

import (
	"net/netip"
	"slices"
	"testing"
)

func TestWhichCameraARowIsAbout(t *testing.T) {
	at := netip.MustParseAddr
	known := []Camera{
		{1, "Slipway", "02:0d:05:00:00:01", []netip.Addr{at("127.40.1.11")}},
		{2, "Net loft", "", []netip.Addr{at("127.40.1.18"), at("127.40.1.80")}},
		{3, "Net loft", "", nil}, // of one place: the first counts
	}
	for _, tc := range []struct {
		name string
		rows []Row
		want []int64
	}{
		{"by MAC, before place and address", []Row{{Place: "Net loft", MAC: "02:0d:05:00:00:01", Address: at("127.40.1.18")}}, []int64{1}},
		{"by address, before place", []Row{{Place: "Slipway", Address: at("127.40.1.80")}}, []int64{2}},
		{"by place", []Row{{Place: "Net loft"}}, []int64{2}},
		{"a new one", []Row{{Place: "Crane"}, {Place: "", MAC: ""}}, []int64{0, 0}},
		{"nobody is taken twice", []Row{{Place: "Slipway"}, {Place: "Slipway"},
			{Place: "Net loft", MAC: "02:0d:05:00:00:01"}}, []int64{1, 0, 2}},
	} {
		if got := Match(tc.rows, known); !slices.Equal(got, tc.want) {
			t.Errorf("%s: %v, want %v", tc.name, got, tc.want)
		}
	}
}

package expected

import (
	"net/netip"
	"slices"
	"testing"
)

func TestWhichCameraARowIsAbout(t *testing.T) {
	at := netip.MustParseAddr
	known := []Camera{
		{1, 10, "Slipway", "02:0d:05:00:00:01", []netip.Addr{at("127.40.1.11")}, 0},
		{2, 20, "Net loft", "", []netip.Addr{at("127.40.1.18"), at("127.40.1.80")}, 0},
		{3, 30, "Net loft", "", nil, 0}, // of one place: the first counts
		{4, 40, "Shed", "", []netip.Addr{at("127.40.2.22")}, 1},
		{5, 40, "Shed · 3", "", []netip.Addr{at("127.40.2.22")}, 3},
	}
	for _, tc := range []struct {
		name string
		rows []Row
		want []About
	}{
		{"by MAC, before place and address", []Row{{Place: "Net loft", MAC: "02:0d:05:00:00:01", Address: at("127.40.1.18")}}, []About{{1, 10, -1}}},
		{"by address, before place", []Row{{Place: "Slipway", Address: at("127.40.1.80")}}, []About{{2, 20, -1}}},
		{"by place", []Row{{Place: "Net loft"}}, []About{{2, 20, -1}}},
		{"a new one", []Row{{Place: "Crane"}, {Place: "", MAC: ""}}, []About{{0, 0, -1}, {0, 0, -1}}},
		{"nobody is taken twice", []Row{{Place: "Slipway"}, {Place: "Slipway"},
			{Place: "Net loft", MAC: "02:0d:05:00:00:01"}}, []About{{1, 10, -1}, {0, 0, -1}, {2, 20, -1}}},
		{"of its input, wherever it stands", []Row{{Place: "Shed, back", Address: at("127.40.2.22"), Input: 3}, {Place: "Shed, front", Address: at("127.40.2.22"), Input: 1}},
			[]About{{5, 40, -1}, {4, 40, -1}}},
		{"an input that isn't enrolled is a further view", []Row{{Place: "Shed, side", Address: at("127.40.2.22"), Input: 2}}, []About{{0, 40, -1}}},
		{"no input said: at its place, else the first", []Row{{Place: "Shed · 3", Address: at("127.40.2.22")}, {Place: "Elsewhere", Address: at("127.40.2.22")}},
			[]About{{5, 40, -1}, {4, 40, -1}}},
		{"inputs of one that is known whole", []Row{{Place: "Loft 2", Address: at("127.40.1.18"), Input: 2}, {Place: "Net loft", Address: at("127.40.1.18"), Input: 1}},
			[]About{{2, 20, -1}, {0, 20, -1}}},
		{"known by place, the others by its new address", []Row{{Place: "Slipway", Address: at("127.40.1.99"), Input: 1}, {Place: "Slipway 2", Address: at("127.40.1.99"), Input: 2}},
			[]About{{1, 10, -1}, {0, 10, -1}}},
		{"inputs of a new one", []Row{{Place: "A", Address: at("127.40.1.70"), Input: 2}, {Place: "B", MAC: "02:0d:05:00:00:09", Input: 1}, {Place: "C", Address: at("127.40.1.70"), Input: 4},
			{Place: "D", MAC: "02:0d:05:00:00:09", Input: 2}}, []About{{0, 0, -1}, {0, 0, -1}, {0, 0, 0}, {0, 0, 1}}},
	} {
		if got := Match(tc.rows, known); !slices.Equal(got, tc.want) {
			t.Errorf("%s: %v, want %v", tc.name, got, tc.want)
		}
	}
}

package find

import (
	"net/netip"
	"testing"

	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

func TestAnAddressField(t *testing.T) {
	at := netip.MustParseAddr("127.40.1.11")
	silent := netip.MustParseAddr("127.40.1.18")
	by := map[netip.Addr]store.Dot{
		at:     {ID: 1, Kind: identity.Camera, Place: "Slipway", Expected: true, Heard: true, State: stage.Ready},
		silent: {ID: 2, Kind: identity.Camera, Place: "Loft", Expected: true, State: stage.Blocked},
	}
	quay := netip.MustParsePrefix("127.40.1.0/24")
	f := makeField(store.Network{Prefix: quay}, quay, by)
	if len(f.Cells) != 256 || f.Tiles != nil {
		t.Fatalf("%d cells", len(f.Cells))
	}
	for i, want := range map[int]string{0: "reserved", 11: "found", 18: "silent", 19: "free", 255: "reserved"} {
		if c := f.Cells[i]; c.Kind != want || c.X != i%16 || c.Y != i/16 {
			t.Errorf("cell %d is %+v, want %s", i, c, want)
		}
	}
	folded := foldedField(store.Network{Name: "Bulk", Prefix: netip.MustParsePrefix("127.40.0.0/20")}, quay, by)
	if len(folded.Tiles) != 16 || len(folded.Cells) != 0 || folded.Part == nil || len(folded.Part.Cells) != 256 || folded.Part.Cells[11].Kind != "found" || folded.Part.Found != 1 {
		t.Fatalf("a /20: %+v", folded)
	}
	if x := folded.Tiles[1]; !x.Open || x.Unfolds() != "" || x.X != 1 || x.Y != 0 || x.Third() != ".1" || x.Kind != "silent" || x.Label() != "127.40.1.0/24: 1 found, 1 expected and silent" {
		t.Errorf("its part: %+v, %q", x, x.Label())
	}
	if x := folded.Tiles[15]; x.Open || x.X != 3 || x.Y != 3 || x.Third() != ".15" || x.Kind != "free" {
		t.Errorf("its last part: %+v", x)
	}
	for bits, n := range map[string]int{"/23": 2, "/22": 4, "/21": 8} {
		if got := foldedField(store.Network{Prefix: netip.MustParsePrefix("127.40.0.0" + bits)}, netip.Prefix{},
			by); len(got.Tiles) != n || got.Part != nil {
			t.Errorf("a %s has %d parts", bits, len(got.Tiles))
		}
	}
	wide := foldedField(store.Network{Name: "Town", Prefix: netip.MustParsePrefix("127.40.0.0/16")}, quay, by)
	if len(wide.Tiles) != 16 || wide.Tiles[0].Third() != ".0–15" || wide.Tiles[15].Third() != ".240–255" || wide.Tiles[0].Found != 1 || wide.Tiles[0].Unfolds() != "" {
		t.Errorf("a /16: %+v", wide.Tiles)
	}
	if inner := wide.Part; inner == nil || len(inner.Tiles) != 16 || inner.Part == nil || len(inner.Part.Cells) != 256 ||
		inner.Tiles[1].Unfolds() != "127.40.0.0/20" || inner.Tiles[2].Unfolds() != "127.40.2.0/24" || inner.Part.Network.Prefix != quay {
		t.Errorf("its parts: %+v", inner)
	}
	if first := foldedField(store.Network{Prefix: netip.MustParsePrefix("127.40.0.0/20")}, quay, by).Part.Cells[0]; first.Kind != "free" {
		t.Errorf("within a /20 %s is %s", first.Label, first.Kind) // only the whole network's ends are reserved
	}
	for want, x := range map[string]store.Dot{
		"unexpected":      {Kind: identity.Camera, Heard: true},
		"trouble":         {Kind: identity.Camera, Heard: true, Expected: true, State: stage.Blocked},
		"recorder":        {Kind: identity.Recorder, Heard: true},
		"silent-recorder": {Kind: identity.Recorder},
	} {
		if got := kindOf(x); got != want {
			t.Errorf("%+v is %s, want %s", x, got, want)
		}
	}
}

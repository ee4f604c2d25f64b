package expected

import (
	"net/netip"
	"testing"
)

func TestWhatTakingAListMeans(t *testing.T) {
	at := netip.MustParseAddr
	was := map[int64]Entry{1: {Row: Row{Place: "Loft", Address: at("127.40.1.1"), MAC: "02:d5:1a:00:00:01", Make: "Ottervale", Recorder: "Quay recorder", Channel: 2}, First: true},
		2: {Row: Row{Place: "Ramp", Address: at("127.40.1.2")}, First: true}, 3: {Row: Row{Place: "Shed"}, First: true},
		4: {Row: Row{Place: "Shed · 2", Make: "Ottervale", Input: 2}}}
	rows := []Row{{Place: "Loft, north", Address: at("127.40.1.1"), MAC: "02:d5:1a:00:00:09", Channel: 3}, {Place: "Ramp"}, {Place: "Gate", Model: "X"}, {Place: "Shed, back", Make: "Corriemoor", Input: 3}}
	lines, gone := Compare(rows, []About{{View: 1}, {View: 2}, {}, {View: 4}}, was)
	if len(lines) != 4 || len(gone) != 1 || gone[0] != 3 {
		t.Fatalf("%+v, gone %v", lines, gone)
	}
	loft := lines[0]
	for f, want := range map[Field]Cell{Place: {"Loft", "Loft, north"}, Address: {"127.40.1.1", "127.40.1.1"}, MAC: {"02:d5:1a:00:00:01", "02:d5:1a:00:00:01"},
		Make: {"Ottervale", "Ottervale"}, Recorder: {"Quay recorder", "Quay recorder"}, Channel: {"2", "3"}} {
		if loft.Cells[f] != want {
			t.Errorf("%s: %+v, want %+v", f, loft.Cells[f], want)
		}
	}
	if loft.New || !loft.Changes() || lines[1].New || lines[1].Changes() || !lines[2].New || !lines[2].Changes() {
		t.Errorf("%+v", lines)
	}
	if back := lines[3]; back.Cells[Make].Changed() || !back.Cells[Place].Changed() || back.Cells[Input] != (Cell{"2", "3"}) {
		t.Errorf("a further view's row tells of the device: %+v", back)
	}
}

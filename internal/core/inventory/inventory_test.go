package inventory

import (
	"reflect"
	"testing"
)

func TestAnInventory(t *testing.T) {
	items := []Item{
		{Place: "Slipway", Address: "192.0.2.11", Make: "Ottervale", Serial: "=1+1", Recorder: "Terminal recorder", Channel: 3, Words: []string{"+1 h", "no plan"}, Sentences: []string{"Its clock is off.", "No plan."}},
		{Place: "-Gangway", Recorder: "Quay recorder", Planned: true},
		{Planned: true},
	}
	of := func(keys ...string) []Column { return Chosen(keys) }
	for _, x := range []struct {
		name string
		of   []Column
		want [][]string
	}{
		{"in their own order, whatever was asked first", of("serial", "place"), [][]string{{"Place", "Serial"}, {"Slipway", "'=1+1"}, {"'-Gangway", ""}, {"", ""}}},
		{"where it is, and where it is to be", of("recorder", "channel"), [][]string{{"Recorder", "Channel"}, {"Terminal recorder", "3"}, {"Quay recorder (planned)", ""}, {"", ""}}},
		{"findings", of("findings"), [][]string{{"Findings"}, {"'+1 h · no plan"}, {""}, {""}}},
		{"in full", of("sentences"), [][]string{{"In full"}, {"Its clock is off. No plan."}, {""}, {""}}},
	} {
		if got := Cells(items, x.of); !reflect.DeepEqual(got, x.want) {
			t.Errorf("%s: %q", x.name, got)
		}
	}
	if all := of("nonsense"); len(all) != len(Columns())-3 {
		t.Errorf("%d columns where none is one", len(all))
	}
	if rows := Rows(items, of("place", "findings")); rows[0][1] != "+1 h · no plan" || rows[1][0] != "-Gangway" {
		t.Errorf("what is shown is marked: %q", rows)
	}
	if none := Cells(nil, of("place")); len(none) != 1 {
		t.Errorf("%q", none)
	}
}

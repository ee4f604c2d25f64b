package expected

import (
	"net/netip"
	"strings"
	"testing"
)

func TestRowsOfOneDeviceAreToldByTheirInputs(t *testing.T) {
	for _, tc := range []struct {
		name string
		list string
		says map[int]string // by line
	}{
		{"two inputs", "Shed A,127.40.2.22,,1\nShed B,127.40.2.22,,3", nil},
		{"two inputs by MAC alone", "Shed A,,02:d5:1a:40:02:22,1\nShed B,,02:d5:1a:40:02:22,2.0", nil},
		{"the MAC is given once", "Shed A,127.40.2.22,02:d5:1a:40:02:22,1\nShed B,127.40.2.22,,3", nil},
		{"neither says", "Shed A,127.40.2.22,,\nShed B,127.40.2.22,,", map[int]string{3: "Line 2 has the same address. Rows of a device with several inputs name the input of each."}},
		{"the second doesn't say", "Shed A,127.40.2.22,,1\nShed B,127.40.2.22,,", map[int]string{3: "Line 2 has the same address. Rows"}},
		{"the first doesn't say", "Shed A,127.40.2.22,,\nShed B,127.40.2.22,,2", map[int]string{3: "Line 2 has the same address. Rows"}},
		{"the same input", "Shed A,127.40.2.22,,2\nShed B,127.40.2.22,,2", map[int]string{3: "Line 2 has the same address and input."}},
		{"the same input by MAC", "Shed A,,02:d5:1a:40:02:22,2\nShed B,,02:d5:1a:40:02:22,2", map[int]string{3: "Line 2 has the same mac and input."}},
		{"another MAC", "Shed A,127.40.2.22,02:d5:1a:40:02:22,1\nShed B,127.40.2.22,02:d5:1a:40:02:23,2", map[int]string{3: "Line 2 gives that address another MAC."}},
		{"another address", "Shed A,127.40.2.22,02:d5:1a:40:02:22,1\nShed B,127.40.2.23,02:d5:1a:40:02:22,2", map[int]string{3: "Line 2 gives that MAC another address."}},
		{"no such number", "Shed A,127.40.2.22,,0\nShed B,127.40.2.23,,65\nShed C,127.40.2.24,,two", map[int]string{2: `"0" is no input number from 1 to 64.`, 3: `"65" is no input`, 4: `"two" is no input`}},
		{"what isn't taken stands in nobody's way", "Shed A,127.40.2.22,,x\nShed B,127.40.2.22,,", map[int]string{2: `"x" is no input`}},
	} {
		table, err := ParseCSV([]byte("place,address,mac,input\n" + tc.list))
		if err != nil {
			t.Fatal(err)
		}
		rows, messages := Read(table, Map(table.Head), nil)
		if len(messages) != len(tc.says) || len(rows)+len(messages) != len(table.Lines) {
			t.Errorf("%s: %d rows, %+v", tc.name, len(rows), messages)
		}
		for _, m := range messages {
			if want := tc.says[m.Line]; want == "" || !strings.HasPrefix(m.Says, want) {
				t.Errorf("%s: line %d says %q, want %q", tc.name, m.Line, m.Says, want)
			}
		}
	}
}

func TestARowThatIsTypedStandsBesideTheList(t *testing.T) {
	at := netip.MustParseAddr
	list := []Entry{
		{Row: Row{Place: "Slipway", Address: at("127.40.1.11"), MAC: "02:d5:1a:40:01:11"}, ID: 1, Device: 10, First: true, Expected: true},
		{Row: Row{Place: "Shed", Address: at("127.40.2.22"), Input: 1}, ID: 2, Device: 20, First: true, Expected: true},
		{Row: Row{Place: "Shed · 3", Address: at("127.40.2.22"), Input: 3}, ID: 3, Device: 20, Expected: true},
		{Row: Row{Place: "Stranger", Address: at("127.40.1.90")}, ID: 4, Device: 40, First: true},
	}
	for _, tc := range []struct {
		name   string
		typed  Typed
		edited Entry
		field  Field // empty: it is taken
		says   string
	}{
		{"a new one", Typed{Place: "Annex", Address: "127.40.1.12"}, Entry{}, "", ""},
		{"a place that is taken", Typed{Place: "slipway"}, Entry{}, Place, "Slipway has the same place."},
		{"an address that is taken", Typed{Place: "Annex", Address: "127.40.1.11"}, Entry{}, Address, "Slipway has the same address. Rows"},
		{"a further input", Typed{Place: "Annex", Address: "127.40.2.22", Input: "2"}, Entry{}, "", ""},
		{"an input that is taken", Typed{Place: "Annex", Address: "127.40.2.22", Input: "3"}, Entry{}, Input, "Shed · 3 has the same address and input."},
		{"who isn't on the list takes up its place alone", Typed{Place: "Annex", Address: "127.40.1.90"}, Entry{}, "", ""},
		{"and its place", Typed{Place: "Stranger"}, Entry{}, Place, "Stranger has the same place."},
		{"an edited one stays its own device's", Typed{Place: "Slipway", Address: "127.40.2.22", Input: "2"}, list[0], Address, "Shed has the same address, and is another device"},
		{"by MAC too", Typed{Place: "Shed", MAC: "02:d5:1a:40:01:11", Input: "1"}, list[1], MAC, "Slipway has the same mac, and is another device"},
		{"itself isn't in its way", Typed{Place: "Slipway", Address: "127.40.1.11", MAC: "02:d5:1a:40:01:11", Make: "Ottervale"}, list[0], "", ""},
		{"its own further views neither", Typed{Place: "Shed", Address: "127.40.2.22"}, list[1], "", ""},
		{"but for their inputs", Typed{Place: "Shed", Address: "127.40.2.22", Input: "3"}, list[1], Input, "Shed · 3 has the same input."},
		{"a further view tells of its place and plan alone", Typed{Place: "Shed, back", Address: "127.40.1.11", Make: "x", Input: "4"}, list[2], "", ""},
	} {
		r, bad := ReadOne(tc.typed, nil, list, tc.edited)
		switch {
		case bad == nil && tc.field != "":
			t.Errorf("%s: taken", tc.name)
		case bad != nil && (bad.Field != tc.field || !strings.HasPrefix(bad.Says, tc.says)):
			t.Errorf("%s: %s: %q", tc.name, bad.Field, bad.Says)
		case tc.edited.ID != 0 && !tc.edited.First && (r.Address.IsValid() || r.Make != ""):
			t.Errorf("%s: %+v", tc.name, r)
		}
	}
}

// A recorder's channel shows one view: two rows of a list, a row beside the list as it stands, and
// a row beside a view that the list doesn't name can't both have it.
func TestAChannelIsOneViews(t *testing.T) {
	read := func(lines string) ([]Row, []Message) {
		table, err := ParseCSV([]byte("place,recorder,channel\n" + lines))
		if err != nil {
			t.Fatal(err)
		}
		return Read(table, Map(table.Head), []string{"Quay", "Terminal"})
	}
	for lines, bad := range map[string]string{
		"A,Quay,3\nB,quay,3":     "Line 2 has channel 3 of Quay.",
		"A,Quay,3\nB,Terminal,3": "",
		"A,Quay,3\nB,Quay,4":     "",
		"A,Quay,\nB,Quay,":       "",
		"A,,3\nB,,3":             "",
	} {
		_, messages := read(lines)
		says := ""
		for _, m := range messages {
			says += m.Says
		}
		if says != bad {
			t.Errorf("%q: %q, want %q", lines, says, bad)
		}
	}
	held := Entry{Row: Row{Place: "A", Recorder: "Quay", Channel: 3}, ID: 1, Device: 10, First: true, Expected: true}
	typed := Typed{Place: "B", Recorder: "Quay", Channel: "3"}
	if _, bad := ReadOne(typed, []string{"Quay"}, []Entry{held}, Entry{}); bad == nil || bad.Says != "A has channel 3 of Quay." {
		t.Errorf("typed beside it: %+v", bad)
	}
	if _, bad := ReadOne(Typed{Place: "A", Recorder: "Quay", Channel: "3"}, []string{"Quay"}, []Entry{held}, held); bad != nil {
		t.Errorf("in its own way: %+v", bad)
	}
	rows, _ := read("B,Quay,3")
	lines, _ := Compare(rows, []About{{With: -1}}, map[int64]Entry{1: held})
	if bad := lines[0].Clash(); bad == nil || bad.Says != "A, which this list doesn't name, has channel 3 of Quay." {
		t.Errorf("beside one that the list doesn't name: %+v", bad)
	}
	rows, _ = read("B,Quay,3\nA,Quay,4") // they change places
	if lines, _ := Compare(rows, []About{{With: -1}, {View: 1, Device: 10, With: -1}}, map[int64]Entry{1: held}); lines[0].Clash() != nil {
		t.Errorf("it goes to another channel by the same list: %+v", lines[0])
	}
}

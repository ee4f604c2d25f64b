package channel

import (
	"fmt"
	"testing"
)

func TestATableThatWasTyped(t *testing.T) {
	for _, tc := range []struct{ text, want string }{
		{"3; Slipway; 192.0.2.11\n\n1;Berth 1, ramp;192.0.2.12\r\n", "3 Slipway 192.0.2.11, 1 Berth 1, ramp 192.0.2.12"},
		{"Channel\tName\tAddress\n2\tNet loft\t192.0.2.18", "2 Net loft 192.0.2.18"},
		{"1,Gangway,192.0.2.14", "1 Gangway 192.0.2.14"},
		{"1;Gangway;::ffff:192.0.2.14", "1 Gangway 192.0.2.14"},
		{"", "Type at least one channel: number; name; address."},
		{"Channel; Name; Address", "Type at least one channel: number; name; address."},
		{"1; Slipway", "Line 1: write number; name; address, as 3; Slipway; 192.0.2.11. Channels are 1 to 256."},
		{"1; Slipway; 192.0.2.11; 80", "Line 1: write number; name; address, as 3; Slipway; 192.0.2.11. Channels are 1 to 256."},
		{"0; Slipway; 192.0.2.11", "Line 1: write number; name; address, as 3; Slipway; 192.0.2.11. Channels are 1 to 256."},
		{"1; Slipway; 192.0.2.11\nx; Berth; 192.0.2.12", "Line 2: write number; name; address, as 3; Slipway; 192.0.2.11. Channels are 1 to 256."},
		{"1; Slipway; slipway.example", `Line 1: "slipway.example" is no address.`},
		{"1; ; 192.0.2.11", "Line 1: a name has 1 to 64 characters."},
		{"1; Slipway; 192.0.2.11\n1; Berth; 192.0.2.12", "Line 2: channel 1 stands in line 1 already."},
	} {
		all, err := ParseTable(tc.text)
		got := ""
		for i, l := range all {
			if i > 0 {
				got += ", "
			}
			got += fmt.Sprintf("%d %s %s", l.Number, l.Name, l.Address)
		}
		if err != nil {
			got = err.Error()
		}
		if got != tc.want {
			t.Errorf("%q: %q, want %q", tc.text, got, tc.want)
		}
	}
}

func FuzzParseTable(f *testing.F) {
	f.Add("3; Slipway; 192.0.2.11\n1;Berth;192.0.2.12")
	f.Add("n\tname\taddress\n2\tNet loft\t::1")
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ParseTable(text)
		seen := map[int]bool{}
		for _, l := range all {
			if err != nil || seen[l.Number] || l.Number < 1 || l.Number > maxTyped || l.Name == "" || !l.Address.IsValid() {
				t.Fatalf("%q: %+v %v", text, all, err)
			}
			seen[l.Number] = true
		}
	})
}

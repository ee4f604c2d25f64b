package identity

import "testing"

func TestLeastFirmware(t *testing.T) {
	all := []Least{{"Ottervale", "", "2.0"}, {"Ottervale", "OTV 412", "2.4"}, {"Skerryvane", "SKV B8", "7"}}
	for _, tc := range [][3]string{
		{"Ottervale", "OTV 412", "2.4"}, {"ottervale", "otv 412", "2.4"}, {"Ottervale", "OTV 300", "2.0"},
		{"Skerryvane", "SKV B8", "7"}, {"Skerryvane", "SKV M1", ""}, {"", "", ""}, {"Tarnlight", "OTV 412", ""},
	} {
		if got := LeastFor(all, tc[0], tc[1]); got != tc[2] {
			t.Errorf("%s %s: %q, want %q", tc[0], tc[1], got, tc[2])
		}
	}
}

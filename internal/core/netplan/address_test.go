package netplan

import (
	"strings"
	"testing"
)

func TestAddressesThatPeopleType(t *testing.T) {
	for text, want := range map[string]string{
		" 192.0.2.7 ": "192.0.2.7", "rtsp://192.0.2.7/main": "192.0.2.7", "http://u:p@192.0.2.7:8080/": "192.0.2.7",
		"": "", "0.0.0.0": "", "255.255.255.255": "", "239.255.255.250": "", "::1": "", "camera": "", "rtsp://%zz": "", strings.Repeat("1", 600): "",
	} {
		a, err := ParseAddress(text)
		if want == "" && err == nil || want != "" && (err != nil || a.String() != want) {
			t.Errorf("%.30q: %v %v, want %q", text, a, err, want)
		}
	}
}

func FuzzParseAddress(f *testing.F) {
	for _, s := range []string{"192.0.2.7", "rtsp://192.0.2.7:554/a?b", "http://[::1]/", "://"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := ParseAddress(text)
		if err == nil && (!a.Is4() || a.IsMulticast() || a.IsUnspecified()) {
			t.Errorf("%q is taken for %v", text, a)
		}
	})
}

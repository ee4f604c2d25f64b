package netplan

import (
	"slices"
	"strings"
	"testing"
)

func TestPorts(t *testing.T) {
	if got := Ports(); !slices.Equal(got, []int{80, 443, 554, 8080, 8443, 8554}) {
		t.Errorf("ports that are tried: %v", got)
	}
	for port, want := range map[int]Protocol{80: HTTP, 8080: HTTP, 443: HTTPS, 8443: HTTPS, 554: RTSP, 8554: RTSP, 22: "", 0: ""} {
		if got := Speaks(port); got != want {
			t.Errorf("%d speaks %q, want %q", port, got, want)
		}
	}
}

func TestFurtherPorts(t *testing.T) {
	for text, want := range map[string][]int{"": nil, "81, 8081": {81, 8081}, " 8081;81 81,80": {81, 8081}, "80 443": nil} {
		if got, err := ParsePorts(text); err != nil || !slices.Equal(got, want) {
			t.Errorf("%q: %v %v, want %v", text, got, err, want)
		}
	}
	for _, bad := range []string{"0", "65536", "-1", "http", "81-90", "1 2 3 4 5 6 7 8 9"} {
		if got, err := ParsePorts(bad); err == nil || !strings.HasSuffix(err.Error(), ".") {
			t.Errorf("%q: %v %v", bad, got, err)
		}
	}
	if got := PortsWith([]int{9000, 80}); !slices.Equal(got, []int{80, 443, 554, 8080, 8443, 8554, 9000}) {
		t.Errorf("%v", got)
	}
}

func FuzzParsePorts(f *testing.F) {
	f.Add("81, 8081")
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ParsePorts(text)
		if err == nil && (len(all) > morePorts || !slices.IsSorted(all)) {
			t.Errorf("%q: %v", text, all)
		}
		for _, p := range all {
			if p < 1 || p > 65535 || Speaks(p) != "" {
				t.Errorf("%q: %d", text, p)
			}
		}
	})
}

package netplan

import (
	"slices"
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

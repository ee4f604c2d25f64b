package netplan

import "slices"

// Protocol that a TCP port of a device is taken to speak.
type Protocol string

const (
	HTTP  Protocol = "HTTP"
	HTTPS Protocol = "HTTPS"
	RTSP  Protocol = "RTSP"
)

var portMeans = map[int]Protocol{80: HTTP, 8080: HTTP, 443: HTTPS, 8443: HTTPS, 554: RTSP, 8554: RTSP}

// Ports that are tried on every address, in order.
func Ports() []int {
	out := make([]int, 0, len(portMeans))
	for p := range portMeans {
		out = append(out, p)
	}
	slices.Sort(out)
	return out
}

// Speaks is what a port is taken to speak; empty where nobody knows.
func Speaks(port int) Protocol { return portMeans[port] }

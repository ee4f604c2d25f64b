package netplan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

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

// PortsWith are Ports with those that a site looks at besides, each once, in order.
func PortsWith(more []int) []int {
	out := append(Ports(), more...)
	slices.Sort(out)
	return slices.Compact(out)
}

// morePorts is how many ports a network may have looked at besides Ports.
const morePorts = 8

// ParsePorts reads ports from 1 to 65535 with spaces or commas between them; every error is
// an ErrPorts. Those that are looked at anyway are left out.
func ParsePorts(text string) ([]int, error) {
	var out []int
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' || r == ' ' || r == '\t' }) {
		n, err := strconv.Atoi(w)
		if err != nil || n < 1 || n > 65535 {
			return nil, ErrPorts(fmt.Sprintf("%.20q is no port: give numbers from 1 to 65535, as 81, 8081.", w))
		}
		if portMeans[n] == "" && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	if len(out) > morePorts {
		return nil, ErrPorts(fmt.Sprintf("At most %d further ports are looked at in a network.", morePorts))
	}
	slices.Sort(out)
	return out, nil
}

// ErrPorts says why a text is no list of ports.
type ErrPorts string

// Error is a sentence for the person.
func (e ErrPorts) Error() string { return string(e) }

// Speaks is what a port is taken to speak; empty where nobody knows.
func Speaks(port int) Protocol { return portMeans[port] }

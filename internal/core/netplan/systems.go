package netplan

import (
	"fmt"
	"slices"
	"strings"
)

// SystemKind says what takes part in a site's work and is neither camera nor recorder.
type SystemKind string

// Kinds of systems.
const (
	VMS     SystemKind = "vms"     // shows pictures and events: a video management system
	Station SystemKind = "station" // gets alarms: a monitoring station
	Time    SystemKind = "time"    // tells the time over NTP
)

// SystemKinds lists them as pages do.
func SystemKinds() []SystemKind { return []SystemKind{VMS, Station, Time} }

// String is the kind as people say it.
func (k SystemKind) String() string {
	switch k {
	case VMS:
		return "video management"
	case Station:
		return "monitoring station"
	case Time:
		return "time server"
	}
	return string(k)
}

// Slug is the kind as forms send it.
func (k SystemKind) Slug() string { return string(k) }

// Valid says whether k is one of SystemKinds.
func (k SystemKind) Valid() bool { return slices.Contains(SystemKinds(), k) }

// PortsSay words which ports of a system answered when it was asked, and whether it counts as
// answering: one open port is enough.
func PortsSay(open []int) (says string, answers bool) {
	if len(open) == 0 {
		return "none of the ports that are looked at answers", false
	}
	words := make([]string, len(open))
	for i, p := range slices.Sorted(slices.Values(open)) {
		words[i] = fmt.Sprint(p)
	}
	if len(words) == 1 {
		return "port " + words[0] + " answers", true
	}
	return "ports " + strings.Join(words, ", ") + " answer", true
}

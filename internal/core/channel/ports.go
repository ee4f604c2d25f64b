package channel

import (
	"fmt"

	"duskyharbor/internal/core/finding"
)

// powerOf is how much power a recorder sets aside for a device of a class at its port (IEEE Std
// 802.3, tables 33-7 and 145-11), in watts; 0 where there is no such class.
func powerOf(class int) float64 {
	switch class {
	case 0, 3:
		return 15.4
	case 1:
		return 4
	case 2:
		return 7
	case 4:
		return 30
	case 5:
		return 45
	case 6:
		return 60
	case 7:
		return 75
	case 8:
		return 90
	}
	return 0
}

// Watts sums what a recorder's ports feed.
func (r Recorder) Watts() (fed float64) {
	for _, p := range r.Ports {
		if !p.Denied {
			fed += p.Watts
		}
	}
	return fed
}

// PortState is one of a recorder's own ports as it is told: what hangs there, in words, and what is wrong
// with it.
type PortState struct {
	Port
	Says     string
	Findings []finding.Finding
}

// PortViews are a recorder's own ports.
func (r Recorder) PortViews() []PortState {
	out := make([]PortState, len(r.Ports))
	for i, p := range r.Ports {
		v := PortState{Port: p, Says: "nothing hangs there"}
		switch {
		case p.Denied:
			v.Says = "not fed"
		case p.Linked && p.Make != "":
			v.Says = p.Make + " " + p.Model + " at " + p.Address
		case p.Linked:
			v.Says = "a device at " + p.Address
		case p.Watts > 0:
			v.Says = "fed, and nothing answers"
		}
		if p.Channel > 0 {
			v.Says += fmt.Sprintf(", channel %d", p.Channel)
		}
		if p.Denied {
			v.Findings = append(v.Findings, finding.Finding{Code: "channel.watts", Severity: finding.Blocks, Words: "no power",
				Sentence: fmt.Sprintf("Port %d gives no power: its device asks for %.1f W, and %.1f of %.0f W are left.", p.Number, p.Watts, max(0, r.Limits.Watts-r.Watts()), r.Limits.Watts),
				WayOut:   "Feed it from a switch or an injector, or take another device off the recorder's ports."})
		}
		if p.Fixed && r.HandsOut != "" {
			v.Findings = append(v.Findings, finding.Finding{Code: "channel.port-address", Severity: finding.Needs, Words: "fixed address",
				Sentence: fmt.Sprintf("Port %d gives addresses of %s, and what hangs there has %s, fixed.", p.Number, r.HandsOut, p.Address),
				WayOut:   "Set the camera to take its address by itself: see its Find."})
		}
		out[i] = v
	}
	return out
}

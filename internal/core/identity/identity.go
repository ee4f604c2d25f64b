// Package identity says which device an answer came from, joins answers of one
// device, and reconciles what was found with what was expected.
package identity

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
)

// Way is how a device was heard.
type Way string

const (
	Multicast Way = "multicast"      // answered a WS-Discovery probe to the group
	Directed  Way = "directed"       // answered a probe sent to its own address
	AskedTime Way = "time"           // answered a plain GetSystemDateAndTime
	SpokeRTSP Way = "RTSP"           // answered RTSP OPTIONS
	SaidHello Way = "recorder hello" // answered the recorder interface's hello
)

var waysInOrder = []Way{Multicast, Directed, AskedTime, SpokeRTSP, SaidHello}

// Sighting is what one address answered, before anyone signed in.
type Sighting struct {
	Address  netip.Addr `json:"address"`
	At       time.Time  `json:"at"`
	Ways     []Way      `json:"ways"`
	UUID     string     `json:"uuid"` // endpoint reference, without "urn:uuid:"
	MAC      string     `json:"mac"`
	Serial   string     `json:"serial"`
	Make     string     `json:"make"`
	Model    string     `json:"model"`
	Name     string     `json:"name"`
	Firmware string     `json:"firmware"`
	Service  string     `json:"service"` // ONVIF device service as the device gave it, or as it answered
	Ports    []int      `json:"ports"`   // open
	RTSPPort int        `json:"rtsp_port"`
	Kind     Kind       `json:"kind"`
	Trouble  string     `json:"trouble"` // what went wrong while asking, worded
}

// Kind of device.
type Kind string

const (
	Camera   Kind = "camera"
	Recorder Kind = "recorder"
)

// Heard says whether s was heard in a way.
func (s Sighting) Heard(w Way) bool { return slices.Contains(s.Ways, w) }

// ONVIF says whether the device spoke ONVIF.
func (s Sighting) ONVIF() bool {
	return s.Heard(Multicast) || s.Heard(Directed) || s.Heard(AskedTime)
}

// WaysText lists the ways for people: "multicast, directed".
func (s Sighting) WaysText() string {
	words := make([]string, len(s.Ways))
	for i, w := range s.Ways {
		words[i] = string(w)
	}
	return strings.Join(words, ", ")
}

// Merge joins two answers from one address: ways and ports are united, the other
// facts are kept where b has none.
func Merge(a, b Sighting) Sighting {
	out := b
	if b.At.Before(a.At) {
		out.At = a.At
	}
	out.Ways = union(a.Ways, b.Ways)
	// In one order whichever was heard first, so that hearing the same again is no change.
	slices.SortFunc(out.Ways, func(x, y Way) int { return slices.Index(waysInOrder, x) - slices.Index(waysInOrder, y) })
	out.Ports = union(a.Ports, b.Ports)
	slices.Sort(out.Ports)
	for _, f := range []struct{ into, from *string }{
		{&out.UUID, &a.UUID}, {&out.MAC, &a.MAC}, {&out.Serial, &a.Serial}, {&out.Make, &a.Make}, {&out.Model, &a.Model},
		{&out.Name, &a.Name}, {&out.Firmware, &a.Firmware}, {&out.Service, &a.Service}, {&out.Trouble, &a.Trouble},
	} {
		if *f.into == "" {
			*f.into = *f.from
		}
	}
	if out.RTSPPort == 0 {
		out.RTSPPort = a.RTSPPort
	}
	if out.Kind == "" {
		out.Kind = a.Kind
	}
	return out
}

func union[T comparable](a, b []T) []T {
	out := slices.Clone(a)
	for _, v := range b {
		if !slices.Contains(out, v) {
			out = append(out, v)
		}
	}
	return out
}

// CleanUUID strips the URN and case from an endpoint reference, so that answers in
// any form of RFC 9562 compare equal.
func CleanUUID(text string) string {
	t := strings.ToLower(strings.TrimSpace(text))
	t = strings.TrimPrefix(t, "urn:")
	return strings.TrimPrefix(t, "uuid:")
}

// CleanMAC writes a MAC address in lower case with colons; empty when it is none.
func CleanMAC(text string) string {
	hex := strings.Map(func(r rune) rune {
		switch {
		case r >= '0' && r <= '9', r >= 'a' && r <= 'f':
			return r
		case r >= 'A' && r <= 'F':
			return r + 'a' - 'A'
		case r == ':' || r == '-' || r == '.' || r == ' ':
			return -1
		}
		return 'x'
	}, text)
	if len(hex) != 12 || strings.Contains(hex, "x") {
		return ""
	}
	var b strings.Builder
	for i := 0; i < 12; i += 2 {
		if i > 0 {
			b.WriteByte(':')
		}
		b.WriteString(hex[i : i+2])
	}
	return b.String()
}

// Scopes reads the ONVIF scopes of a probe match (ONVIF Core, section 7.3.2.2):
// hardware, name, manufacturer and mac, percent-decoding left to the caller.
func Scopes(scopes []string) (model, name, maker, mac string) {
	for _, s := range scopes {
		rest, ok := strings.CutPrefix(s, "onvif://www.onvif.org/")
		if !ok {
			continue
		}
		key, value, _ := strings.Cut(rest, "/")
		switch strings.ToLower(key) {
		case "hardware":
			model = value
		case "name":
			name = value
		case "manufacturer":
			maker = value
		case "mac":
			mac = CleanMAC(value)
		}
	}
	return model, name, maker, mac
}

// Known is a device the site knows, expected or found before.
type Known struct {
	ID       int64
	Place    string
	Address  netip.Addr // expected, or last seen
	UUID     string
	MAC      string
	Serial   string
	Make     string
	Model    string
	Kind     Kind
	Expected bool
}

// Outcome of reconciling one known device or one sighting.
type Outcome string

const (
	Matched    Outcome = "matched"
	Moved      Outcome = "moved" // same identity, other address
	Missing    Outcome = "missing"
	Unexpected Outcome = "unexpected"
	Doubtful   Outcome = "doubtful" // same address, other identity
)

// Match pairs a known device with a sighting; either may be absent.
type Match struct {
	Outcome Outcome
	Known   *Known
	Seen    *Sighting
}

// Reconcile pairs known devices with sightings: by identity where two of UUID,
// MAC and serial can be compared and none disagrees, then by address. An address
// where another identity answers than before is doubtful, never a silent swap.
func Reconcile(known []Known, seen []Sighting) []Match {
	used := make([]bool, len(seen))
	out := make([]Match, len(known))
	for i := range known {
		out[i] = Match{Outcome: Missing, Known: &known[i]}
	}
	pair := func(i, j int, o Outcome) {
		out[i].Outcome, out[i].Seen, used[j] = o, &seen[j], true
	}
	for i := range known {
		for j := range seen {
			if !used[j] && agree(known[i], seen[j]) == same {
				o := Moved
				if known[i].Address == seen[j].Address || !known[i].Address.IsValid() {
					o = Matched
				}
				pair(i, j, o)
				break
			}
		}
	}
	for i := range known {
		if out[i].Seen != nil {
			continue
		}
		for j := range seen {
			if used[j] || known[i].Address != seen[j].Address {
				continue
			}
			o := Matched
			if agree(known[i], seen[j]) == other {
				o = Doubtful
			}
			pair(i, j, o)
			break
		}
	}
	for j := range seen {
		if !used[j] {
			out = append(out, Match{Outcome: Unexpected, Seen: &seen[j]})
		}
	}
	return out
}

type verdict int

const (
	unknown verdict = iota
	same
	other
)

// agree compares UUID, MAC and serial. One that agrees and none that disagrees is
// the same device; two that disagree, or one with nothing that agrees, another.
func agree(k Known, s Sighting) verdict {
	yes, no := 0, 0
	for _, p := range [][2]string{{k.UUID, s.UUID}, {k.MAC, s.MAC}, {k.Serial, s.Serial}} {
		switch {
		case p[0] == "" || p[1] == "":
		case p[0] == p[1]:
			yes++
		default:
			no++
		}
	}
	switch {
	case yes > no:
		return same
	case no > yes:
		return other
	}
	return unknown
}

// Facts is what the judge of Find knows of one device.
type Facts struct {
	Seen     *Sighting
	Outcome  Outcome
	LookedAt time.Time // of the last look that covered the device's address
	Tried    string    // what was asked, worded, when nothing answered
}

// Judge says what is wrong with how one device was found. w is what the site
// expects of it.
func Judge(_ time.Time, f Facts, w Known) []finding.Finding {
	if f.LookedAt.IsZero() {
		return nil
	}
	if f.Seen == nil {
		return []finding.Finding{silent(f, w)}
	}
	s := *f.Seen
	seenBy := []finding.Evidence{{Name: "Answered", Value: s.WaysText(), Via: "look", At: s.At}}
	var out []finding.Finding
	switch {
	case f.Outcome == Doubtful:
		out = append(out, finding.Finding{Code: "find.other-device", Severity: finding.Needs, Words: "other device",
			Sentence: fmt.Sprintf("Another device answers at %s than the one known here as %s.", s.Address, w.Place),
			WayOut:   "If the camera was exchanged, let the new one take its place; if not, look for two devices on one address.", Evidence: seenBy})
	case f.Outcome == Unexpected && !w.Expected:
		out = append(out, finding.Finding{Code: "find.unexpected", Severity: finding.Note, Words: "unexpected",
			Sentence: "It isn't on the expected list.", WayOut: "Add it, or leave it out.", Evidence: seenBy})
	case f.Outcome == Moved:
		out = append(out, finding.Finding{Code: "find.moved", Severity: finding.Note, Words: "moved",
			Sentence: fmt.Sprintf("Expected at %s, it answers at %s.", w.Address, s.Address),
			WayOut:   "Correct the list or move it back.", Evidence: seenBy})
	}
	if w.Kind == Camera && s.Heard(SpokeRTSP) && !s.ONVIF() {
		out = append(out, finding.Finding{Code: "find.rtsp-only", Severity: finding.Needs, Words: "RTSP only",
			Sentence: "It speaks RTSP and no ONVIF: its clock, settings, rules and events can't be read or set from here.",
			WayOut:   "Enrol its stream by address, or switch ONVIF on in its own page.", Evidence: seenBy})
	}
	if w.Model != "" && s.Model != "" && !strings.EqualFold(w.Model, s.Model) {
		out = append(out, finding.Finding{Code: "find.other-model", Severity: finding.Needs, Words: "other model",
			Sentence: fmt.Sprintf("The list expects %s %s, and %s %s answers.", w.Make, w.Model, s.Make, s.Model),
			WayOut:   "Correct the list, or look which camera hangs here.", Evidence: seenBy})
	}
	if w.Kind == Camera && s.ONVIF() && !s.Heard(Multicast) {
		out = append(out, finding.Finding{Code: "find.only-directed", Severity: finding.Note, Words: "only asked",
			Sentence: "It was heard only when asked directly: another network, or multicast is blocked, or its discovery is off.",
			WayOut:   "A recorder that only listens will never list it: add it there by address.", Evidence: seenBy})
	}
	if s.Trouble != "" {
		out = append(out, finding.Finding{Code: "find.bad-answer", Severity: finding.Needs, Words: "bad answer",
			Sentence: s.Trouble, WayOut: "Open its own page and see whether it is well; start it again if not.", Evidence: seenBy})
	}
	finding.Sort(out)
	return out
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return "none"
	}
	return a.String()
}

func silent(f Facts, w Known) finding.Finding {
	where := "Expected, and no address is known for it."
	if w.Address.IsValid() {
		where = "Expected here, and nothing answers."
	}
	return finding.Finding{Code: "find.silent", Severity: finding.Blocks, Words: "silent",
		Sentence: where,
		WayOut:   "Is it powered, and on this network? Then look again.",
		Evidence: []finding.Evidence{{Name: "Address", Value: addressText(w.Address), Via: "expected list", At: f.LookedAt}, {Name: "Tried", Value: f.Tried, Via: "look", At: f.LookedAt}}}
}

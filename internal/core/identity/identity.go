// Package identity says which device an answer came from, joins answers of one
// device, and reconciles what was found with what was expected.
package identity

import (
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Way is how a device was heard.
type Way string

const (
	Multicast Way = "multicast"      // answered a WS-Discovery probe to the group
	Directed  Way = "directed"       // answered a probe sent to its own address
	AskedTime Way = "time"           // answered a plain GetSystemDateAndTime
	SpokeRTSP Way = "RTSP"           // answered RTSP OPTIONS
	SaidHello Way = "recorder hello" // answered the recorder interface's hello
	ShowedWeb Way = "web page"       // showed a page and answered to nothing else
	OnAPort   Way = "recorder port"  // a recorder tells of it, on a port of its own
)

var waysInOrder = []Way{Multicast, Directed, AskedTime, SpokeRTSP, SaidHello, ShowedWeb, OnAPort}

// Sighting is what one address answered, before anyone signed in.
type Sighting struct {
	Address    netip.Addr `json:"address"`
	At         time.Time  `json:"at"`
	Ways       []Way      `json:"ways"`
	UUID       string     `json:"uuid"` // endpoint reference, without "urn:uuid:"
	MAC        string     `json:"mac"`
	Serial     string     `json:"serial"`
	Make       string     `json:"make"`
	Model      string     `json:"model"`
	Name       string     `json:"name"`
	Firmware   string     `json:"firmware"`
	Service    string     `json:"service"` // ONVIF device service as the device gave it, or as it answered
	Ports      []int      `json:"ports"`   // open
	RTSPPort   int        `json:"rtsp_port"`
	Kind       Kind       `json:"kind"`
	Trouble    string     `json:"trouble"`            // what went wrong while asking, worded
	Also       []string   `json:"also,omitempty"`     // other endpoints that answered from this address
	Clones     []string   `json:"clones,omitempty"`   // other addresses that answer with its endpoint
	NoPassword bool       `json:"virgin,omitempty"`   // it lets anyone set a first password
	Title      string     `json:"title,omitempty"`    // of its web page
	Page       string     `json:"page,omitempty"`     // where that is
	OldPage    string     `json:"old_page,omitempty"` // what of a past browser the page wants
}

// Kind of device.
type Kind string

const (
	Camera   Kind = "camera"
	Recorder Kind = "recorder"
)

// Heard says whether s was heard in a way.
func (s Sighting) Heard(w Way) bool { return slices.Contains(s.Ways, w) }

// Spoke says whether the device answered anything; one that accepts connections and stays
// silent didn't.
func (s Sighting) Spoke() bool { return len(s.Ways) > 0 }

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
	out.Also, out.Clones, out.NoPassword = union(a.Also, b.Also), union(a.Clones, b.Clones), a.NoPassword || b.NoPassword
	if a.UUID != "" && b.UUID != "" && a.UUID != b.UUID {
		// Two endpoints answer from one address: the first heard stays, the other is told.
		out.UUID = min(a.UUID, b.UUID)
		out.Also = union(out.Also, []string{max(a.UUID, b.UUID)})
	}
	slices.Sort(out.Also)
	out.Ports = union(a.Ports, b.Ports)
	slices.Sort(out.Ports)
	for _, f := range []struct{ into, from *string }{
		{&out.UUID, &a.UUID}, {&out.MAC, &a.MAC}, {&out.Serial, &a.Serial}, {&out.Make, &a.Make}, {&out.Model, &a.Model},
		{&out.Name, &a.Name}, {&out.Firmware, &a.Firmware}, {&out.Service, &a.Service}, {&out.Trouble, &a.Trouble},
		{&out.Title, &a.Title}, {&out.Page, &a.Page}, {&out.OldPage, &a.OldPage},
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
	ix := index(seen)
	for i := range known {
		for _, j := range ix.like(known[i]) {
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
		for _, j := range ix.at[known[i].Address] {
			if used[j] {
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

// sightings finds sightings by what identifies them: positions in their order.
type sightings struct {
	by map[mark][]int
	at map[netip.Addr][]int
}

// mark is a UUID, MAC or serial; which one it is counts too.
type mark struct {
	kind  byte
	value string
}

func index(seen []Sighting) sightings {
	ix := sightings{map[mark][]int{}, map[netip.Addr][]int{}}
	for j, s := range seen {
		for _, m := range marks(s.UUID, s.MAC, s.Serial) {
			ix.by[m] = append(ix.by[m], j)
		}
		ix.at[s.Address] = append(ix.at[s.Address], j)
	}
	return ix
}

// like lists the sightings that share something with a known device.
func (ix sightings) like(k Known) []int {
	var out []int
	for _, m := range marks(k.UUID, k.MAC, k.Serial) {
		out = append(out, ix.by[m]...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func marks(uuid, mac, serial string) []mark {
	all := []mark{{'u', uuid}, {'m', mac}, {'s', serial}}
	return slices.DeleteFunc(all, func(m mark) bool { return m.value == "" })
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

// Clones tells each sighting at which other addresses its endpoint answers too: among
// the sightings, and among known devices elsewhere that have another MAC.
func Clones(known []Known, seen []Sighting) {
	at := map[string][]int{}
	here := map[netip.Addr]bool{} // who answers now is told by what it says now
	for i, s := range seen {
		here[s.Address] = true
		if s.UUID != "" {
			at[s.UUID] = append(at[s.UUID], i)
		}
	}
	for _, same := range at {
		for _, i := range same {
			for _, j := range same {
				if i != j {
					seen[i].Clones = union(seen[i].Clones, []string{seen[j].Address.String()})
				}
			}
		}
	}
	for _, k := range known {
		for _, i := range at[k.UUID] {
			if s := &seen[i]; k.MAC != "" && s.MAC != "" && k.MAC != s.MAC && k.Address.IsValid() && !here[k.Address] {
				s.Clones = union(s.Clones, []string{k.Address.String()})
			}
		}
	}
	for i := range seen {
		slices.Sort(seen[i].Clones)
	}
}

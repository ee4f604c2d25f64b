// Package identity says which device an answer came from, joins answers of one
// device, and reconciles what was found with what was expected.
package identity

import (
	"fmt"
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
	// RecordsOthers says that it offers ONVIF recording control with receivers, as no camera does.
	RecordsOthers Way = "recording control"
	ShowedWeb     Way = "web page"      // showed a page and answered to nothing else
	OnAPort       Way = "recorder port" // a recorder tells of it, on a port of its own
)

var waysInOrder = []Way{Multicast, Directed, AskedTime, SpokeRTSP, SaidHello, RecordsOthers, ShowedWeb, OnAPort}

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
	NameFixed  bool       `json:"name_fixed,omitempty"` // it can't be given another
	Firmware   string     `json:"firmware"`
	Service    string     `json:"service"` // ONVIF device service as the device gave it, or as it answered
	Ports      []int      `json:"ports"`   // open
	RTSPPort   int        `json:"rtsp_port"`
	Kind       Kind       `json:"kind"`
	Trouble    string     `json:"trouble"`               // what went wrong while asking, worded
	Also       []string   `json:"also,omitempty"`        // other endpoints that answered from this address
	Clones     []string   `json:"clones,omitempty"`      // other addresses that answer with its endpoint
	NoPassword bool       `json:"no_password,omitempty"` // it lets anyone set a first password
	Title      string     `json:"title,omitempty"`       // of its web page
	Page       string     `json:"page,omitempty"`        // where that is
	OldPage    string     `json:"old_page,omitempty"`    // what of a past browser the page wants
	Cert       string     `json:"cert,omitempty"`        // fingerprint of the certificate that it showed over HTTPS
	LinkMAC    string     `json:"link_mac,omitempty"`    // the MAC that this machine's own link has at its address
}

// Kind of device.
type Kind string

const (
	Camera   Kind = "camera"
	Recorder Kind = "recorder"
	Analyser Kind = "analyser" // looks at pictures of cameras that have no analytics of their own
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

// RTSPAlone says whether the device spoke RTSP and no ONVIF.
func (s Sighting) RTSPAlone() bool { return s.Heard(SpokeRTSP) && !s.ONVIF() }

// WaysText lists the ways for people: "multicast, directed".
func (s Sighting) WaysText() string {
	words := make([]string, len(s.Ways))
	for i, w := range s.Ways {
		words[i] = string(w)
		if s.Kind == Analyser && w == SaidHello {
			words[i] = "analyser hello"
		}
	}
	return strings.Join(words, ", ")
}

// Since is the sighting as it stands after an account opened the device: one that an account opens
// has a password, whatever the look before it saw. The zero time: none did.
func (s Sighting) Since(opened time.Time) Sighting {
	if opened.After(s.At) {
		s.NoPassword = false
	}
	return s
}

// maxAlso is how many further endpoints of one address are kept, the lowest: whoever answers with
// more makes them up.
const maxAlso = 8

// severalOnOne says that several devices answer at one address, however many endpoints it shows.
func severalOnOne(s Sighting) string {
	switch n := len(s.Also); {
	case n == 1:
		return fmt.Sprintf("Two devices answer at %s: endpoints %s and %s.", s.Address, s.UUID, s.Also[0])
	case n < maxAlso:
		return fmt.Sprintf("%d devices answer at %s: endpoints %s, %s and %d more.", n+1, s.Address, s.UUID, s.Also[0], n-1)
	}
	return fmt.Sprintf("More than %d devices answer at %s, or one that makes its endpoints up: %s, %s and others.", maxAlso, s.Address, s.UUID, s.Also[0])
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
	out.Also = out.Also[:min(len(out.Also), maxAlso)]
	out.Ports = union(a.Ports, b.Ports)
	slices.Sort(out.Ports)
	for _, f := range []struct{ into, from *string }{
		{&out.UUID, &a.UUID}, {&out.MAC, &a.MAC}, {&out.Serial, &a.Serial}, {&out.Make, &a.Make}, {&out.Model, &a.Model},
		{&out.Name, &a.Name}, {&out.Firmware, &a.Firmware}, {&out.Service, &a.Service}, {&out.Trouble, &a.Trouble},
		{&out.Title, &a.Title}, {&out.Page, &a.Page}, {&out.OldPage, &a.OldPage}, {&out.Cert, &a.Cert}, {&out.LinkMAC, &a.LinkMAC},
	} {
		if *f.into == "" {
			*f.into = *f.from
		}
	}
	if out.RTSPPort == 0 {
		out.RTSPPort = a.RTSPPort
	}
	if out.Kind == "" || a.Kind == Recorder || a.Kind == Analyser { // either may speak RTSP and ONVIF too
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
// any form of RFC 9562 compare equal. Empty for the nil and the max UUID (5.9, 5.10), which
// identify nothing.
func CleanUUID(text string) string {
	t := strings.ToLower(strings.TrimSpace(text))
	t = strings.TrimPrefix(t, "urn:")
	t = strings.TrimPrefix(t, "uuid:")
	if bare := strings.ReplaceAll(t, "-", ""); strings.Trim(bare, "0") == "" || len(bare) == 32 && strings.Trim(bare, "f") == "" {
		return ""
	}
	return t
}

// placeholders are serials that makers leave in where nobody wrote one.
var placeholders = []string{"", "0", "none", "null", "n/a", "na", "unknown", "default", "serial", "serialnumber", "123456789", "1234567890"}

// CleanSerial trims a serial; empty for what makers leave in where nobody wrote one: it
// identifies nothing.
func CleanSerial(text string) string {
	t := strings.TrimSpace(text)
	bare := strings.ToLower(strings.Map(func(r rune) rune {
		if r == ' ' || r == '-' || r == '_' || r == '.' {
			return -1
		}
		return r
	}, t))
	if slices.Contains(placeholders, bare) || strings.Trim(bare, "0") == "" || len(bare) > 3 && strings.Trim(bare, "x") == "" || len(bare) > 3 && strings.Trim(bare, "f") == "" {
		return ""
	}
	return t
}

// CleanMAC writes a MAC address in lower case with colons; empty when it is none, or one
// that identifies nothing: all noughts, the broadcast address, or a group's (IEEE 802, the
// lowest bit of the first octet).
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
	if strings.Trim(hex, "0") == "" || strings.ContainsRune("13579bdf", rune(hex[1])) {
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

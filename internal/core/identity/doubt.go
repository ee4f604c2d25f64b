package identity

import (
	"fmt"
	"net/netip"
	"strings"
)

// Word is a person's word on what answered at an address: that it is of this site, or what it
// may be sent. It holds for what showed itself then and for nothing else. The zero Word holds
// for nothing.
type Word struct {
	Address netip.Addr `json:"address"`
	UUID    string     `json:"uuid"`
	MAC     string     `json:"mac"`
	Serial  string     `json:"serial"`
	Cert    string     `json:"cert"`
}

// WordOn is a word on what a sighting shows.
func WordOn(s Sighting) Word {
	return Word{s.Address, CleanUUID(s.UUID), CleanMAC(s.MAC), CleanSerial(s.Serial), s.Cert}
}

// Holds says whether the word was given on what is seen: at the same address, with the same
// marks, and with the certificate where there was one.
func (w Word) Holds(s Sighting) bool {
	if !w.Address.IsValid() || w.Address != s.Address || w.Cert != "" && w.Cert != s.Cert {
		return false
	}
	switch agree(Known{UUID: w.UUID, MAC: w.MAC, Serial: w.Serial}, s) {
	case same:
		return w.UUID == "" || s.UUID == "" || w.UUID == CleanUUID(s.UUID)
	case unknown:
		return w.UUID+w.MAC+w.Serial == ""
	}
	return false
}

// WasFound says whether a device was found before, heard now or not: one that is silent for some
// looks was, and what shows its marks elsewhere isn't it yet. known says that it was heard, or
// opened, once. No list gives an endpoint or a serial: they were read from it.
func WasFound(k Known, known bool) bool {
	return known || CleanUUID(k.UUID) != "" || CleanSerial(k.Serial) != ""
}

// NewAddress is where a device may go by a person's word: it is silent, or another answers in
// its stead, and at one other address alone its identity is shown.
func NewAddress(f Facts) (netip.Addr, bool) {
	if len(f.Elsewhere) != 1 || f.Seen != nil && f.Outcome != Doubtful {
		return netip.Addr{}, false
	}
	return f.Elsewhere[0], true
}

// Agreement says in words what of a sighting agrees with what was known of a device, and what
// doesn't: what a person goes by.
func Agreement(k Known, s Sighting) string {
	var yes, no []string
	for _, m := range []struct{ name, known, seen string }{{"endpoint", CleanUUID(k.UUID), CleanUUID(s.UUID)}, {"MAC", CleanMAC(k.MAC), CleanMAC(s.MAC)},
		{"serial", CleanSerial(k.Serial), CleanSerial(s.Serial)}, {"certificate", k.Pin, s.Cert}, {"MAC on this link", CleanMAC(k.MAC), s.LinkMAC}} {
		switch compare(m.known, m.seen) {
		case same:
			yes = append(yes, m.name)
		case other:
			no = append(no, m.name)
		}
	}
	says := "same " + strings.Join(yes, ", ")
	if len(yes) == 0 {
		says = "nothing agrees"
	}
	if len(no) > 0 {
		says += "; other " + strings.Join(no, ", ")
	}
	return says
}

// Doubt says why no account may be sent to what answers, until a person settles who it is;
// empty where nothing is in doubt. What answers to nothing isn't in doubt: it is silent.
func Doubt(f Facts, w Wishes) string {
	s := f.Seen
	switch {
	case s == nil && len(f.Elsewhere) > 0:
		return fmt.Sprintf("It is silent where it is known, and %s shows its identity.", addresses(f.Elsewhere))
	case s == nil:
		return ""
	case f.Outcome == Doubtful:
		return fmt.Sprintf("Another device answers at %s than the one known there.", s.Address)
	case w.Ours.Holds(*s):
		return ""
	case len(s.Also) > 0:
		return severalOnOne(*s)
	case len(f.Elsewhere) > 0:
		return fmt.Sprintf("%s shows the same identity.", addresses(f.Elsewhere))
	case len(f.Claims) > 0:
		return fmt.Sprintf("It says to be %s.", claims(f.Claims))
	case s.LinkMAC != "" && s.MAC != "" && s.LinkMAC != s.MAC:
		return fmt.Sprintf("It says that its MAC is %s, and %s answers at its address.", s.MAC, s.LinkMAC)
	case w.Kind == Camera && !w.Expected && f.Behind == nil:
		return "Nobody said that it belongs to this site: it isn't on the expected list."
	}
	return ""
}

// Package known judges who or what is known: sets of reference pictures that analysers hold what they see against. It says whether
// each picture would be known by the others of its own, whether one more would help, who can't be told apart, and what stands between
// a set as it is here and as an analyser holds it.
package known

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Kind is of what the pictures of a set are.
type Kind string

// Kinds of sets.
const (
	Face    Kind = "face"
	Vehicle Kind = "vehicle"
	Thing   Kind = "thing"
)

// Kinds are all of them.
var Kinds = []Kind{Face, Vehicle, Thing}

// Plural words what a set of the kind holds.
func (k Kind) Plural() string {
	return map[Kind]string{Face: "faces", Vehicle: "vehicles", Thing: "things"}[k]
}

// Classes are what objects are said to be that may be of the kind; none: any. Analysers and cameras say it in the words of ONVIF's
// tt:ObjectType, of its first edition too (Vehical), and of tt:VehicleType.
func (k Kind) Classes() []string {
	switch k {
	case Face:
		return []string{"Human", "Face"}
	case Vehicle:
		return []string{"Vehicle", "Vehical", "Boat", "Car", "Truck", "Bus", "Motorcycle", "Bicycle"}
	}
	return nil
}

// Bounds of sets.
const (
	MostName     = 80 // characters
	MostGround   = 300
	MostEntries  = 60  // of a set
	MostPictures = 12  // of an entry
	MostOfSet    = 120 // pictures of a set: likeness grows with the square
	UsualLeast   = 0.8
	UsualNearly  = 0.65
)

// Set is a set of references, with what becomes of who isn't among them. Scores are 0 to 1.
type Set struct {
	ID      int64
	Key     string // by which analysers know it, and that no other set has anywhere
	Name    string
	Kind    Kind
	Least   float64 // from it on one is known
	Nearly  float64 // from it on, below Least, nearly
	Close   bool    // who is nearly known is told as nearly known; else as unknown
	Unknown bool    // who is unknown is told; else nothing is
	Entries []Entry
}

// Entry is who or what is known.
type Entry struct {
	ID       int64
	Name     string    // exactly as it was typed
	Ground   string    // the consent, or the legal ground, on which pictures are kept
	Since    time.Time // the day of that
	Ends     time.Time // the day on which they are deleted
	Gone     bool      // it is to be deleted, and is gone here
	Pictures []Picture
}

// Picture is a reference picture.
type Picture struct {
	ID     int64
	Digest string // SHA-256 of the file as it is sent, hexadecimal
}

// Wrong says what of a set can't be; empty where it can.
func (s Set) Wrong() (field, says string) {
	switch {
	case strings.TrimSpace(s.Name) == "" || utf8.RuneCountInString(s.Name) > MostName:
		return "name", fmt.Sprintf("Name the set, in up to %d characters.", MostName)
	case !plain(s.Name):
		return "name", errPlain
	case !slices.Contains(Kinds, s.Kind):
		return "kind", "A set is of faces, of vehicles or of things."
	case !(s.Least > 0 && s.Least <= 1):
		return "least", "The score from which one is known is above 0, and 1 at the most."
	case !(s.Nearly >= 0 && s.Nearly <= s.Least):
		return "nearly", "The score from which one is nearly known is from 0 to the one from which one is known."
	}
	return "", ""
}

// errPlain is said of a name that wouldn't read back as it was typed.
const errPlain = "A name has no line breaks, nothing that can't be seen, and no space at its ends."

// plain says whether a name is of characters that can be seen, so that it reads back everywhere as it was typed.
func plain(name string) bool {
	if strings.TrimSpace(name) != name {
		return false
	}
	return !strings.ContainsFunc(name, func(r rune) bool {
		return r == utf8.RuneError || unicode.IsControl(r) || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
	})
}

// Wrong says what of an entry can't be on a day; empty where it can. Without a ground, and an end to come, nobody is kept.
func (e Entry) Wrong(today time.Time) (field, says string) {
	switch {
	case strings.TrimSpace(e.Name) == "" || utf8.RuneCountInString(e.Name) > MostName:
		return "name", fmt.Sprintf("Say who or what it is, in up to %d characters.", MostName)
	case !plain(e.Name):
		return "name", errPlain
	case strings.TrimSpace(e.Ground) == "" || utf8.RuneCountInString(e.Ground) > MostGround:
		return "ground", fmt.Sprintf("Say on what ground pictures are kept: who consented to it, or what law asks for it, in up to %d characters.", MostGround)
	case e.Since.IsZero() || e.Since.After(today):
		return "since", "Give the day of that consent or ground; it isn't one to come."
	case !e.Ends.After(today) || e.Ends.After(today.AddDate(10, 0, 0)):
		return "ends", "Give the day on which the pictures are deleted: one to come, within ten years."
	}
	return "", ""
}

// Day is the day in a zone, as a time at its beginning in UTC.
func Day(now time.Time, zone *time.Location) time.Time {
	now = now.In(zone)
	return time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, time.UTC)
}

// Names are the names of its entries, by number.
func (s Set) Names() map[int64]string {
	out := map[int64]string{}
	for _, e := range s.Entries {
		out[e.ID] = e.Name
	}
	return out
}

// Ended says whether the day of its deletion has come.
func (e Entry) Ended(today time.Time) bool { return !e.Ends.After(today) }

// Texts of changes.
const (
	None = "not there"

	textKnown   = "known from %.2f, nearly from %.2f"
	textClose   = ", nearly known ones told"
	textUnknown = ", unknown ones told"
)

// Text is the set without its entries, as a change says it.
func (s Set) Text() string {
	out := s.Name + ", " + s.Kind.Plural() + ", " + fmt.Sprintf(textKnown, s.Least, s.Nearly)
	if s.Close {
		out += textClose
	}
	if s.Unknown {
		out += textUnknown
	}
	return out
}

// digits is how many of a digest tell a picture from the others in a text.
const digits = 8

// Text is the entry as a change says it, each picture by the first digits of its digest.
func (e Entry) Text() string {
	all := make([]string, len(e.Pictures))
	for i, p := range e.Pictures {
		all[i] = p.Digest[:min(digits, len(p.Digest))]
	}
	slices.Sort(all)
	n := fmt.Sprintf("%d pictures", len(all))
	if len(all) == 1 {
		n = "1 picture"
	}
	return e.Name + ", " + n + ": " + strings.Join(all, " ")
}

// Held is what an analyser holds, as it tells it.
type Held struct {
	At   time.Time `json:"at"`
	Sets []HeldSet `json:"sets,omitempty"`
}

// HeldSet is a set that an analyser holds.
type HeldSet struct {
	Key      string      `json:"key"`
	Text     string      `json:"text"`
	Entries  []HeldEntry `json:"entries,omitempty"`
	Likeness Likeness    `json:"likeness"`
	// Differs is how many changes stood between it and the set as it was here when it was read.
	Differs int    `json:"differs,omitempty"`
	Name    string `json:"name"` // of the set here then
}

// Same says whether it holds the same pictures as another, which are then as alike as they were.
func (s HeldSet) Same(o HeldSet) bool { return slices.Equal(s.Entries, o.Entries) }

// HeldEntry is one of its entries.
type HeldEntry struct {
	ID   int64  `json:"id"`
	Text string `json:"text"`
}

// Set finds a set by its key.
func (h Held) Set(key string) (HeldSet, bool) {
	i := slices.IndexFunc(h.Sets, func(s HeldSet) bool { return s.Key == key })
	if i < 0 {
		return HeldSet{}, false
	}
	return h.Sets[i], true
}

// Reads is how a set stands there.
func (h Held) Reads(set string) string {
	if s, ok := h.Set(set); ok {
		return s.Text
	}
	return None
}

// ReadsEntry is how an entry of a set stands there.
func (h Held) ReadsEntry(set string, entry int64) string {
	s, _ := h.Set(set)
	for _, e := range s.Entries {
		if e.ID == entry {
			return e.Text
		}
	}
	return None
}

// Over are the entries of sets that are gone here, and those of them that an analyser holds yet.
func Over(sets []Set, at []Held) (gone, held []int64) {
	for _, s := range sets {
		for _, e := range s.Entries {
			if !e.Gone {
				continue
			}
			gone = append(gone, e.ID)
			if slices.ContainsFunc(at, func(h Held) bool { return h.ReadsEntry(s.Key, e.ID) != None }) {
				held = append(held, e.ID)
			}
		}
	}
	return gone, held
}

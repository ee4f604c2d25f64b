package rule

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// The standard names no types for most of what rules watch for: makes have their own. What one of theirs watches for is told by the
// words of its name alone, so that it is taken for that only where they say one thing, where it is drawn as that is, and where all of its
// parameters have a meaning here; whether it is so is seen by what it fires, beside what was foretold.

// ownWords are the words of names by kind: any of a line is enough, all words of an entry must be there.
var ownWords = map[Kind][]string{
	Crosses:   {"crossing", "tripwire"},
	Inside:    {"intrusion", "inside"},
	ComesInto: {"enter", "enters", "entering", "entry"},
	GoesOut:   {"exit", "exits", "exiting", "leave", "leaves", "leaving"},
	FirstSeen: {"appear", "appears", "appearing"},
	LastSeen:  {"disappear", "disappears", "disappearing"},
	Stays:     {"loiter", "loitering", "dwell"},
	Left:      {"abandoned", "unattended", "left behind"},
	Taken:     {"removed", "removal", "taken", "missing"},
	Crowd:     {"crowd", "crowding", "gathering"},
	Faster:    {"speed", "speeding"},
}

// ownKind is what a type of a make's own watches for by its name; empty: that isn't told, or more than one thing is.
func ownKind(name string) (is Kind) {
	words := wordsOf(name)
	for kind, all := range ownWords {
		told := slices.ContainsFunc(all, func(entry string) bool {
			return !slices.ContainsFunc(strings.Fields(entry), func(w string) bool { return !slices.Contains(words, w) })
		})
		if told && is != "" {
			return ""
		}
		if told {
			is = kind
		}
	}
	return is
}

// wordsOf parts a name as makers write them, "ObjectLeftBehind", "enter_zone", "PTZEntry", in lower case.
func wordsOf(name string) (out []string) {
	var word []rune
	end := func() {
		if len(word) > 0 {
			out, word = append(out, strings.ToLower(string(word))), nil
		}
	}
	all := []rune(name)
	for i, r := range all {
		switch {
		case !unicode.IsLetter(r):
			end()
			continue
		case unicode.IsUpper(r) && i > 0 && (unicode.IsLower(all[i-1]) || i+1 < len(all) && unicode.IsLower(all[i+1])):
			end()
		}
		word = append(word, r)
	}
	end()
	return out
}

// kind is what a type watches for; why says why it is none, where its name says one.
func (t Type) kind() (is Kind, why string) {
	if !t.Maker {
		for kind, name := range typeOf {
			if name == t.Name {
				return kind, ""
			}
		}
		return "", ""
	}
	is = ownKind(t.Name)
	if is == "" || t.Space == "" {
		return "", ""
	}
	if shapes := slices.Collect(maps.Values(t.Shapes)); len(shapes) != 1 || shapes[0] != is.drawnAs() {
		return "", fmt.Sprintf("its own %s isn't drawn as one %s", t.Name, strings.ToLower(is.drawnAs()))
	}
	for _, param := range slices.Sorted(maps.Keys(t.Values)) {
		if role(param) == noRole {
			return "", fmt.Sprintf("its own %s takes %q, for which there are no words here", t.Name, param)
		}
	}
	return is, ""
}

// drawnAs is the element that a kind's drawing is written as.
func (k Kind) drawnAs() string {
	if k == Crosses {
		return "Polyline"
	}
	return "Polygon"
}

// typeFor is the type that says a kind: the standard's, else one of the make's own.
func (s Supported) typeFor(k Kind) (Type, bool) {
	for _, maker := range []bool{false, true} {
		for _, t := range s.Types {
			if is, _ := t.kind(); is == k && t.Maker == maker {
				return t, true
			}
		}
	}
	return Type{}, false
}

// Own is the name of the make's own type that is taken for a kind; empty: the standard's is, or none.
func (s Supported) Own(k Kind) string {
	if t, ok := s.typeFor(k); ok && t.Maker {
		return t.Name
	}
	return ""
}

// OwnOf is the kind for which a make's own type of that name is taken; empty: none.
func (s Supported) OwnOf(name string) Kind {
	for _, k := range Kinds {
		if s.Own(k) == name && name != "" {
			return k
		}
	}
	return ""
}

// Speeds of makers are in pictures a second where the parameter's name says that they are a percentage.
func speedOf(name, value string) (float64, bool) {
	v, err := strconv.ParseFloat(value, 64)
	return v / 100, err == nil && v > 0 && slices.Contains(wordsOf(name), "percent")
}

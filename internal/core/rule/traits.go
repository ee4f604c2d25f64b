package rule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/scene"
)

// Traits are what of an object's a rule asks for, besides its class: what a camera doesn't tell of it, it hasn't. The zero
// Traits ask for nothing.
type Traits struct {
	Colours []scene.Colour  `json:",omitempty"` // any of them
	Has     []scene.Carried `json:",omitempty"` // all of them
	Lacks   []scene.Carried `json:",omitempty"` // all of them: it was told to be without
}

// Any says whether anything is asked for.
func (t Traits) Any() bool { return len(t.Colours)+len(t.Has)+len(t.Lacks) > 0 }

// Of says whether an object is as asked for.
func (t Traits) Of(o scene.Traits) bool {
	within := func(asked, told []scene.Carried) bool {
		return !slices.ContainsFunc(asked, func(c scene.Carried) bool { return !slices.Contains(told, c) })
	}
	return (len(t.Colours) == 0 || slices.Contains(t.Colours, o.Colour)) && within(t.Has, o.Has) && within(t.Lacks, o.Lacks)
}

// Wrong is what can't be asked for; empty: it can.
func (t Traits) Wrong() string {
	if len(t.Colours) > len(scene.Colours) || len(t.Has)+len(t.Lacks) > len(scene.Carrieds) {
		return "each colour, and each thing carried or worn, is asked for once"
	}
	for _, c := range t.Colours {
		if !slices.Contains(scene.Colours, c) {
			return fmt.Sprintf("%.20q is no colour that there is a word for", c)
		}
	}
	for _, c := range slices.Concat(t.Has, t.Lacks) {
		if !slices.Contains(scene.Carrieds, c) {
			return fmt.Sprintf("%.20q is nothing that is told of", c)
		}
		if slices.Contains(t.Has, c) && slices.Contains(t.Lacks, c) {
			return "nobody is with and without " + carriedWords[c]
		}
	}
	return ""
}

// carriedWords are what is carried, in words that follow with and without.
var carriedWords = map[scene.Carried]string{scene.Bag: "a bag", scene.Hat: "a hat", scene.FaceCover: "the face covered"}

// Words are what is asked for, after who is: "red or blue, with a bag, without a hat"; empty: nothing.
func (t Traits) Words() string {
	var parts []string
	colours := make([]string, len(t.Colours))
	for i, c := range t.Colours {
		colours[i] = strings.ToLower(string(c))
	}
	if len(colours) > 0 {
		parts = append(parts, strings.Join(colours, " or "))
	}
	for _, c := range t.Has {
		parts = append(parts, "with "+carriedWords[c])
	}
	for _, c := range t.Lacks {
		parts = append(parts, "without "+carriedWords[c])
	}
	return strings.Join(parts, ", ")
}

// Told are an object's traits in words: "purple, plate GP 41 FT, 1.5 m/s, without a hat"; empty: none is told.
func Told(t scene.Traits) string {
	var parts []string
	if t.Colour != "" {
		parts = append(parts, strings.ToLower(string(t.Colour)))
	}
	if t.Plate != "" {
		parts = append(parts, "plate "+t.Plate)
	}
	if t.Speed > 0 {
		parts = append(parts, strconv.FormatFloat(t.Speed, 'f', 1, 64)+" m/s")
	}
	if worn := (Traits{Has: t.Has, Lacks: t.Lacks}).Words(); worn != "" {
		parts = append(parts, worn)
	}
	return strings.Join(parts, ", ")
}

// Untold says what a rule asks for that isn't told of any of the objects it would be about otherwise: it can't fire. Empty:
// all of it is told of some, or there are none.
func Untold(r Rule, tracks []scene.Track) string {
	colour, carried := len(r.Colours) == 0, len(r.Has)+len(r.Lacks) == 0
	some := 0
	for i := range tracks {
		if !(&Rule{Classes: r.Classes}).about(tracks[i].Class, scene.Traits{}) {
			continue
		}
		some++
		t := tracks[i].Traits
		colour = colour || t.Colour != ""
		carried = carried || !slices.ContainsFunc(slices.Concat(r.Has, r.Lacks), func(c scene.Carried) bool {
			return !slices.Contains(t.Has, c) && !slices.Contains(t.Lacks, c)
		})
	}
	var missing []string
	if !colour {
		missing = append(missing, "no colour")
	}
	if !carried {
		missing = append(missing, "nothing of what is carried or worn")
	}
	if some == 0 || len(missing) == 0 {
		return ""
	}
	return "Of what was seen the camera told " + strings.Join(missing, " and ") + ": a rule that asks for it can't fire."
}

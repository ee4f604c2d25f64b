package scene

import (
	"cmp"
	"math"
	"slices"
)

// Colour is a colour in a word.
type Colour string

// Colours, as they are offered.
const (
	Black  Colour = "Black"
	White  Colour = "White"
	Grey   Colour = "Grey"
	Red    Colour = "Red"
	Orange Colour = "Orange"
	Brown  Colour = "Brown"
	Yellow Colour = "Yellow"
	Green  Colour = "Green"
	Blue   Colour = "Blue"
	Purple Colour = "Purple"
	Pink   Colour = "Pink"
)

// Colours in the order in which they are offered.
var Colours = []Colour{Black, White, Grey, Red, Orange, Brown, Yellow, Green, Blue, Purple, Pink}

// ColourOf is the word for a colour, of red, green and blue from 0 to 1. What is nearly without light is black, what is nearly
// without hue is white or grey by its light; the rest goes by hue, in degrees from red over green.
func ColourOf(r, g, b float64) Colour {
	in := func(v float64) float64 { return max(0, min(1, v)) }
	r, g, b = in(r), in(g), in(b)
	most, least := max(r, g, b), min(r, g, b)
	if most < 0.2 {
		return Black
	}
	if most-least < 0.12*most {
		if most >= 0.8 {
			return White
		}
		return Grey
	}
	switch hue := hueOf(r, g, b, most, most-least); {
	case hue < 15 || hue >= 345:
		return Red
	case hue < 38 && most < 0.7:
		return Brown
	case hue < 38:
		return Orange
	case hue < 70:
		return Yellow
	case hue < 180:
		return Green
	case hue < 255:
		return Blue
	case hue < 290 || most < 0.6:
		return Purple
	}
	return Pink
}

// hueOf is in degrees from 0 to 360.
func hueOf(r, g, b, most, spread float64) (hue float64) {
	switch most {
	case r:
		hue = (g - b) / spread
	case g:
		hue = 2 + (b-r)/spread
	default:
		hue = 4 + (r-g)/spread
	}
	return math.Mod(60*hue+360, 360)
}

// OfYCbCr is red, green and blue of a colour by ITU-R BT.601 with all of its range, from 0 to 255 each.
func OfYCbCr(y, cb, cr float64) (r, g, b float64) {
	cb, cr = cb-128, cr-128
	return (y + 1.402*cr) / 255, (y - 0.344136*cb - 0.714136*cr) / 255, (y + 1.772*cb) / 255
}

// Carried is what someone may carry or wear.
type Carried string

// What is told of.
const (
	Bag       Carried = "Bag"
	Hat       Carried = "Hat"
	FaceCover Carried = "FaceCover" // a mask, a hood or a scarf over the face
)

// Carrieds in the order in which they are offered.
var Carrieds = []Carried{Bag, Hat, FaceCover}

// Traits are what is told of an object besides its class. What isn't told is zero: neither had nor lacked.
type Traits struct {
	Colour Colour    `json:"colour,omitempty"` // that it has most of
	Plate  string    `json:"plate,omitempty"`
	Speed  float64   `json:"speed,omitempty"` // in m/s, the greatest that was told
	Has    []Carried `json:"has,omitempty"`
	Lacks  []Carried `json:"lacks,omitempty"` // what it was told to be without
	// Held is what it was held to be by sets of references, a set each.
	Held []Recognised `json:"held,omitempty"`
}

// Recognised is what an object was held to be by a set of references.
type Recognised struct {
	Set   string  `json:"set"`             // by its key
	Entry int64   `json:"entry,omitempty"` // the likest; 0: it is told to be unknown
	As    string  `json:"as"`              // known, nearly known or unknown
	Score float64 `json:"score"`           // 0 to 1
}

// MostHeld is by how many sets an object is told to be held.
const MostHeld = 8

// None says whether nothing is told.
func (t Traits) None() bool {
	return t.Colour == "" && t.Plate == "" && t.Speed == 0 && len(t.Has) == 0 && len(t.Lacks) == 0 && len(t.Held) == 0
}

// Also adds what is told later. Of what was told before it has the last word; a speed is the greatest.
func (t Traits) Also(later Traits) Traits {
	if later.None() {
		return t
	}
	if later.Colour != "" {
		t.Colour = later.Colour
	}
	if later.Plate != "" {
		t.Plate = later.Plate
	}
	t.Speed = max(t.Speed, later.Speed)
	t.Has, t.Lacks = also(t.Has, later.Has, later.Lacks), also(t.Lacks, later.Lacks, later.Has)
	t.Held = alsoHeld(t.Held, later.Held)
	return t
}

// alsoHeld is what an object was held to be, of each set what was surest: of what is as sure what was told last.
func alsoHeld(was, came []Recognised) []Recognised {
	out := slices.Clone(was)
	for _, c := range came {
		i := slices.IndexFunc(out, func(h Recognised) bool { return h.Set == c.Set })
		switch {
		case i >= 0 && c.Score >= out[i].Score:
			out[i] = c
		case i < 0 && len(out) < MostHeld:
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b Recognised) int { return cmp.Compare(a.Set, b.Set) })
	return out
}

// also is what was there with what came, less what went, in one order whatever the order of telling.
func also(was, came, went []Carried) (out []Carried) {
	for _, c := range Carrieds {
		if slices.Contains(came, c) || slices.Contains(was, c) && !slices.Contains(went, c) {
			out = append(out, c)
		}
	}
	return out
}

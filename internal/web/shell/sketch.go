package shell

// Sketch is a value that would be long in words as a small drawing with a short name: a week, what lies over a
// picture. The words stay beside it, folded.
type Sketch struct {
	Name   string  // "by night, by day"
	Width  float64 // of what it is drawn in, in its own units
	Height float64
	Parts  []SketchPart
	Areas  []string // polygons: "0,0 10,0 10,10"
	Lines  []string // of several points
}

// SketchPart is a rectangle of it.
type SketchPart struct {
	X, Y, W, H float64
	Class      string
}

// Draw is what a change comes from and goes to, from its arguments; ok is false where they don't tell.
type Draw func(args map[string]string) (from, to Sketch, ok bool)

// Drawer is a Page that draws changes of its stage, by their kind.
type Drawer interface {
	Page
	Draws() map[string]Draw
}

// sketches are both sides of a change; nil where no page draws its kind.
func (s *Server) sketches(kind string, args map[string]string) []Sketch {
	d, ok := s.draws[kind]
	if !ok {
		return nil
	}
	from, to, ok := d(args)
	if !ok {
		return nil
	}
	return []Sketch{from, to}
}

package finding

// Fate is what follows for a change of a device when another of the same whole failed.
type Fate string

const (
	// Untouched: it is settled already, or takes another back.
	Untouched Fate = ""
	// NotSent: it was only asked for, and isn't sent any more.
	NotSent Fate = "not sent"
	// Stands: it was made and nothing takes it back; its Undo says why.
	Stands Fate = "stands"
	// TakenBack: it was made, and its inverse is to be made.
	TakenBack Fate = "taken back"
)

// Standing is how a change of a whole stands.
type Standing struct {
	Change
	Asked     bool // written down, nothing sent
	Made      bool // the device reads what was wanted
	Wrote     bool // by our writing, not as we found it
	TakesBack bool // it undoes another
}

// Fallout says what follows for each change of one device's whole when the failed one
// (its index) failed: those that weren't sent aren't; what was made is taken back where
// it can be, the last first; what read as wanted before we came isn't ours to take back.
func Fallout(all []Standing, failed int) []Fate {
	out := make([]Fate, len(all))
	for i, s := range all {
		switch {
		case i == failed, s.TakesBack:
		case s.Asked:
			out[i] = NotSent
		case s.Made && s.Wrote:
			out[i] = Stands
			if _, ok := s.Inverse(); ok {
				out[i] = TakenBack
			}
		}
	}
	return out
}

package stage

// Requirement is what must be known of a source before a stage's facts can be read of it.
type Requirement string

const (
	Seen        Requirement = "seen"         // something answered at its address
	Speaks      Requirement = "speaks"       // it answered ONVIF or RTSP, and not only to a recorder
	SpeaksONVIF Requirement = "speaks ONVIF" // it answered ONVIF, and not only to a recorder
	Opened      Requirement = "opened"       // an account opens it
	Certain     Requirement = "certain"      // nobody doubts who it is: an account may be sent
)

// Requires lists what the wire asks for before s can be read: where any of it isn't known
// yet, the source is left out of a reading.
func (s Stage) Requires() []Requirement { return s.row().requires }

// Urgency lists the states by how much they want a person, the worst first: the order of
// every list that is sorted by a mark.
func Urgency() []State {
	return []State{Blocked, Needs, Stale, Working, NotYet, Ready, NotHere}
}

// Letter is a state as one letter, as the database keeps a source's ten states.
func (s State) Letter() string {
	switch s {
	case Ready:
		return "r"
	case Needs:
		return "n"
	case Blocked:
		return "b"
	case Working:
		return "w"
	case Stale:
		return "s"
	case NotHere:
		return "a"
	}
	return "y"
}

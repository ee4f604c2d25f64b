package clock

// Holder is the recorder that holds a camera, or the one that is planned for it. The
// zero Holder is no recorder.
type Holder struct {
	ID      int64
	Name    string
	Holds   bool     // it holds the camera, else it is planned
	Reading *Reading // its own clock; nil: it wasn't read
	NTP     string   // the address where it was heard to serve NTP; empty: it wasn't
	Dates   string   // how it writes dates and times, as a reading's; empty: not said
	Times   string
}

// ReferenceOf is what a camera's clock is held against: its recorder, where that one's
// own clock was read, else this server.
func ReferenceOf(h Holder) Reference {
	if h.ID == 0 || h.Reading == nil {
		return Reference{Name: "this server", Why: Nobody}
	}
	ref := Reference{ID: h.ID, Name: h.Name, Offset: h.Reading.Offset, Why: Planned, Address: h.NTP, Zone: h.Reading.Zone, Dates: h.Dates, Times: h.Times}
	if h.Holds {
		ref.Why = Holds
	}
	return ref
}

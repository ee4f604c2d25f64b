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
	// Stays: it was made and guards the failed one, of which it isn't known how it ended:
	// it isn't taken back before a person decided.
	Stays Fate = "stays"
)

// Guards names, among a change's arguments, the kind of change that it guards, be it that
// it sets the guard or that it lifts it: a channel is paused so that it doesn't knock
// while its camera's password changes, and resumed after.
const Guards = "guards"

// Entry is one change of a device's whole, and how far it came.
type Entry struct {
	Change
	Asked     bool // written down, nothing sent
	Made      bool // the device reads what was wanted
	Wrote     bool // by our writing, not as we found it
	Left      bool // it failed, and the device reads neither what it was nor what was wanted
	TakesBack bool // it undoes another
}

func (s Entry) guards(o Entry) bool {
	kind := s.Args[Guards]
	return kind != "" && kind == o.Kind
}

// Fallout says what follows for each change of one device's whole when the failed one
// (its index) failed: those that weren't sent aren't; what was made is taken back where
// it can be, the last first; what read as wanted before we came isn't ours to take back.
// known says whether it is known how the failed one ended.
//
// What failed half-way is taken back too, and so is a guard of which it isn't known
// whether it was lifted. Where what failed was to take another back, that other stands,
// and its guard with it; where it was to put a guard back, nothing that it guards may be
// touched, and no more is taken back at all.
func Fallout(all []Entry, failed int, known bool) []Fate {
	out := make([]Fate, len(all))
	f := all[failed]
	for i, s := range all {
		guards := (!known || f.TakesBack) && s.guards(f)
		_, back := s.Inverse()
		switch {
		case i == failed:
			if !f.TakesBack && back && f.Wrote && (f.Left || !known && f.Args[Guards] != "") {
				out[i] = TakenBack
			}
		case s.TakesBack:
			if s.Asked && f.TakesBack && (guards || f.Args[Guards] != "") {
				out[i] = NotSent
			}
		case s.Asked:
			out[i] = NotSent
		case s.Made && s.Wrote && guards:
			out[i] = Stays
		case s.Made && s.Wrote && back:
			out[i] = TakenBack
		case s.Made && s.Wrote:
			out[i] = Stands
		}
	}
	return out
}

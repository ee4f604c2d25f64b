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

// Follows names, among a change's arguments, the kind of change that it follows from: a channel is given
// the password that its camera was given. Where that one can't be taken back, neither is this.
const Follows = "follows"

// Entry is one change of a device's whole, and how far it came.
type Entry struct {
	Change
	Asked     bool // written down, nothing sent
	Made      bool // the device reads what was wanted
	Wrote     bool // by our writing, not as we found it
	Left      bool // it failed, and the device reads neither what it was nor what was wanted
	TakesBack bool // it undoes another
	// Kept says of one that takes another back and failed that the device still reads what it was to take
	// back.
	Kept bool
}

func (s Entry) guards(o Entry) bool {
	kind := s.Args[Guards]
	return kind != "" && kind == o.Kind
}

func (s Entry) follows(o Entry) bool {
	kind := s.Args[Follows]
	return kind != "" && kind == o.Kind
}

// BackOrder is in which order what is taken back of a device's whole is taken back, by its places: the
// last first, but what others follow from before those. Where it can't be taken back nothing was done to
// them yet.
func BackOrder(all []Entry, fates []Fate) (out []int) {
	for i := len(all) - 1; i >= 0; i-- {
		if fates[i] != TakenBack {
			continue
		}
		at := len(out)
		for at > 0 && all[out[at-1]].follows(all[i]) {
			at--
		}
		out = append(out[:at], append([]int{i}, out[at:]...)...)
	}
	return out
}

// Fallout says what follows for each change of one device's whole when the failed one
// (its index) failed: those that weren't sent aren't; what was made is taken back where
// it can be, the last first; what read as wanted before we came isn't ours to take back.
// known says whether it is known how the failed one ended.
//
// What failed half-way is taken back too, and so is a guard of which it isn't known
// whether it was lifted. Where what failed was to take another back, that other stands,
// and its guard with it; where it was to put a guard back, nothing that it guards may be
// touched, and no more is taken back at all. Where it is known that it still reads as it was made, what
// follows from it stays too, and its guards are lifted: all is as it was meant.
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
		case s.TakesBack && s.Asked && f.TakesBack && f.Kept && known && f.Args[Guards] == "":
			if s.follows(f) {
				out[i] = NotSent
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

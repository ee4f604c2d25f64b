package channel

import "slices"

// Held is a recorder's slot with the number of its recorder.
type Held struct {
	Recorder int64
	Slot     *Slot // nil: the recorder is only planned
}

// SourceProfiles is one view of a device, as the slots that hold the device's address are told
// apart by it.
type SourceProfiles struct {
	Address string
	First   bool     // of its device's views
	Own     []string // tokens of the profiles that show it
	Others  []string // tokens of those that show its device's other views
}

// Shows says whether what a slot holds is the view: the slot asks for a profile that shows
// it. A slot that doesn't tell its profile, or asks for one that nobody knows, is its
// device's first view's.
func (v SourceProfiles) Shows(s Slot) bool {
	switch {
	case v.Address == "" || s.Address != v.Address:
		return false
	case s.Profile != "" && slices.Contains(v.Own, s.Profile):
		return true
	case s.Profile != "" && slices.Contains(v.Others, s.Profile):
		return false
	}
	return v.First
}

// Holders knows which slots of which recorders hold which address. The zero Holders
// knows none.
type Holders struct{ at map[string][]Held }

// Add takes in a recorder's channel table; r must not be written afterwards.
func (h *Holders) Add(recorder int64, r *Recorder) {
	if h.at == nil {
		h.at = map[string][]Held{}
	}
	for i := range r.Slots {
		s := &r.Slots[i]
		h.at[s.Address] = append(h.at[s.Address], Held{recorder, s})
	}
}

// Hold says whether any slot holds an address.
func (h Holders) Hold(address string) bool { return len(h.at[address]) > 0 }

// Of is who holds a view, else the recorder that is planned for it (0: none is), with no
// slot. Of several slots that hold it, the planned recorder's counts, else the one that was added
// first: a recorder that takes over from another holds it beside that for a while. ok is false
// where neither is.
func (h Holders) Of(v SourceProfiles, planned int64) (held Held, ok bool) {
	for _, one := range h.at[v.Address] {
		if v.Shows(*one.Slot) && (!ok || one.Recorder == planned && held.Recorder != planned) {
			held, ok = one, true
		}
	}
	if ok {
		return held, true
	}
	return Held{Recorder: planned}, planned != 0
}

// At is the slot of a recorder that holds a view; nil: none does.
func (h Holders) At(v SourceProfiles, recorder int64) *Slot {
	for _, one := range h.at[v.Address] {
		if one.Recorder == recorder && v.Shows(*one.Slot) {
			return one.Slot
		}
	}
	return nil
}

// SlotsOf lists all slots of a recorder that name an address.
func SlotsOf(r Recorder, address string) []Slot {
	var out []Slot
	for _, s := range r.Slots {
		if s.Address == address && address != "" {
			out = append(out, s)
		}
	}
	return out
}

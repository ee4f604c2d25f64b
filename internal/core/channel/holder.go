package channel

// Held is a recorder's slot with the number of its recorder.
type Held struct {
	Recorder int64
	Slot     *Slot // nil: the recorder is only planned
}

// Holders knows which slot of which recorder holds which address. The zero Holders
// knows none.
type Holders struct{ at map[string]Held }

// Add takes in a recorder's channel table. Of two slots that hold one address, the one
// that was added first counts; r must not be written afterwards.
func (h *Holders) Add(recorder int64, r *Recorder) {
	if h.at == nil {
		h.at = map[string]Held{}
	}
	for i := range r.Slots {
		s := &r.Slots[i]
		if _, taken := h.at[s.Address]; !taken {
			h.at[s.Address] = Held{recorder, s}
		}
	}
}

// Of is who holds the camera at an address, else the recorder that is planned for it
// (0: none is), with no slot. ok is false where neither is.
func (h Holders) Of(address string, planned int64) (held Held, ok bool) {
	if held, ok = h.at[address]; ok && address != "" {
		return held, true
	}
	return Held{Recorder: planned}, planned != 0
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

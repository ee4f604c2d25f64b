package site

import (
	"slices"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/store"
)

// takes takes in which streams a recorder takes by their address.
func (s *Snapshot) takes(recorder int64, table *channel.Recorder) {
	for i := range table.Slots {
		key := channel.StreamKey(table.Slots[i].From)
		if key == "" {
			continue
		}
		if s.takenFrom == nil {
			s.takenFrom = map[string][]channel.Held{}
		}
		s.takenFrom[key] = append(s.takenFrom[key], channel.Held{Recorder: recorder, Slot: &table.Slots[i]})
	}
}

// ServedAt is the address at which a recorder gives a channel on: whatever host it names, it is spoken to
// where it was reached. Empty: it gives it on nowhere.
func ServedAt(rec store.Device, slot channel.Slot) string {
	if slot.Serves == "" || rec.Address == nil {
		return ""
	}
	at, _, err := stream.RepairHost(slot.Serves, *rec.Address)
	if err != nil {
		return ""
	}
	return at
}

// HeldBeside lists the recorders that hold a view, without one.
func (s *Snapshot) HeldBeside(of Source, without int64) (out []channel.Named) {
	view := s.viewOf(of)
	if !s.holders.Hold(view.Address) {
		return nil
	}
	for _, rec := range s.recorders {
		if x := s.holders.At(view, rec.ID); x != nil && rec.ID != without {
			if r, known := Recorder.Of(s, rec.ID); known {
				out = append(out, channel.Named{RecorderID: rec.ID, Recorder: r, Slot: *x})
			}
		}
	}
	return out
}

// AlsoOn lists where a view has a channel besides the one that counts: other recorders that hold it,
// and those that take a channel that holds it.
func (s *Snapshot) AlsoOn(of Source) (out []channel.Named) {
	rec, slot, ok := s.HolderOf(of)
	if !ok || slot == nil {
		return nil
	}
	add := func(id int64, x channel.Slot) {
		if r, known := Recorder.Of(s, id); known && id != rec.ID && !slices.ContainsFunc(out, func(n channel.Named) bool { return n.RecorderID == id }) {
			out = append(out, channel.Named{RecorderID: id, Recorder: r, Slot: x})
		}
	}
	given := []string{ServedAt(rec, *slot)}
	for _, other := range s.HeldBeside(of, rec.ID) {
		add(other.RecorderID, other.Slot)
		d, _ := s.Device(other.RecorderID)
		given = append(given, ServedAt(d, other.Slot))
	}
	for _, at := range given {
		for _, t := range s.takenFrom[channel.StreamKey(at)] {
			add(t.Recorder, *t.Slot)
		}
	}
	return out
}

package access

import (
	"slices"
	"time"
)

// ForCameras leaves out the sets that are recorders' own accounts: a recorder's account
// is no camera's.
func ForCameras(sets []Set, recorders map[int64]bool) []Set {
	return slices.DeleteFunc(slices.Clone(sets), func(s Set) bool { return recorders[s.ID] })
}

// defaultName is what an account is called that is made where no set names one.
const defaultName = "harbour"

// AccountName is what an account is called that is made on a device: as the first of the
// site's shared sets is that is neither a maker's default nor left by others.
func AccountName(sets []Set) string {
	var first Set
	for _, s := range sets {
		if s.Device == 0 && !s.Factory && !s.Former && (first.ID == 0 || s.ID < first.ID) {
			first = s
		}
	}
	if first.Username == "" {
		return defaultName
	}
	return first.Username
}

// Holder is how the recorder stands that holds a camera, as its channel table says.
type Holder struct {
	Recorder     string
	RecorderID   int64
	Channel      int
	State        string // as channel.Slot
	Paused       bool
	Label        string
	AuthFailures int
	TableAt      time.Time
}

// AuthFailuresOf lists the recorders that a device refuses though their clock agrees with its
// own: they hold another password. So do those that were paused with one. opened is the
// set that opens the device (0: none is known); clockRefused says that the device would
// refuse the recorder for its clock.
func AuthFailuresOf(h Holder, opened int64, clockRefused bool) []AuthFailure {
	k := AuthFailure{Recorder: h.Recorder, RecorderID: h.RecorderID, Channel: h.Channel, Times: h.AuthFailures,
		At: h.TableAt, Label: h.Label}
	switch {
	case h.Paused && h.Label != "":
		if opened == 0 || h.Label == Label(opened) {
			return nil
		}
		k.Paused = true
		return []AuthFailure{k}
	case h.State != "refused", h.AuthFailures == 0, clockRefused:
		return nil
	}
	return []AuthFailure{k}
}

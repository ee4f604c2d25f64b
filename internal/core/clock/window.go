package clock

import (
	"fmt"
	"time"
)

// Against is what a camera was held against when its clock was read.
type Against struct {
	ID   int64  `json:"id"` // of the recorder; 0: this server
	Name string `json:"name"`
	Why  string `json:"why"` // as Reference.Why
}

// Stale says why a reading no longer counts: the camera was placed, moved to another
// recorder or taken off one since. Empty where it still does.
func Stale(f Facts) string {
	if f.Camera == nil || f.Camera.Against == nil {
		return ""
	}
	was, is := *f.Camera.Against, f.Reference
	if was.ID == is.ID && was.Why == is.Why {
		return ""
	}
	now := is.Name + " is what it is held against now"
	switch is.Why {
	case Holds:
		now = is.Name + " holds it now"
	case Planned:
		now = is.Name + " is planned for it now"
	}
	return fmt.Sprintf("Its clock was read when it was held against %s (%s); %s: read it again.", was.Name, was.Why, now)
}

// Why a camera is held against its reference.
const (
	Holds   = "holds it"
	Planned = "planned"
	Nobody  = "no recorder yet"
)

// Tried is how a recorder that signs in with its own time fared with a camera.
type Tried struct {
	Receives bool      // the camera took it
	Refused  bool      // the camera refused it, though it holds the password that opens the camera
	Since    time.Time // when that began, on this server's clock
}

// ShownWindow is the sign-in window that a camera has shown: at least the offset at
// which it took a recorder beyond the usual window, or less than the one at which it
// refused a recorder with the right password within it. Zero where it has shown
// neither. o is the offset against that recorder, read at at: what the recorder did
// before says nothing of it.
func ShownWindow(o Offset, at time.Time, t Tried) time.Duration {
	d := o.Mid().Abs()
	switch {
	case t.Since.Before(at):
	case t.Receives && d > defaultWindow:
		return d + o.Error()
	case t.Refused && d > UsableWithin && d <= defaultWindow:
		return max(d-o.Error()-time.Millisecond, UsableWithin)
	}
	return 0
}

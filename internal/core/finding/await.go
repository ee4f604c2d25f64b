package finding

import "time"

// Awaited is where a device stands that was told to start again or to move.
type Awaited int

const (
	Untold   Awaited = iota // it wasn't told to yet
	Lingers                 // it goes on as before, and may for a moment
	Stayed                  // it goes on as before for so long that it won't
	Underway                // it is silent, and may be for a while
	Lost                    // it is silent for longer than that
)

// LingersFor is how long a device may go on as before once it was told to start again or
// to move.
const LingersFor = 20 * time.Second

// Await says where a device stands that was told to start again or to move, since ago, and
// may be silent for as long as patience.
func Await(told, silent bool, since, patience time.Duration) Awaited {
	switch {
	case !told:
		return Untold
	case !silent && since < LingersFor:
		return Lingers
	case !silent:
		return Stayed
	case since < patience:
		return Underway
	}
	return Lost
}

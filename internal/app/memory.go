package app

import (
	"os"
	"runtime/debug"
)

// softMemory is from how many bytes on the server collects its garbage at once: beside devices that
// send as much as they may it would hold several times what it uses.
const softMemory = 320 << 20

// BoundMemory sets how a server collects its garbage: seldom while its heap is small, so that pages
// are answered sooner for some tens of MB, and at once beyond softMemory. GOGC and GOMEMLIMIT say
// otherwise.
func BoundMemory() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(400)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(softMemory)
	}
}

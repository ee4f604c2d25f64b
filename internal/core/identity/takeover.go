package identity

import (
	"fmt"
	"net/netip"
)

// MayTakeOver says why what answers may not take a place on the list over; empty where
// it may. place is who is listed there; newcomer is another known device that answers, nil
// where it is what answers at the place's own address, of which outcome tells how it was
// reconciled.
func MayTakeOver(place Known, newcomer *Known, answers bool, outcome Outcome) string {
	switch {
	case !answers, place.Kind != Camera, newcomer != nil && newcomer.Kind != Camera:
		return "Nothing answers that could take the place of " + place.Place + ": look again."
	case newcomer != nil && newcomer.Expected:
		return newcomer.Place + " is on the list itself."
	case newcomer == nil && outcome != Doubtful:
		return "The device that answers at " + place.Place + " is the one that is known there."
	}
	return ""
}

// IsSame says whether what answered shows itself to be a known device: something that
// identifies it agrees, and less disagrees. What shows nothing of itself isn't.
func IsSame(k Known, s Sighting) bool { return agree(k, s) == same }

// Occupied says why a device can't be moved to an address at which something was asked
// first: another device answers there. Empty where nothing does, or where it is the device
// itself.
func Occupied(k Known, to netip.Addr, who Sighting, answers bool) string {
	switch {
	case !answers, IsSame(k, who):
		return ""
	case who.UUID != "":
		return fmt.Sprintf("%s is taken: another device answers there (endpoint %s). Nothing was written.", to, who.UUID)
	}
	return fmt.Sprintf("%s is taken: something answers there. Nothing was written.", to)
}

package identity

import (
	"net/netip"
	"time"
)

// Scan is the last look at the networks that covered a device's address, and what holding its answers against the
// list made of it. What a person has to settle is carried from look to look, see Carry.
type Scan struct {
	At        time.Time    `json:"at"`
	Tried     string       `json:"tried,omitempty"`
	Outcome   Outcome      `json:"outcome,omitempty"`
	Found     bool         `json:"found,omitempty"` // it was seen, at this look or one before
	WasUUID   string       `json:"was_uuid,omitempty"`
	Elsewhere []netip.Addr `json:"elsewhere,omitempty"` // see Match
	Claims    []Claim      `json:"claims,omitempty"`
	MovedFrom netip.Addr   `json:"moved_from,omitzero"`
}

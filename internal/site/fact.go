package site

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/core/view"
	"duskyharbor/internal/store"
)

// Fact is the typed key of a device's fact: its name, and the type that its value has as JSON.
// A stage of one's own makes its own keys:
//
//	var lens = site.Fact[Lens]{Name: "lens.reading"}
//	err := st.KeepFacts(ctx, lens.New(d.ID, "GetLens", now, l)) // when it was read
//	l, ok := lens.Of(snapshot, d.ID)                            // when it is judged
type Fact[T any] struct{ Name string }

// ViewFact is the typed key of a fact of one view of a device. Each of a device's views
// has its own.
type ViewFact[T any] struct{ Name string }

// Keys of the facts that are kept of devices.
var (
	Seen         = Fact[identity.Sighting]{fact.Seen}            // what it answered before anyone signed in
	FindAsked    = Fact[Inquiry]{fact.FindAsked}                 // the last look that covered its address
	Account      = Fact[access.Account]{fact.Account}            // what opened it
	SignInAsked  = Fact[Inquiry]{fact.SignInAsked}               // the last signing in
	PasswordRule = Fact[access.Rule]{fact.PasswordRule}          // which passwords it takes
	WebAccount   = Fact[access.Account]{fact.WebAccount}         // what opens its page alone
	Users        = Fact[[]string]{fact.Users}                    // its ONVIF accounts with their levels
	Info         = Fact[identity.Sighting]{fact.Info}            // what it says of itself once signed in
	Services     = Fact[map[string]string]{fact.Services}        // address of each ONVIF service, by namespace
	IPConfig     = Fact[netplan.IPConfig]{fact.IPConfig}         // its address settings
	DNS          = Fact[netplan.DNS]{fact.DNS}                   // its name servers
	Hidden       = Fact[bool]{fact.Hidden}                       // its discovery is off
	VideoSources = Fact[[]stream.VideoSource]{fact.VideoSources} // what it looks at
	Pin          = Fact[string]{fact.Pin}                        // fingerprint of the certificate that is trusted
	ShownPin     = Fact[string]{fact.ShownPin}                   // of the one that it showed at last
	Clock        = Fact[clock.Reading]{fact.Clock}
	Watched      = Fact[Watch]{fact.Watched}
	Profiles     = Fact[[]stream.Profile]{fact.Profiles}
	Recorder     = Fact[channel.Recorder]{fact.Recorder} // a recorder's status and channel table
	RecorderPin  = Fact[string]{fact.RecorderPin}
	ServesNTP    = Fact[bool]{fact.ServesNTP}
	Reached      = Fact[Inquiry]{fact.Reached} // the last reading of a recorder
	Topics       = Fact[[]topic.Description]{fact.Topics}
	Touched      = Fact[stream.Touched]{fact.Touched} // what its streams rest on
)

// Keys of the facts that are kept of a device's views.
var (
	Measured     = ViewFact[[]stream.Measured]{fact.Measured} // of the profiles that show it
	StreamsAsked = ViewFact[Inquiry]{fact.StreamsAsked}
	Still        = ViewFact[stream.Seen]{fact.Still}   // the last one
	Setup        = ViewFact[view.Setup]{fact.Setup}    // how its picture is made, and what lies over it
	TriedPTZ     = ViewFact[view.Tried]{fact.TriedPTZ} // how it moved when it was nudged
	Rules        = ViewFact[[]rule.Rule]{fact.Rules}   // of its analytics
	Inputs       = ViewFact[route.Inputs]{fact.Inputs} // of its channel
	RoutesAsked  = ViewFact[Inquiry]{fact.RoutesAsked}
	Placed       = ViewFact[PlacedOn]{fact.Placed} // when it was placed from here, and where
)

// Inquiry says when a stage's facts were last asked for and what hindered it.
type Inquiry struct {
	At         time.Time        `json:"at"`
	Trouble    string           `json:"trouble,omitempty"`
	Tried      string           `json:"tried,omitempty"`
	Outcome    identity.Outcome `json:"outcome,omitempty"`
	NoSets     bool             `json:"no_sets,omitempty"`
	WasUUID    string           `json:"was_uuid,omitempty"`
	NoPassword bool             `json:"no_password,omitempty"` // no first password was set
	Basic      bool             `json:"basic,omitempty"`       // it takes nothing but Basic over HTTP
	Open       bool             `json:"open,omitempty"`        // its streams ask for no account
	Locked     time.Time        `json:"locked,omitempty"`      // until when it takes no sign-in
	Refused    string           `json:"refused,omitempty"`     // the set that opened it before, and was refused
	RefusedBy  string           `json:"refused_by,omitempty"`  // at what
	Unread     string           `json:"unread,omitempty"`      // why what it looks at couldn't be read, signed in
	Found      bool             `json:"found,omitempty"`       // it was seen, at this look or one before
	Elsewhere  []netip.Addr     `json:"elsewhere,omitempty"`   // see identity.Match
	Claims     []identity.Claim `json:"claims,omitempty"`
	MovedFrom  netip.Addr       `json:"moved_from,omitzero"`
}

// kept names a decoded fact of one device, or of one of its views.
type kept struct {
	device, view int64
	name         string
}

// Of is the fact of a device, decoded at its first reading of the snapshot and kept
// from then on: it is shared and must not be written. ok is false where it isn't there,
// or can't be decoded, which Snapshot.Err tells.
func (f Fact[T]) Of(s *Snapshot, device int64) (value T, ok bool) {
	return decoded[T](s, s.facts[device], f.Name)
}

// Of is the fact of a view, as Fact.Of.
func (f ViewFact[T]) Of(s *Snapshot, of Source) (value T, ok bool) {
	return decoded[T](s, s.ofView[of.ID], f.Name)
}

func decoded[T any](s *Snapshot, facts store.Facts, name string) (value T, ok bool) {
	raw, there := facts[name]
	if !there {
		return value, false
	}
	key := kept{raw.DeviceID, raw.View, name}
	if had, decoded := s.decoded[key]; decoded {
		value, ok = had.(T)
		return value, ok
	}
	if err := json.Unmarshal(raw.Value, &value); err != nil {
		s.bad = append(s.bad, fmt.Errorf("site: fact %s of device %d: %w", name, raw.DeviceID, err))
		s.decoded[key] = nil
		var zero T
		return zero, false
	}
	s.decoded[key] = value
	return value, true
}

// From decodes the fact from what was read of one device without a snapshot.
func (f Fact[T]) From(facts store.Facts) (value T, ok bool, err error) {
	raw, there := facts[f.Name]
	if !there {
		return value, false, nil
	}
	if err := json.Unmarshal(raw.Value, &value); err != nil {
		return value, false, fmt.Errorf("site: fact %s of device %d: %w", f.Name, raw.DeviceID, err)
	}
	return value, true, nil
}

// ReadAt tells when the fact was read, zero when it wasn't.
func (f Fact[T]) ReadAt(s *Snapshot, device int64) time.Time { return s.facts[device][f.Name].ReadAt }

// ReadAt tells when the fact was read, zero when it wasn't.
func (f ViewFact[T]) ReadAt(s *Snapshot, of Source) time.Time { return s.ofView[of.ID][f.Name].ReadAt }

// New is the fact with a value, to be kept: via is the call that read it at at.
func (f Fact[T]) New(device int64, via string, at time.Time, value T) store.NewFact {
	return store.NewFact{Device: device, Name: f.Name, Via: via, At: at, Value: value}
}

// New is the fact with a value, to be kept of a view, as Fact.New.
func (f ViewFact[T]) New(of Source, via string, at time.Time, value T) store.NewFact {
	return store.NewFact{Device: of.Device.ID, View: of.ID, Name: f.Name, Via: via, At: at, Value: value}
}

// Watch is until when a clock is read again and again, as a person asked.
type Watch struct {
	Until time.Time `json:"until"`
}

// PlacedOn is the recorder that a view was placed on from here, the last time, and when.
type PlacedOn struct {
	Recorder int64     `json:"recorder"`
	At       time.Time `json:"at"`
}

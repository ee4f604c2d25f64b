// Package facts turns what is stored of a site into what the rules of core are asked: the typed keys of the facts that
// are kept, and a file for each topic of core, whose function puts its facts and wishes together. It stands below the
// stages, since most topics rest on others (who may be sent an account rests on who it is), and stages know no other
// stage. What only a stage of one's own asks stands in that stage, keys and all.
package facts

import (
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/fact"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/known"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/site"
)

// Keys of the facts that are kept of devices.
var (
	Seen         = site.Fact[identity.Sighting]{Name: fact.Seen}            // what it answered before anyone signed in
	Scanned      = site.Fact[identity.Scan]{Name: fact.Scanned}             // the last look that covered its address
	Account      = site.Fact[access.Account]{Name: fact.Account}            // what opened it
	Attempted    = site.Fact[access.Attempt]{Name: fact.Attempted}          // the last signing in
	PasswordRule = site.Fact[access.Rule]{Name: fact.PasswordRule}          // which passwords it takes
	WebAccount   = site.Fact[access.Account]{Name: fact.WebAccount}         // what opens its page alone
	Users        = site.Fact[[]string]{Name: fact.Users}                    // its ONVIF accounts with their levels
	Info         = site.Fact[identity.Sighting]{Name: fact.Info}            // what it says of itself once signed in
	Services     = site.Fact[map[string]string]{Name: fact.Services}        // address of each ONVIF service, by namespace
	IPConfig     = site.Fact[netplan.IPConfig]{Name: fact.IPConfig}         // its address settings
	DNS          = site.Fact[netplan.DNS]{Name: fact.DNS}                   // its name servers
	Hidden       = site.Fact[bool]{Name: fact.Hidden}                       // its discovery is off
	VideoSources = site.Fact[[]stream.VideoSource]{Name: fact.VideoSources} // what it looks at
	Pin          = site.Fact[string]{Name: fact.Pin}                        // fingerprint of the certificate that is trusted
	ShownPin     = site.Fact[string]{Name: fact.ShownPin}                   // of the one that it showed at last
	Clock        = site.Fact[clock.Reading]{Name: fact.Clock}
	Watched      = site.Fact[Watch]{Name: fact.Watched}
	RecorderPin  = site.Fact[string]{Name: fact.RecorderPin}
	ServesNTP    = site.Fact[bool]{Name: fact.ServesNTP}
	Analyser     = site.Fact[pairing.Analyser]{Name: fact.Analyser} // what an analyser told of itself
	Known        = site.Fact[known.Held]{Name: fact.Known}          // of whom it holds reference pictures
	Topics       = site.Fact[[]topic.Description]{Name: fact.Topics}
	Touched      = site.Fact[stream.Touched]{Name: fact.Touched} // what its streams rest on
)

// Keys of the facts that are kept of a device's views.
var (
	Measured    = site.SourceFact[[]stream.Measured]{Name: fact.Measured} // of the profiles that show it
	StreamsRead = site.SourceFact[fact.LastRead]{Name: fact.StreamsRead}
	Took        = site.SourceFact[[]stream.Took]{Name: fact.Took}     // settings that its encoders took otherwise
	Still       = site.SourceFact[stream.Seen]{Name: fact.Still}      // the last one
	Setup       = site.SourceFact[picture.Setup]{Name: fact.Setup}    // how its picture is made, and what lies over it
	TriedPTZ    = site.SourceFact[picture.Tried]{Name: fact.TriedPTZ} // how it moved when it was nudged
	Rules       = site.SourceFact[[]rule.Rule]{Name: fact.Rules}      // of its analytics
	RuleSet     = site.SourceFact[Engine]{Name: fact.RuleSet}         // what its rule engine knows, and has
	RulesRead   = site.SourceFact[fact.LastRead]{Name: fact.RulesRead}
	Sits        = site.SourceFact[scene.Sits]{Name: fact.Sits}       // how its boxes lie on what moves in the picture
	Held        = site.SourceFact[[]rule.Held]{Name: fact.Held}      // what its rules fired, beside what they mean
	Sending     = site.SourceFact[fact.LastRead]{Name: fact.Sending} // how its stills get to its analyser
	Inputs      = site.SourceFact[route.Inputs]{Name: fact.Inputs}   // of its channel
	RoutesRead  = site.SourceFact[fact.LastRead]{Name: fact.RoutesRead}
	Placed      = site.SourceFact[PlacedOn]{Name: fact.Placed} // when it was placed from here, and where
)

// Watch is until when a clock is read again and again, as a person asked.
type Watch struct {
	Until time.Time `json:"until"`
}

// Engine is what the rule engine of a view knows, and the rules that it has.
type Engine struct {
	Token     string         `json:"token"` // of its analytics configuration; empty: it has none
	Supported rule.Supported `json:"supported"`
	Configs   []rule.Config  `json:"configs"`
	Modules   []rule.Module  `json:"modules,omitempty"`
	// Since when each was read as it is.
	Since map[string]time.Time `json:"since,omitempty"`
	// Frame in which the camera counts; configs are in the standard's.
	Frame scene.Frame `json:"frame,omitzero"`
}

// PlacedOn is the recorder that a view was placed on from here, the last time, and when.
type PlacedOn struct {
	Recorder int64     `json:"recorder"`
	At       time.Time `json:"at"`
}

// Package fact names the facts that are kept of devices. The names stand here and
// nowhere else: what reads them by type (site.Fact, its keys in facts) and what asks for them in SQL
// take them from here.
package fact

import "time"

// Names of facts. What each holds stands beside its typed key in package facts, or site.
const (
	Seen         = "find.seen"
	Scanned      = "find.asked"
	Account      = "access.account"
	Attempted    = "access.asked"
	PasswordRule = "access.rule"
	WebAccount   = "access.web"
	Users        = "access.users"
	Info         = "device.info"
	Placed       = "channel.placed"
	Services     = "device.services"
	IPConfig     = "device.ip"
	DNS          = "device.dns"
	Hidden       = "device.hidden"
	VideoSources = "device.views"
	Pin          = "device.tls"
	ShownPin     = "device.tls.shown"
	Clock        = "clock.reading"
	Watched      = "clock.watched"
	Profiles     = "stream.profiles"
	Measured     = "stream.measured"
	Touched      = "stream.touched"
	StreamsRead  = "stream.asked"
	Took         = "stream.took"
	Still        = "stream.still"
	Setup        = "view.setup"
	TriedPTZ     = "view.tried"
	Recorder     = "recorder.status"
	RecorderPin  = "recorder.tls"
	ServesNTP    = "recorder.ntp"
	Reached      = "recorder.reached"
	Analyser     = "analyser.status"
	Known        = "analyser.known"
	Topics       = "event.topics"
	Rules        = "camera.rules"
	RuleSet      = "camera.ruleset"
	RulesRead    = "analytics.asked"
	Held         = "analytics.held"
	Sits         = "analytics.sits"
	Sending      = "analyser.sending"
	Inputs       = "route.inputs"
	RoutesRead   = "route.asked"
)

// LastRead says when something was asked for last, and what hindered it.
type LastRead struct {
	At      time.Time `json:"at"`
	Trouble string    `json:"trouble,omitempty"`
}

package channel

import "fmt"

// Act is something that is done to a recorder, or read of it. Which ones a recorder is up to depends
// on how it is spoken to: see Recorder.Lacks.
type Act string

const (
	ActPlace   Act = "place"   // put a camera on a channel, take one out
	ActName    Act = "name"    // name a channel
	ActAccount Act = "account" // give a channel another account
	ActPause   Act = "pause"   // keep a channel from signing in for a while
	ActPlan    Act = "plan"    // keep by a plan
	ActAge     Act = "age"     // delete what is older
	ActInputs  Act = "inputs"  // tell what a channel hears, and be told
	ActStill   Act = "still"   // show a channel's picture
	ActLog     Act = "log"     // tell what it heard
	ActClock   Act = "clock"   // have its clock set
	ActRestart Act = "restart" // start again
)

// acts are all, with what can't be done in words, in the order in which they are told.
var acts = []struct {
	act  Act
	says string
}{
	{ActPlace, "be given cameras"}, {ActName, "have its channels named"}, {ActAccount, "be given a channel's new password"},
	{ActPause, "pause a channel"}, {ActPlan, "keep by a plan"}, {ActAge, "delete by age"}, {ActInputs, "tell what its channels hear"},
	{ActStill, "show a channel's picture"}, {ActLog, "tell what it heard"}, {ActClock, "have its clock set"}, {ActRestart, "be started again"},
}

// Speech is how a recorder is spoken to.
type Speech string

const (
	OwnInterface Speech = ""      // the recorder interface
	OverONVIF    Speech = "onvif" // ONVIF Recording Control, Receiver and Search
	BySheet      Speech = "bench" // not at all: a person types, by a bench sheet
)

// Says words how a recorder is spoken to.
func (s Speech) Says() string {
	switch s {
	case OverONVIF:
		return "over ONVIF recording control"
	case BySheet:
		return "by hand, with a bench sheet"
	}
	return "over the recorder interface"
}

// Lacks says whether a recorder, as it is spoken to, can't do an act.
func (r Recorder) Lacks(a Act) bool {
	for _, x := range r.Cannot {
		if x == a {
			return true
		}
	}
	return false
}

// CannotText words what a recorder can't do as it is spoken to; empty: nothing that is known.
func (r Recorder) CannotText() string {
	var out []string
	for _, x := range acts {
		if r.Lacks(x.act) {
			out = append(out, x.says)
		}
	}
	return listed(out, "or")
}

// Summary says how a reading of a recorder went.
func (r Recorder) Summary() string {
	if r.Speech != BySheet {
		return fmt.Sprintf("%d of %d channels taken", len(r.Slots), r.Limits.Channels)
	}
	seen := 0
	for _, s := range r.Slots {
		if s.State == Receiving {
			seen++
		}
	}
	return fmt.Sprintf("%d channels typed in, %d seen from outside", len(r.Slots), seen)
}

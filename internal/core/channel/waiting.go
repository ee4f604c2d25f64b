package channel

import (
	"fmt"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/recording"
)

// SilentFor is how long a camera that was just placed may be silent before that is taken for a fault: it
// starts a stream, or its recorder signs in once more.
const SilentFor = 90 * time.Second

// refusedFor is how long a channel that was let sign in again may be refused before that is taken for its
// last word: a recorder tries once more after a few seconds.
const refusedFor = 20 * time.Second

// MayComeYet says whether a channel that was resumed so long ago, and receives nothing, may still come to
// receive.
func MayComeYet(s Slot, ago time.Duration) bool {
	if s.State == Refused {
		return ago < refusedFor
	}
	return ago < SilentFor
}

// waited says whether a slot holds a camera that was placed so lately that its silence is waited for, and
// until when, by the recorder's clock as it was when its table was read.
func (f Facts) waited() (until time.Time, ok bool) {
	if f.Slot == nil || f.Slot.State != Lost || f.PlacedAt.IsZero() {
		return until, false
	}
	until = f.PlacedAt.Add(SilentFor)
	return until, f.Recorder.At.Before(until)
}

// WaitsUntil is until when a silent camera is waited for; zero where none is. A mark that rests on it is
// made anew then.
func (f Facts) WaitsUntil() time.Time {
	until, ok := f.waited()
	if !ok {
		return time.Time{}
	}
	return until
}

// waiting is the finding of a camera that was just placed and is silent.
func (f Facts) waiting(ev []finding.Evidence) finding.Finding {
	until, _ := f.waited()
	return finding.Finding{Code: "channel.waiting", Severity: finding.Needs, Words: "waited for",
		Sentence: fmt.Sprintf("%s holds it since a moment and nothing came yet: it is waited for until %s UTC. (%s)", f.Recorder.Name, until.UTC().Format("15:04:05"), f.Slot.Detail),
		WayOut:   "Wait: its recorder is read again by itself.", Evidence: ev}
}

// alsoHeld lists the recorders that hold the camera beside the one that is asked about, in words; sessions
// is how many of them receive it.
func (f Facts) alsoHeld() (names []string, sessions int) {
	for _, n := range f.Others {
		if n.Slot.Address != f.Address || f.Address == "" {
			continue // it takes another recorder's channel: that is no session of the camera
		}
		names = append(names, n.Recorder.Name)
		if n.Slot.State == Receiving {
			sessions++
		}
	}
	return names, sessions
}

// sessionsText says what placing a camera means for the recorders that it feeds already.
func (f Facts) sessionsText() string {
	names, sessions := f.alsoHeld()
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf(" It feeds %s already, and goes on doing so: %s before, %d after; whether all receive it is read afterwards.",
		strings.Join(names, " and "), plural(sessions, "session"), sessions+1)
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// displaced is the finding that another recorder which holds the camera receives nothing; ok is false
// where all do.
func (f Facts) displaced() (out finding.Finding, ok bool) {
	for _, n := range f.Others {
		if n.Slot.Address != f.Address || f.Address == "" || n.Slot.State == Receiving || n.Slot.State == Connecting || n.Slot.Paused {
			continue
		}
		return finding.Finding{Code: "channel.other", Severity: finding.Needs, Words: "not on both",
			Sentence: fmt.Sprintf("%s receives it; %s holds it too, on channel %d, and receives nothing: %s", f.Recorder.Name, n.Recorder.Name, n.Slot.Number, n.Slot.Detail),
			WayOut:   "Where the camera has no session left for both, take it out of one of them.",
			Evidence: []finding.Evidence{{Name: fmt.Sprintf("Channel %d", n.Slot.Number), Value: n.Slot.State, Via: "channel table", At: n.Recorder.At}}}, true
	}
	return out, false
}

// Moves is the finding that a recorder holds a view which is planned for another.
func Moves(held, planned Facts, w Wishes) finding.Finding {
	f := finding.Finding{Code: "channel.moves", Severity: finding.Needs, Words: "planned elsewhere",
		Sentence: fmt.Sprintf("Channel %d of %s holds it, and it is planned for %s.", held.Slot.Number, held.Recorder.Name, w.Recorder),
		WayOut:   fmt.Sprintf("Move it there: %s lets it go once %s receives it. Or place it on both, as is proposed, or plan it for %s again.", held.Recorder.Name, w.Recorder, held.Recorder.Name)}
	if why := Waits(planned, w, true); why != "" {
		f.WayOut = fmt.Sprintf("%s can't take it: %s. Plan it for %s again, or for another.", w.Recorder, why, held.Recorder.Name)
	}
	return f
}

// retires says why a channel of a recorder stays though another one is to replace it; empty where that
// one, read now, receives what it holds, is licensed to record it and keeps it. trouble says why it
// couldn't be read.
func retires(by Recorder, s *Slot, trouble string) string {
	switch {
	case s == nil:
		return "no other recorder holds it"
	case trouble != "":
		return by.Name + " can't be read now"
	case s.State != Receiving || s.Paused:
		return fmt.Sprintf("%s doesn't receive it (%s)", by.Name, s.State)
	case s.Recording.Unlicensed:
		return by.Name + " has no licence to record it"
	case s.Recording.Plan == nil && !by.Lacks(ActPlan):
		return by.Name + " doesn't tell that it keeps anything of it"
	case s.Recording.Plan != nil && !keepsSomething(s.Recording):
		return by.Name + " keeps nothing of it by its plan"
	}
	return ""
}

// keepsSomething says whether a channel's plan keeps anything by what reaches it.
func keepsSomething(r recording.Slot) bool {
	f := recording.Facts{Slot: &r}
	for _, p := range f.Problems(*r.Plan, false) {
		if p.Never || p.Code == "recording.nothing" {
			return false
		}
	}
	return true
}

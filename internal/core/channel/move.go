package channel

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/finding"
)

// Leave is the change kind that takes a camera off its channel; where the camera goes to another channel, only once
// it is received there.
const Leave = "channel.leave"

// Leaves is the change that takes a camera off the channel that holds it.
func (r Recorder) Leaves(recorder int64, held Slot) finding.Change {
	c, _ := r.Out(recorder, held.Number)
	c.Kind, c.Key = Leave, fmt.Sprintf("%s/%d/%d", Leave, recorder, held.Number)
	return c
}

// Moves are the changes that give a camera another channel, one after the other: place puts it there, as a Planner
// proposes it, or is empty where there holds it already; it is taken out where it was once it is received there. to is
// what the recorder of the other channel is called.
func (r Recorder) Moves(recorder int64, held Slot, place []finding.Change, there Spot, to string) []finding.Change {
	if i := slices.IndexFunc(place, func(c finding.Change) bool { return c.Kind == Place }); i >= 0 {
		there.Channel, _ = strconv.Atoi(place[i].Args["channel"])
	}
	out := r.Leaves(recorder, held)
	out.Why = fmt.Sprintf("Once %s receives it, and may record it; else it stays, and what was placed there is taken out again. %s", to, out.Why)
	out.Args["after"], out.Args["after_channel"] = fmt.Sprint(there.Recorder), strconv.Itoa(there.Channel)
	return append(slices.Clone(place), out)
}

// Renumbers are the changes that give a camera another channel of the same recorder, which holds a camera once: it is
// taken out, and placed by what place says.
func (r Recorder) Renumbers(recorder int64, held Slot, place []finding.Change) []finding.Change {
	out := r.Leaves(recorder, held)
	out.Why = "A recorder holds a camera once: it is placed on its other channel at once. " + out.Why
	return append([]finding.Change{out}, place...)
}

// Without is the recorder as it is once a channel is free.
func (r *Recorder) Without(number int) *Recorder {
	if r == nil {
		return nil
	}
	c := *r
	c.Slots = slices.DeleteFunc(slices.Clone(r.Slots), func(s Slot) bool { return s.Number == number })
	return &c
}

// Spot is a channel of a recorder, by their numbers.
type Spot struct {
	Recorder int64
	Channel  int
}

// Stay says why a camera can't be moved off the channel that holds it by a change; empty where it can.
func (r Recorder) Stay(held *Slot) string {
	switch {
	case held == nil:
		return "no recorder holds it"
	case r.ByHand:
		return fmt.Sprintf("%s has no way in but its own screen: it is taken out there by hand, see its bench sheet", r.Name)
	case r.Lacks(ActPlace):
		return r.Name + " takes no camera out, as far as it is asked from here"
	}
	return ""
}

// Arrived says whether a camera that was placed on another channel is received there: wait is true while that may still
// come about, for a limit since its channel was first seen without a picture, where why says what is waited for; else
// why is why it can't leave the channel that it has, empty where it can.
func Arrived(name string, s *Slot, waits, limit time.Duration) (wait bool, why string) {
	switch {
	case s == nil:
		return false, name + " doesn't hold it any more"
	case s.State == Receiving && s.Recording.Unlicensed:
		return false, name + " receives it, and has no licence to record it"
	case s.State == Receiving && !s.Paused:
		return false, ""
	case waits < limit && !s.Paused:
		return true, fmt.Sprintf("%s doesn't receive it yet (%s)", name, s.State)
	}
	return false, fmt.Sprintf("%s doesn't receive it (%s)", name, s.State)
}

// Since is a moment as it is kept with a change that waits.
func Since(t time.Time) string { return "waits since " + strconv.FormatInt(t.Unix(), 10) }

// SinceOf reads what Since wrote; now where it is something else.
func SinceOf(text string, now time.Time) time.Time {
	var unix int64
	if _, err := fmt.Sscanf(text, "waits since %d", &unix); err != nil || unix > now.Unix() {
		return now
	}
	return time.Unix(unix, 0)
}

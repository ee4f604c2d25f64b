package channel

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"duskyharbor/internal/core/finding"
)

// Analog is one analog input of a hybrid recorder. One that is switched off gives IP channels.
type Analog struct {
	Number int    `json:"number"`
	Name   string `json:"name"`
	On     bool   `json:"on"`
	Next   bool   `json:"next"`   // it is on after the next restart
	Signal bool   `json:"signal"` // there is a picture on it
}

// Table is one row of what a recorder takes: so many IP cameras of at most so many megapixels
// each. Where it tells several, any one row that holds is enough.
type Table struct {
	Channels   int     `json:"channels"`
	Megapixels float64 `json:"megapixels"`
}

// nominal is how many million pixels are taken where a table says one: megapixels in tables are nominal
// (8 takes 3840 × 2160, 4 takes 2688 × 1520).
const nominal = 1.05

// Takes says whether the row takes a picture of so many million pixels.
func (t Table) Takes(megapixels float64) bool { return megapixels <= nominal*t.Megapixels+1e-9 }

// Capacity of a recorder in IP channels. The zero Capacity is of one that isn't hybrid.
type Capacity struct {
	Base int `json:"base"` // with every analog input on
	Gain int `json:"gain"` // that each analog input gives that is switched off
	Most int `json:"most"` // whatever is switched off; 0: not told, or as many as there are
}

// Of is the number of IP channels with so many analog inputs switched off.
func (c Capacity) Of(off int) int {
	n := c.Base + max(0, off)*c.Gain
	if c.Most > 0 {
		n = min(n, c.Most)
	}
	return n
}

// Hybrid says whether a recorder gives IP channels for analog inputs.
func (r Recorder) Hybrid() bool { return len(r.Analog) > 0 && r.Limits.Capacity.Gain > 0 }

// off counts analog inputs that are off, now or after the next restart.
func (r Recorder) off(next bool) (n int) {
	for _, a := range r.Analog {
		if next && !a.Next || !next && !a.On {
			n++
		}
	}
	return n
}

// ChannelsNow is how many IP channels there are; ChannelsNext how many after the next restart.
func (r Recorder) ChannelsNow() int {
	if !r.Hybrid() {
		return r.Limits.Channels
	}
	return r.Limits.Capacity.Of(r.off(false))
}

// ChannelsNext is how many IP channels there are after the next restart.
func (r Recorder) ChannelsNext() int {
	if !r.Hybrid() {
		return r.Limits.Channels
	}
	return r.Limits.Capacity.Of(r.off(true))
}

// Pending lists the analog inputs whose setting waits for a restart.
func (r Recorder) Pending() (out []Analog) {
	for _, a := range r.Analog {
		if a.On != a.Next {
			out = append(out, a)
		}
	}
	return out
}

// Spare lists the analog inputs that may be switched off for one channel more without taking a
// picture off anyone, those that gain nothing left out.
func (r Recorder) Spare() (out []Analog) {
	c := r.Limits.Capacity
	for _, a := range r.Analog {
		if a.On && a.Next && !a.Signal && c.Of(r.off(true)+len(out)+1) > c.Of(r.off(true)+len(out)) {
			out = append(out, a)
		}
	}
	return out
}

// Fits names the row of a recorder's tables that keeps cameras of these megapixels off it, with the
// figure; empty where any row holds them, or none is told.
func (l Limits) Fits(megapixels []float64) string {
	if len(l.Tables) == 0 {
		return ""
	}
	var rows []string
	for _, t := range l.Tables {
		large := 0.0
		for _, m := range megapixels {
			large = math.Max(large, m)
		}
		if len(megapixels) <= t.Channels && t.Takes(large) {
			return ""
		}
		rows = append(rows, fmt.Sprintf("%d of %g megapixels", t.Channels, t.Megapixels))
	}
	return "it takes " + strings.Join(rows, " or ")
}

// Kinds of change of a recorder as a whole.
const (
	SwitchInput = "channel.input"   // one analog input; it holds after a restart
	RestartIt   = "channel.restart" // starts the recorder again
)

// Texts of an analog input and of a restart.
const (
	inputOn     = "on"
	inputOff    = "off after a restart"
	Waiting     = "waits for a restart"
	NothingLeft = "nothing waits"
)

// Text is the canonical text of an analog input as it is set.
func (a Analog) Text() string {
	if a.Next {
		return inputOn
	}
	return inputOff
}

// WaitText is the canonical text of what waits for a restart of a recorder.
func (r Recorder) WaitText() string {
	if len(r.Pending()) == 0 {
		return NothingLeft
	}
	return Waiting
}

// Switch is the change that switches an analog input on or off. One with a picture on it says so.
func (r Recorder) Switch(recorder int64, number int, on bool) (finding.Change, bool) {
	i := slices.IndexFunc(r.Analog, func(a Analog) bool { return a.Number == number })
	if i < 0 || r.Analog[i].Next == on {
		return finding.Change{}, false
	}
	a := r.Analog[i]
	after := a
	after.Next = on
	args := map[string]string{"recorder": fmt.Sprint(recorder), "input": fmt.Sprint(number), "on": fmt.Sprint(on), "old_on": fmt.Sprint(a.Next)}
	why := fmt.Sprintf("It gives %d IP channel after the next restart.", r.Limits.Capacity.Gain)
	switch {
	case on:
		why = "It takes an analog camera again, and an IP channel less is there, after the next restart."
	case a.Signal:
		why = "There is a picture on it (" + a.Name + "): it isn't recorded any more. " + why
	}
	return finding.Change{Kind: SwitchInput, Key: fmt.Sprintf("%s/%d", SwitchInput, number), Title: fmt.Sprintf("Analog input %d of %s", number, r.Name),
		From: a.Text(), To: after.Text(), Why: why, Risk: finding.NoRisk, Args: args, Undo: finding.Undo{Kind: finding.Reversible, Note: "switch it back; that too holds after a restart."}}, true
}

// Restart is the change that starts a recorder again for all that waits.
func (r Recorder) Restart(recorder int64, waits int) finding.Change {
	return finding.Change{Kind: RestartIt, Key: RestartIt, Title: "Restart of " + r.Name, From: Waiting, To: NothingLeft,
		Why:  fmt.Sprintf("One restart for %s; %s nothing meanwhile, for about %s.", changes(waits), recordNothing(len(r.Slots)), r.away()),
		Risk: finding.Restart, Args: map[string]string{"recorder": fmt.Sprint(recorder)}, Undo: finding.Undo{Kind: finding.Irreversible, Note: "a restart can't be taken back."}}
}

func recordNothing(n int) string {
	if n == 1 {
		return "1 channel records"
	}
	return fmt.Sprintf("%d channels record", n)
}

func changes(n int) string {
	if n == 1 {
		return "one change"
	}
	return fmt.Sprintf("%d changes", n)
}

// away is how long a restart takes, in words.
func (r Recorder) away() string {
	if r.Limits.RestartFor <= 0 {
		return "a minute or two"
	}
	return fmt.Sprintf("%.0f s", math.Ceil(r.Limits.RestartFor))
}

// held is how many of its channels nobody else can be given: those that are taken, and those that are kept for what
// hangs on its own ports.
func (r Recorder) held() int {
	n := len(r.Slots)
	for c := 1; c <= r.ChannelsNow(); c++ {
		_, kept := r.bound(c)
		if kept && !slices.ContainsFunc(r.Slots, func(s Slot) bool { return s.Number == c }) {
			n++
		}
	}
	return n
}

// Room is what makes a recorder take so many IP cameras more than it has channels for: analog
// inputs without a picture switched off, and one restart for all. missing is how many of them
// still don't fit after that.
func (r Recorder) Room(recorder int64, more int) (out []finding.Change, missing int) {
	need := r.held() + more
	if !r.Hybrid() {
		return nil, max(0, need-r.Limits.Channels)
	}
	off := r.off(true)
	waits := len(r.Pending())
	for _, a := range r.Spare() {
		if r.Limits.Capacity.Of(off) >= need {
			break
		}
		if c, ok := r.Switch(recorder, a.Number, false); ok {
			out, off, waits = append(out, c), off+1, waits+1
		}
	}
	if waits > 0 && (len(out) > 0 || r.ChannelsNow() < need) {
		out = append(out, r.Restart(recorder, waits))
	}
	return out, max(0, need-r.Limits.Capacity.Of(off))
}

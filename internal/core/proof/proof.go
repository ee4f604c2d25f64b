// Package proof times a walk test leg by leg and says what it proves.
package proof

import (
	"fmt"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/core/topic"
)

// Leg of an event's way.
type Leg string

const (
	Camera   Leg = "camera"
	Recorder Leg = "recorder"
)

// Title is the leg's name as a heading: "Camera".
func (l Leg) Title() string { return strings.ToUpper(string(l)[:1]) + string(l)[1:] }

// Verdict on one leg.
type Verdict string

const (
	OnTime  Verdict = "on time"
	Late    Verdict = "late"
	Missed  Verdict = "missed"
	Twice   Verdict = "twice"
	Wrong   Verdict = "wrong name"
	Waiting Verdict = "waiting"
)

// Within is how long a leg may take after the one before it.
func Within(l Leg) time.Duration { return 2 * time.Second }

// Arrival is one time a leg was heard to have happened, on this server's clock.
type Arrival struct {
	At   time.Time `json:"at"`
	Name string    `json:"name"` // what it called the camera, where it has names
}

// Test is one walk test of a route as recorded.
type Test struct {
	Started  time.Time     `json:"started"`
	Ended    time.Time     `json:"ended"` // zero while it waits
	Topic    string        `json:"topic"`
	Input    string        `json:"input"`
	Happened time.Time     `json:"happened"` // the event's own time, brought to this server's clock
	Error    time.Duration `json:"error"`    // ± of Happened
	Camera   []Arrival     `json:"camera"`
	Recorder []Arrival     `json:"recorder"`
	Trouble  string        `json:"trouble"`
	// Grounds are what it rests on, as they were when it began; without any it was kept by a server that noted
	// none that can be compared.
	Grounds []ground.Ground `json:"grounds"`
	By      string          `json:"by"`
	Walk    string          `json:"walk"` // who walked: "a person", or the stand-in told to
}

// arrivalsMost is how many arrivals of a leg are kept: what comes after them says no more.
const arrivalsMost = 20

// Arrived adds an arrival of a leg, so that a proof doesn't grow with its chatter.
func Arrived(all []Arrival, a Arrival) []Arrival {
	if len(all) >= arrivalsMost {
		return all
	}
	return append(all, a)
}

// Bar is one leg of the waterfall.
type Bar struct {
	Leg      Leg
	From, To time.Duration // since Happened
	Took     time.Duration
	Verdict  Verdict
	Error    time.Duration
}

// Judge times both legs. A camera leg runs from the event's own time to when this
// server heard it; the recorder leg from there to when the recorder's log had it,
// never less than zero: the recorder may hear it first. now ends the waiting.
func Judge(now time.Time, t Test, name string) []Bar {
	over := !t.Ended.IsZero()
	cam := Bar{Leg: Camera, Verdict: Waiting, Error: t.Error}
	rec := Bar{Leg: Recorder, Verdict: Waiting}
	if len(t.Camera) > 0 {
		cam.To = max(0, t.Camera[0].At.Sub(t.Happened))
		cam.Took = cam.To
		cam.Verdict = judge(cam.Took-t.Error, Camera, len(t.Camera))
	} else if over {
		cam.Verdict = Missed
	}
	rec.From, rec.To = cam.To, cam.To
	if len(t.Recorder) > 0 {
		base := t.Started
		if len(t.Camera) > 0 {
			base = t.Camera[0].At
		}
		rec.Took = max(0, t.Recorder[0].At.Sub(base))
		rec.To = rec.From + rec.Took
		rec.Verdict = judge(rec.Took, Recorder, len(t.Recorder))
		if name != "" && t.Recorder[0].Name != name {
			rec.Verdict = Wrong
		}
	} else if over {
		rec.Verdict = Missed
	}
	return []Bar{cam, rec}
}

func judge(took time.Duration, l Leg, times int) Verdict {
	switch {
	case times > 1:
		return Twice
	case took > Within(l):
		return Late
	}
	return OnTime
}

// Passed says whether every leg was on time.
func Passed(bars []Bar) bool {
	for _, b := range bars {
		if b.Verdict != OnTime {
			return false
		}
	}
	return len(bars) > 0
}

// Facts is what the judge of Prove knows of one source.
type Facts struct {
	Last    *Test
	Grounds []ground.Ground // as they are today
	Walks   []Test          // the last of each route
	Routes  []Route         // that can be walked
}

// Route is a way of an event that a walk can take.
type Route struct{ Topic, Input string }

// Proven says whether the last walk of a route counts today and had every leg on time.
func (f Facts) Proven(now time.Time, r Route, name string) bool {
	for _, t := range f.Walks {
		if t.Topic == r.Topic && t.Input == r.Input {
			return !t.Ended.IsZero() && t.Trouble == "" && f.unsettled(t) == "" && Passed(Judge(now, t, name))
		}
	}
	return false
}

// unsettled says what a walk rested on and is otherwise now; empty while it counts.
func (f Facts) unsettled(t Test) string {
	if len(t.Grounds) == 0 {
		return "nobody knows what changed"
	}
	return ground.Words(ground.Changed(t.Grounds, f.Grounds))
}

// Read says whether a walk was ended, whatever it proved.
func (f Facts) Read() bool { return f.Last != nil && !f.Last.Ended.IsZero() }

// Finding and staleness of the last proof. stale is empty while it counts.
func JudgeSource(now time.Time, f Facts, name string) (found []finding.Finding, stale string) {
	if f.Last == nil || f.Last.Ended.IsZero() {
		return nil, ""
	}
	if why := f.unsettled(*f.Last); why != "" {
		return nil, fmt.Sprintf("Since the walk at %s UTC %s: walk again.", f.Last.Started.UTC().Format("02 Jan 15:04"), why)
	}
	bars := Judge(now, *f.Last, name)
	if f.Last.Trouble != "" {
		return []finding.Finding{{Code: "proof.trouble", Severity: finding.Needs, Words: "walk again",
			Sentence: f.Last.Trouble, WayOut: "Mend it, then walk again."}}, ""
	}
	for _, b := range bars {
		if b.Verdict == OnTime {
			continue
		}
		sev := finding.Needs
		if b.Verdict == Missed {
			sev = finding.Blocks
		}
		return []finding.Finding{{Code: "proof." + strings.ReplaceAll(string(b.Verdict), " ", "-"), Severity: sev, Words: string(b.Verdict),
			Sentence: fmt.Sprintf("In the last walk the %s's leg was %s%s.", b.Leg, b.Verdict, figure(b)),
			WayOut:   "Look at the route and the recorder's subscription, then walk again.",
			Evidence: []finding.Evidence{{Name: "Walk", Value: f.Last.Topic + " → " + f.Last.Input, Via: "walk test",
				At: f.Last.Started}}}}, ""
	}
	var left []string
	for _, r := range f.Routes {
		if !f.Proven(now, r, name) {
			left = append(left, topic.Title(r.Topic)+" → "+r.Input)
		}
	}
	if len(left) > 0 {
		return []finding.Finding{{Code: "proof.part", Severity: finding.Needs, Words: fmt.Sprintf("%d of %d", len(f.Routes)-len(left), len(f.Routes)),
			Sentence: fmt.Sprintf("%d of its %d routes that can be walked are proven; not %s. A walk by one route proves no other.", len(f.Routes)-len(left), len(f.Routes), strings.Join(left, ", nor ")),
			WayOut:   "Walk again: the next walk takes one that isn't proven. Or pull the peg of what isn't wanted."}}, ""
	}
	return nil, ""
}

func figure(b Bar) string {
	if b.Verdict == Late {
		return fmt.Sprintf(": %.1f s, and %.0f s are allowed", b.Took.Seconds(), Within(b.Leg).Seconds())
	}
	return ""
}

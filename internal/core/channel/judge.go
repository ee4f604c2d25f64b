package channel

import (
	"fmt"
	"math"
	"time"

	"duskyharbor/internal/core/finding"
)

// Judge says how a source stands on its recorder.
func Judge(_ time.Time, f Facts, w Wishes) []finding.Finding {
	if f.Trouble != "" {
		return []finding.Finding{{Code: "channel.recorder", Severity: finding.Blocks, Words: "recorder silent", Sentence: f.Trouble,
			WayOut: "Look whether the recorder is powered and its account is right, then read it again."}}
	}
	if f.Recorder == nil || f.Slot == nil {
		if f.Recorder != nil && w.Stream != "" {
			if c := f.Recorder.Choose(w.Camera); c.Refused != "" {
				return []finding.Finding{f.Recorder.refusedFinding(c)}
			}
			if why := f.Recorder.nameTrouble(w.Name); why != "" {
				return []finding.Finding{f.Recorder.longName(why, finding.Blocks)}
			}
			if limit := f.Recorder.BindsFor(w.demand()); limit != "" {
				return []finding.Finding{{Code: "channel.full", Severity: finding.Blocks, Words: "full",
					Sentence: fmt.Sprintf("It doesn't fit on %s: %s.", f.Recorder.Name, limit),
					WayOut:   f.Recorder.wayOut(w.demand())}}
			}
			if f.Recorder.ByHand {
				return []finding.Finding{{Code: "channel.by-hand", Severity: finding.Needs, Words: "by hand",
					Sentence: fmt.Sprintf("%s has no way in but its own screen, and nobody ticked it there.", f.Recorder.Name),
					WayOut:   "Follow its bench sheet, on its channel face."}}
			}
			return []finding.Finding{{Code: "channel.unplaced", Severity: finding.Needs, Words: "not placed",
				Sentence: fmt.Sprintf("No channel of %s holds it yet.", f.Recorder.Name), WayOut: "Place it."}}
		}
		return nil
	}
	s := *f.Slot
	ev := []finding.Evidence{{Name: fmt.Sprintf("Channel %d", s.Number), Value: s.State + ": " + s.Detail,
		Via: "channel table", At: f.Recorder.At}}
	switch s.State {
	case "receiving":
	case Typed:
		return []finding.Finding{{Code: "channel.unseen", Severity: finding.Needs, Words: "not seen",
			Sentence: fmt.Sprintf("%s: %s.", f.Recorder.Name, s.Detail), WayOut: "Look at its screen whether the picture is there, and accept it.", Evidence: ev}}
	case "connecting":
		return []finding.Finding{{Code: "channel.connecting", Severity: finding.Needs, Words: "connecting",
			Sentence: fmt.Sprintf("%s is still connecting to it.", f.Recorder.Name),
			WayOut:   "Read the channel again in a moment.", Evidence: ev}}
	case "paused":
		return []finding.Finding{{Code: "channel.paused", Severity: finding.Blocks, Words: "paused",
			Sentence: fmt.Sprintf("%s holds it paused: it doesn't sign in, and nothing is recorded.", f.Recorder.Name),
			WayOut:   "Resume the channel.", Evidence: ev}}
	case "refused":
		return []finding.Finding{{Code: "channel.refused", Severity: finding.Blocks, Words: "refused",
			Sentence: fmt.Sprintf("The camera refuses %s: %s", f.Recorder.Name, s.Detail),
			WayOut:   "See Sign-in and Clock of this camera; the recorder tries again by itself.", Evidence: ev}}
	default:
		if _, waits := f.waited(); waits {
			return []finding.Finding{f.waiting(ev)}
		}
		return []finding.Finding{{Code: "channel.lost", Severity: finding.Blocks, Words: "no picture",
			Sentence: fmt.Sprintf("%s holds it and receives nothing: %s", f.Recorder.Name, s.Detail),
			WayOut:   "See the camera's Streams, then read the channel again.", Evidence: ev}}
	}
	out := f.received(w, ev)
	if s.Profile != "" && w.Stream != "" && s.Profile != w.Stream {
		out = append(out, finding.Finding{Code: "channel.stream", Severity: finding.Needs, Words: "other stream",
			Sentence: fmt.Sprintf("%s asks for the stream %s, and the best that it takes is %s.", f.Recorder.Name, s.Profile, w.Stream),
			WayOut:   "Give the channel the record stream, as is proposed.", Evidence: ev})
	} else if w.Width > 0 && s.Width > 0 && (s.Width != w.Width || s.Height != w.Height) {
		out = append(out, finding.Finding{Code: "channel.size", Severity: finding.Needs, Words: "other size",
			Sentence: fmt.Sprintf("%s receives %d × %d, the record stream is %d × %d.", f.Recorder.Name, s.Width,
				s.Height, w.Width, w.Height),
			WayOut: "Give the channel the record stream.", Evidence: ev})
	}
	if lost := f.Recorder.drops(s.Way, w.Camera.Needs); len(lost) > 0 {
		out = append(out, finding.Finding{Code: "channel.drops", Severity: finding.Note, Words: "drops",
			Sentence: fmt.Sprintf("%s takes it by %s, and drops %s.", f.Recorder.Name, WayName(s.Way), PassText(lost)),
			WayOut:   "Leave it, or take it in another way.", Evidence: ev})
	}
	if why := f.Recorder.nameTrouble(w.Name); w.Name != "" && s.Name != w.Name && why != "" {
		out = append(out, f.Recorder.longName(why, finding.Needs))
	} else if n, several := f.names(w, ev); several {
		out = append(out, n)
	}
	if other, dark := f.displaced(); dark {
		out = append(out, other)
	}
	return out
}

// received judges what comes on a channel: a picture that is broken, or doesn't move any more, is none
// that can be recorded.
func (f Facts) received(w Wishes, ev []finding.Evidence) (out []finding.Finding) {
	s := *f.Slot
	if s.Lost > lostMost {
		sev := finding.Needs
		if s.Lost > 10*lostMost {
			sev = finding.Blocks
		}
		out = append(out, finding.Finding{Code: "channel.loss", Severity: sev, Words: "loss",
			Sentence: fmt.Sprintf("%s loses %.0f %% of its packets: what it records is broken.", f.Recorder.Name, math.Max(1, 100*s.Lost)),
			WayOut:   "Look at the cable, the switch port and what else goes that way; then read the channel again.", Evidence: ev})
	}
	if age := f.Recorder.At.Add(f.Ahead).Sub(s.LastKey); !s.LastKey.IsZero() && f.AheadKnown && age > keyMost {
		out = append(out, finding.Finding{Code: "channel.key", Severity: finding.Blocks, Words: "no key frame",
			Sentence: fmt.Sprintf("%s says that it receives it, and its last key frame came %s before: nothing of it can be played since.", f.Recorder.Name, ageText(age)),
			WayOut:   "Read and play its streams; then start the camera again, or place it anew.", Evidence: ev})
	}
	return out
}

// ageText is a time in words, in whole seconds, minutes or hours.
func ageText(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", math.Floor(d.Minutes()))
	}
	return fmt.Sprintf("%.0f h", math.Floor(d.Hours()))
}

// Bounds of what a recorder says that it receives.
const (
	lostMost = 0.01             // part of the packets
	keyMost  = 30 * time.Second // since its last key frame
)

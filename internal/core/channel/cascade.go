package channel

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"duskyharbor/internal/core/finding"
)

// Kinds of change of a recorder that takes other recorders' channels: TakeChannel puts one on a channel,
// NameTaken gives it the name that it has there.
const (
	TakeChannel = "channel.cascade"
	NameTaken   = "channel.cascade.name"
)

// Pick is a channel of another recorder that a person had taken over.
type Pick struct {
	Recorder int64 `json:"recorder"`
	Channel  int   `json:"channel"`
}

// Cascade is of a recorder that takes other recorders' channels, and no cameras: which of them.
type Cascade struct {
	Picks []Pick `json:"picks"`
}

// Has says whether a channel was picked. A nil Feeding picked none.
func (f *Cascade) Has(p Pick) bool { return f != nil && slices.Contains(f.Picks, p) }

// With is the picks with one more, or without one, in order and each once.
func (f Cascade) With(p Pick, on bool) Cascade {
	out := slices.DeleteFunc(slices.Clone(f.Picks), func(x Pick) bool { return x == p })
	if on {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Pick) int {
		return cmp.Or(cmp.Compare(a.Recorder, b.Recorder), cmp.Compare(a.Channel, b.Channel))
	})
	return Cascade{out}
}

// Turned says why a recorder can't be said to take other recorders' channels (on), or cameras again: what was planned or taken
// by the other way comes first; empty: it can. c is what it takes now, cameras is how many are planned for it.
func (c *Cascade) Turned(place string, on bool, cameras int) (why string) {
	switch {
	case on && cameras == 1:
		return "1 camera is planned for " + place + ": plan another recorder for it first."
	case on && cameras > 1:
		return fmt.Sprintf("%d cameras are planned for %s: plan another recorder for them first.", cameras, place)
	case !on && c != nil && len(c.Picks) > 0:
		return fmt.Sprintf("%s holds channels of other recorders, %d of them: take them out first.", place, len(c.Picks))
	}
	return ""
}

// Offer is a channel of another recorder as it can be taken over.
type Offer struct {
	Pick
	Place   string // of the other recorder
	Address string // where it is reached
	Slot    Slot
	URI     string // where it gives the channel on, at Address; empty: it doesn't say
}

// Standing is how a channel of another recorder stands on the one that takes it.
type Standing string

// Standings, the worst last.
const (
	Offered Standing = "not taken"
	InStep  Standing = "in step"
	Coming  Standing = "connecting" // it is held, and nobody knows yet whether it comes
	Renamed Standing = "renamed"
	Extra   Standing = "extra"         // it is held, and nobody had it taken over or its recorder hasn't it any more
	Missing Standing = "missing"       // it was taken over, and isn't held any more
	Dark    Standing = "nothing comes" // it is held, and nothing is received
	Gone    Standing = "gone"          // its recorder hasn't it any more, and neither has this one
)

// Step is one channel as two recorders have it.
type Step struct {
	Offer Offer
	Held  *Slot // where the recorder that takes it holds it; nil: nowhere
	Is    Standing
	Words string // one sentence; empty where all is well
}

// Out says whether a step is out of step: something is to be done, or looked at.
func (s Step) Out() bool { return s.Is != InStep && s.Is != Offered && s.Is != Coming }

// StreamKey is what two addresses of one stream share: host, port and path. RTSP's own port is 554
// (RFC 2326, 3.2).
func StreamKey(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" {
		return ""
	}
	key := strings.ToLower(u.Hostname()) + ":" + cmp.Or(u.Port(), "554") + "/" + strings.Trim(u.Path, "/")
	if u.RawQuery != "" {
		key += "?" + u.RawQuery
	}
	return key
}

// Steps holds what other recorders offer against what a recorder holds of them. At is where those
// recorders are reached: a channel that is taken from one of these addresses, and that none offers, is
// extra. It says nothing of channels that are taken from elsewhere.
func Steps(r Recorder, picked Cascade, offered []Offer, at map[string]string) []Step {
	held := map[string]*Slot{}
	for i := range r.Slots {
		if key := StreamKey(r.Slots[i].From); key != "" {
			held[key] = &r.Slots[i]
		}
	}
	var out []Step
	told := map[Pick]bool{}
	for _, f := range offered {
		told[f.Pick] = true
		key := StreamKey(f.URI)
		s := Step{Offer: f, Held: held[key]}
		if key != "" {
			delete(held, key)
		}
		s.stand(picked.Has(f.Pick), r)
		out = append(out, s)
	}
	for _, p := range picked.Picks {
		if !told[p] {
			out = append(out, Step{Offer: Offer{Pick: p}, Is: Gone, Words: fmt.Sprintf("Channel %d was taken over, and its recorder has none of that number any more, or wasn't read.", p.Channel)})
		}
	}
	for _, s := range r.Slots {
		key := StreamKey(s.From)
		if held[key] == nil || at[s.Address] == "" {
			continue
		}
		x := s
		out = append(out, Step{Offer: Offer{Place: at[s.Address], Address: s.Address, URI: s.From}, Held: &x, Is: Extra,
			Words: fmt.Sprintf("Channel %d takes %s, which %s doesn't give on any more.", s.Number, s.Name, at[s.Address])})
	}
	return out
}

// stand says how a channel that is offered stands.
func (s *Step) stand(picked bool, r Recorder) {
	f := s.Offer
	switch {
	case s.Held == nil && !picked:
		s.Is = Offered
	case s.Held == nil:
		s.Is, s.Words = Missing, fmt.Sprintf("It was taken over, and no channel of %s holds it any more.", r.Name)
	case !picked:
		s.Is, s.Words = Extra, fmt.Sprintf("Channel %d of %s takes it, and nobody here had it taken over.", s.Held.Number, r.Name)
	case s.Held.State != Receiving && s.Held.State != Connecting:
		s.Is, s.Words = Dark, fmt.Sprintf("Channel %d of %s holds it and receives nothing: %s.", s.Held.Number, r.Name, s.Held.Detail)
	case s.Held.Name != f.Slot.Name:
		s.Is, s.Words = Renamed, fmt.Sprintf("It is called %q on %s and %q on %s.", f.Slot.Name, f.Place, s.Held.Name, r.Name)
	case s.Held.State == Connecting:
		s.Is, s.Words = Coming, fmt.Sprintf("Channel %d of %s is still connecting to it.", s.Held.Number, r.Name)
	default:
		s.Is = InStep
	}
}

// CascadeText is the canonical text of a channel that takes another recorder's: its name, and from where.
func CascadeText(s Slot) string { return s.Name + " from " + StreamKey(s.From) }

// Unpicks is a change that takes a step's channel out, which then isn't one that was taken over any more.
func (s Step) Unpicks(c finding.Change) finding.Change {
	if c.Args != nil && s.Offer.Recorder != 0 {
		c.Args["from"], c.Args["of"] = fmt.Sprint(s.Offer.Recorder), fmt.Sprint(s.Offer.Channel)
	}
	return c
}

// CascadePlanner proposes what brings a recorder in step; what is taken over together takes channels of
// its own.
type CascadePlanner struct {
	Recorder int64 // that takes
	R        Recorder
}

// Alone is a planner in the same state, whose plans leave this one as it is.
func (p CascadePlanner) Alone() *CascadePlanner { return &p }

// Take proposes to take a channel over, on its own number where that is free; ok is false where it
// doesn't fit, and why says so.
func (p *CascadePlanner) Take(f Offer) (c finding.Change, why string, ok bool) {
	switch {
	case p.R.Lacks(ActPlace):
		return c, p.R.Name + " can't be given a channel as it is spoken to", false
	case f.URI == "":
		return c, f.Place + " doesn't say where it gives that channel on", false
	case f.Slot.Codec != "" && len(p.R.Limits.Codecs) > 0 && !slices.Contains(p.R.Limits.Codecs, f.Slot.Codec):
		return c, fmt.Sprintf("it is %s, and %s takes none of that", f.Slot.Codec, p.R.Name), false
	case p.R.nameTrouble(f.Slot.Name) != "":
		return c, "its name is too long for " + p.R.Name, false
	}
	if limit := p.R.Binds(int(f.Slot.Kbps), f.Slot.Width*f.Slot.Height); limit != "" {
		return c, limit, false
	}
	n := p.R.Free(f.Channel)
	if n == 0 {
		return c, "no channel is free", false
	}
	slot := Slot{Number: n, Name: f.Slot.Name, Address: f.Address, From: f.URI, Kbps: f.Slot.Kbps, Width: f.Slot.Width, Height: f.Slot.Height}
	p.R.Slots = append(slices.Clone(p.R.Slots), slot)
	args := map[string]string{"recorder": fmt.Sprint(p.Recorder), "from": fmt.Sprint(f.Recorder), "of": fmt.Sprint(f.Channel), "channel": fmt.Sprint(n),
		"name": f.Slot.Name, "address": f.Address, "uri": f.URI}
	return finding.Change{Kind: TakeChannel, Key: fmt.Sprintf("%s/%d", TakeChannel, n), Title: fmt.Sprintf("Channel %d of %s", n, p.R.Name), From: Empty, To: CascadeText(slot),
		Why:  fmt.Sprintf("Channel %d of %s. %s goes on recording it; its events don't come along.", f.Channel, f.Place, f.Place),
		Risk: finding.NoRisk, Account: fmt.Sprintf("the account of %s, which %s signs in there with", f.Place, p.R.Name),
		Undo: finding.Undo{Kind: finding.Compensating, Note: "Take it out again; what was recorded of it goes.", Act: TakeOut, To: Empty,
			Args: map[string]string{"recorder": args["recorder"], "channel": args["channel"], "from": args["from"], "of": args["of"]}}, Args: args}, "", true
}

// Mend proposes what brings a step in step: nothing where it is, where nobody asked for it, or where a
// person has to look.
func (p *CascadePlanner) Mend(s Step) (c finding.Change, why string, ok bool) {
	switch s.Is {
	case Missing:
		return p.Take(s.Offer)
	case Renamed:
		if p.R.Lacks(ActName) {
			return c, p.R.Name + " can't have its channels named as it is spoken to", false
		}
		if p.R.nameTrouble(s.Offer.Slot.Name) != "" {
			return c, "its name is too long for " + p.R.Name, false
		}
		return finding.Change{Kind: NameTaken, Key: fmt.Sprintf("%s/%d", NameTaken, s.Held.Number), Title: fmt.Sprintf("Name of channel %d of %s", s.Held.Number, p.R.Name),
			From: s.Held.Name, To: s.Offer.Slot.Name, Why: "One name everywhere.", Risk: finding.NoRisk,
			Undo: finding.Undo{Kind: finding.Reversible, Note: "Give it its former name back."},
			Args: map[string]string{"recorder": fmt.Sprint(p.Recorder), "channel": fmt.Sprint(s.Held.Number), "name": s.Offer.Slot.Name, "old_name": s.Held.Name}}, "", true
	case Extra:
		c, ok = p.R.Out(p.Recorder, s.Held.Number)
		return s.Unpicks(c), "", ok
	}
	return c, "", false
}

// NotTaken is a channel that isn't taken or mended, and why.
type NotTaken struct{ Whose, Why string }

// Takes proposes to take the channels that are picked of those that are offered. What is taken already is left alone.
func (p *CascadePlanner) Takes(steps []Step, picks []Pick) (all []finding.Change, not []NotTaken) {
	return p.each(steps, func(s Step) (finding.Change, string, bool) {
		if s.Is != Offered || !slices.Contains(picks, s.Offer.Pick) {
			return finding.Change{}, "", false
		}
		return p.Take(s.Offer)
	})
}

// Mends proposes what brings every channel that is out of step in step again; of what only a person can mend it says how it stands.
func (p *CascadePlanner) Mends(steps []Step) (all []finding.Change, not []NotTaken) {
	return p.each(steps, func(s Step) (c finding.Change, why string, ok bool) {
		if !s.Out() {
			return c, "", false
		}
		if c, why, ok = p.Mend(s); !ok && why == "" {
			why = strings.TrimSuffix(s.Words, ".")
		}
		return c, why, ok
	})
}

func (p *CascadePlanner) each(steps []Step, ask func(Step) (finding.Change, string, bool)) (all []finding.Change, not []NotTaken) {
	for _, s := range steps {
		switch c, why, ok := ask(s); {
		case ok:
			all = append(all, c)
		case why != "":
			whose := cmp.Or(s.Offer.Slot.Name, fmt.Sprintf("channel %d", s.Offer.Channel))
			if s.Offer.Place != "" {
				whose += " of " + s.Offer.Place
			}
			not = append(not, NotTaken{whose, why})
		}
	}
	return finding.Arrange(all), not
}

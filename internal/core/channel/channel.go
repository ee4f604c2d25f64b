// Package channel places sources on recorder channels and judges what a recorder
// says it receives.
package channel

import (
	"fmt"
	"slices"
	"time"
	"unicode/utf8"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/recording"
)

// Recorder is what a recorder says of itself.
type Recorder struct {
	At       time.Time `json:"at"`
	Name     string    `json:"name"`
	Make     string    `json:"make"`
	Model    string    `json:"model"`
	Serial   string    `json:"serial"`
	Firmware string    `json:"firmware"`
	Limits   Limits    `json:"limits"`
	Slots    []Slot    `json:"slots"`     // taken ones
	Ports    []Port    `json:"ports"`     // its own, for cameras
	Analog   []Analog  `json:"analog"`    // of a hybrid recorder
	HandsOut string    `json:"hands_out"` // prefix of the addresses that its ports give; empty: none
	Relays   bool      `json:"relays"`    // it shows the page of what hangs on a port
	Burns    []string  `json:"burns"`     // what it burns into pictures itself: "name", "time"
	Dates    string    `json:"dates"`     // order of its dates, as tt:DateFormat: "dd/MM/yyyy"
	Times    string    `json:"times"`     // "HH:mm:ss", or with "hh" and "tt" of 12 hours
	SetsTime bool      `json:"sets_time"` // its clock can be set over this interface
	// Models is the list of those that it knows; nil: it doesn't tell.
	Models  *ModelList        `json:"models,omitempty"`
	Storage recording.Storage `json:"storage,omitzero"`
	// ByHand says that it has no way in but its own screen: see Bench.
	ByHand bool `json:"by_hand,omitempty"`
	// ByPlan says that it listens to camera events in those hours alone whose plan waits for them.
	ByPlan bool `json:"by_plan,omitempty"`
	// Speech is how it is spoken to, and Cannot what it can't do so.
	Speech Speech `json:"speech,omitempty"`
	Cannot []Act  `json:"cannot,omitempty"`
}

// Port is one of a recorder's own ports and what hangs on it.
type Port struct {
	Number  int    `json:"number"`
	Linked  bool   `json:"linked"`
	Address string `json:"address"` // what answers there
	MAC     string `json:"mac"`
	UUID    string `json:"uuid"`
	Make    string `json:"make"`
	Model   string `json:"model"`
	Fixed   bool   `json:"fixed"`   // the address isn't one that the port gave
	Channel int    `json:"channel"` // that is bound to the port; 0: none
	// Watts is what its device is given, or asks for where it is Denied: it doesn't fit in Limits.Watts.
	Watts  float64 `json:"watts,omitempty"`
	Denied bool    `json:"denied,omitempty"`
}

// Limits of a recorder.
type Limits struct {
	Channels int      `json:"channels"` // IP channels
	MbitIn   float64  `json:"mbit_in"`  // 1,000,000 bits a second, all channels
	Licences int      `json:"licences"`
	Codecs   []string `json:"codecs"`
	NameMax  int      `json:"name_max"` // characters; 0: not said
	// NameBytes is how many bytes of UTF-8 a name may have; 0: not said. NameChars are the characters that
	// one may have, ranges with a hyphen, as "A-Za-z0-9 _-"; empty: not said.
	NameBytes int    `json:"name_bytes,omitempty"`
	NameChars string `json:"name_chars,omitempty"`
	// DecodeMP is how many million pixels a second it decodes of all channels together; 0: not told.
	DecodeMP float64 `json:"decode_mp,omitempty"`
	// Talkback lists the sound codecs in which it talks back through a camera, as
	// stream.SoundCodec names them; empty: it doesn't, or doesn't say.
	Talkback []string `json:"talkback,omitempty"`
	Capacity Capacity `json:"capacity,omitzero"` // of a hybrid recorder
	Tables   []Table  `json:"tables,omitempty"`  // any one row that holds is enough; none: not told
	// RestartFor is about how long a restart takes, in seconds; 0: not told.
	RestartFor float64 `json:"restart_for,omitempty"`
	Ways       []Way   `json:"ways,omitempty"`      // in; none: not told
	Watts      float64 `json:"watts,omitempty"`     // that its ports feed together; 0: not told, or it feeds none
	NoOthers   bool    `json:"no_others,omitempty"` // it takes no models but those of its list
}

// Slot is one taken channel.
type Slot struct {
	Number       int       `json:"number"`
	Name         string    `json:"name"`
	Address      string    `json:"address"`
	Profile      string    `json:"profile"` // token of the camera's profile that it asks for; empty: not told
	State        string    `json:"state"`   // "receiving", "connecting", "refused", "lost"
	Detail       string    `json:"detail"`
	Codec        string    `json:"codec"`
	Width        int       `json:"width"`
	Height       int       `json:"height"`
	FPS          float64   `json:"fps"`
	Kbps         float64   `json:"kbps"`
	LastKey      time.Time `json:"last_key"` // by the recorder's clock
	Events       string    `json:"events"`   // "listening", "not asked", or why not
	HasStill     bool      `json:"has_still"`
	Account      string    `json:"account"` // user name that it signs in with
	Label        string    `json:"label"`   // that came with the account, see access.Label
	Paused       bool      `json:"paused"`
	AuthFailures int       `json:"auth_failures"`      // sign-ins that were refused within 30 minutes
	Since        time.Time `json:"since"`              // in this state, by the recorder's clock
	Way          string    `json:"way,omitempty"`      // by which it is taken; empty: not told
	Over         string    `json:"over,omitempty"`     // protocol by which the picture comes
	Port         int       `json:"port,omitempty"`     // of the camera
	Firmware     string    `json:"firmware,omitempty"` // of the camera
	Lost         float64   `json:"lost,omitempty"`     // part of the packets, 0 to 1
	// Serves is the RTSP address at which it gives the channel on; empty: not told, or nowhere.
	Serves string `json:"serves,omitempty"`
	// From is the address of the stream that it takes, without an account; empty: not told.
	From string `json:"from,omitempty"`
	// Recording is what it keeps of it.
	Recording recording.Slot `json:"recording,omitzero"`
	// As is what the channel counts as, dark or not: the stream that it was placed with.
	As Figures `json:"as,omitzero"`
	// Measured are the rates of its streams as they were measured from here: they stand in where the
	// recorder doesn't count.
	Measured recording.Rates `json:"measured,omitzero"`
}

// Figures of a stream. What is 0 isn't known.
type Figures struct {
	Kbps   float64 `json:"kbps,omitempty"`
	Width  int     `json:"width,omitempty"`
	Height int     `json:"height,omitempty"`
	FPS    float64 `json:"fps,omitempty"`
}

// counts is what a slot counts as: what it was placed as, or receives where that is more.
func (s Slot) counts() Figures {
	f := s.As
	f.Kbps, f.FPS = max(f.Kbps, s.Kbps), max(f.FPS, s.FPS)
	if s.Width*s.Height > f.Width*f.Height {
		f.Width, f.Height = s.Width, s.Height
	}
	return f
}

// megapixels is how large the picture of a slot counts, in million pixels.
func (s Slot) megapixels() float64 {
	f := s.counts()
	return float64(f.Width) * float64(f.Height) / 1e6
}

// States of a slot.
const (
	Receiving  = "receiving"
	Connecting = "connecting"
	Refused    = "refused"
	Lost       = "lost"
	Paused     = "paused"
	Typed      = "typed in" // set up by hand, and nothing can be seen of it from outside
)

// Settled says whether a recorder knows whether the camera takes it: it says connecting
// until then.
func Settled(s Slot) bool { return s.State != Connecting }

// Facts is what the judge of one source's channel knows.
type Facts struct {
	Address  string // the source's device
	Recorder *Recorder
	Slot     *Slot // where the recorder holds it
	Planned  string
	Trouble  string    // why the recorder couldn't be read
	Others   []Named   // where else it is held, or taken
	PlacedAt time.Time // when it was placed from here, by the clock that Recorder.At is by; zero: not known, or long ago
	// Ahead is by how much the recorder's clock is ahead of that by which Recorder.At is; AheadKnown: it was
	// read.
	Ahead      time.Duration
	AheadKnown bool
	Own        *Own // the name that the camera has itself; nil: not known, or another view's
}

// Read says whether what the stage is about is known: what its mark may be ready by.
func (f Facts) Read() bool { return f.Slot != nil }

// Wishes is what the site wants for the source.
type Wishes struct {
	Recorder   string
	RecorderID int64
	Channel    int // 0: any
	Name       string
	Stream     string // profile token of the record stream
	Unfit      bool   // its streams are known, and the recorder takes none of them
	View       string
	Width      int // of the record stream, declared
	Height     int
	Kbps       int
	FPS        float64
	Camera     Camera
}

// Kinds of change of one channel: Place puts a source on it, Resume lets a paused one sign in
// again.
const (
	Place  = "channel.place"
	Resume = "channel.resume"
	Rename = "channel.name" // gives a channel the name that the place has here
)

// Canonical texts of a channel that is paused, and of one that isn't.
const (
	PausedText  = "paused"
	SigningText = "signs in"
)

// DeadEntry says why the entry of a slot that is bound to a recorder's own port is a
// dead one: it names another camera than the one that hangs there, and receives
// nothing. Empty where it isn't.
func DeadEntry(s Slot, p Port) string {
	if !p.Linked || s.State == Receiving || s.State == Connecting || s.State == Paused || s.Paused || s.Address == p.Address {
		return ""
	}
	return fmt.Sprintf("it names %s at %s, from which nothing comes, and %s hangs there", s.Name, s.Address, p.Address)
}

// bound is the own port whose device a channel is kept for; ok is false where the channel is anybody's.
func (r Recorder) bound(n int) (p Port, ok bool) {
	i := slices.IndexFunc(r.Ports, func(p Port) bool { return p.Channel == n && p.Linked })
	if i < 0 || n == 0 {
		return p, false
	}
	return r.Ports[i], true
}

// OnPort is the own port that the device at an address hangs on.
func (r Recorder) OnPort(address string) (p Port, ok bool) {
	i := slices.IndexFunc(r.Ports, func(p Port) bool { return p.Linked && p.Address == address })
	if i < 0 || address == "" {
		return p, false
	}
	return r.Ports[i], true
}

// Free is the lowest free channel number, wish first; 0 where none is free. A channel that is bound to
// an own port is kept for what hangs there.
func (r Recorder) Free(wish int) int {
	taken := func(n int) bool {
		_, kept := r.bound(n)
		return kept || slices.ContainsFunc(r.Slots, func(s Slot) bool { return s.Number == n })
	}
	if wish > 0 && wish <= r.ChannelsNow() && !taken(wish) {
		return wish
	}
	for n := 1; n <= r.ChannelsNow(); n++ {
		if !taken(n) {
			return n
		}
	}
	return 0
}

// Propose places an unplaced source on its wished channel or the lowest free one; one that asks for
// another stream than the one to record is given that.
func Propose(_ time.Time, f Facts, w Wishes) []finding.Change {
	if f.Slot != nil && f.Slot.Paused && f.Trouble == "" {
		return []finding.Change{{Kind: Resume, Key: Resume,
			Title: fmt.Sprintf("Channel %d of %s", f.Slot.Number, f.Recorder.Name), From: PausedText, To: SigningText,
			Why: "It was paused, and nothing is recorded until it is resumed.", Risk: finding.NoRisk, Undo: finding.Undo{Kind: finding.Reversible, Note: "Pause it again."},
			Args: map[string]string{"recorder": fmt.Sprint(w.RecorderID), "channel": fmt.Sprint(f.Slot.Number)}}}
	}
	if all := f.renames(w); len(all) > 0 {
		return all
	}
	if c, ok := f.restream(w); ok {
		return []finding.Change{c}
	}
	if f.Recorder == nil || f.Recorder.Lacks(ActPlace) || f.Recorder.nameTrouble(w.Name) != "" || f.Slot != nil || f.Trouble != "" || w.Stream == "" || f.Recorder.BindsFor(w.demand()) != "" {
		return nil
	}
	n, choice := f.Recorder.Free(w.Channel), f.Recorder.Choose(w.Camera)
	if n == 0 || choice.Refused != "" {
		return nil
	}
	why := fmt.Sprintf("%s. The recorder signs in to the camera itself and reports what it receives.", WaySays(choice.Way))
	if len(choice.Lost) > 0 {
		why += fmt.Sprintf(" This way in drops %s.", PassText(choice.Lost))
	}
	why += f.sessionsText()
	return []finding.Change{{
		Kind: Place, Key: Place, Title: fmt.Sprintf("Channel %d of %s", n, f.Recorder.Name),
		From: Empty, To: SlotText(w.Name, f.Address),
		Why: why, Risk: finding.NoRisk,
		Undo: finding.Undo{Kind: finding.Reversible, Note: "Take it off the channel again; " + f.Recorder.footage() + "."},
		Args: map[string]string{"channel": fmt.Sprint(n), "name": w.Name, "address": f.Address, "stream": w.Stream, "view": w.View, "way": choice.Way,
			"recorder": fmt.Sprint(w.RecorderID),
			"make":     w.Camera.Make, "model": w.Camera.Model},
	}}
}

// restream is the change that gives a channel the stream to record; ok is false where it has it, or isn't
// told which it has.
func (f Facts) restream(w Wishes) (c finding.Change, ok bool) {
	if f.Recorder == nil || f.Slot == nil || f.Trouble != "" || f.Slot.Profile == "" || w.Stream == "" || f.Slot.Profile == w.Stream ||
		f.Recorder.Lacks(ActPlace) || f.Recorder.Speech != OwnInterface || w.RecorderID == 0 {
		return c, false
	}
	name := f.Slot.Name
	return finding.Change{Kind: Place, Key: Place, Title: fmt.Sprintf("Stream of channel %d of %s", f.Slot.Number, f.Recorder.Name),
		From: StreamText(name, f.Slot.Address, f.Slot.Profile), To: StreamText(name, f.Address, w.Stream), Why: "It asks for another stream than the one to record.", Risk: finding.Gap,
		Undo: finding.Undo{Kind: finding.Reversible, Note: "Give it the stream that it had."},
		Args: map[string]string{"channel": fmt.Sprint(f.Slot.Number), "name": name, "address": f.Address, "stream": w.Stream, "old_stream": f.Slot.Profile, "view": w.View,
			"way": f.Slot.Way, "recorder": fmt.Sprint(w.RecorderID), "make": w.Camera.Make, "model": w.Camera.Model}}, true
}

// Empty is what a free channel reads, SlotText what a taken one does: the
// canonical text of a channel.
const Empty = "free"

// SlotText is the canonical text of a channel that holds a source.
func SlotText(name, address string) string { return name + " at " + address }

// StreamText is SlotText with the stream that is asked for.
func StreamText(name, address, profile string) string {
	return SlotText(name, address) + ", stream " + profile
}

// ReadText is the canonical text of a taken channel, read for a source whose record stream
// is the profile wanted: one that asks for another stream says so.
func ReadText(s Slot, wanted string) string {
	if s.Profile != "" && wanted != "" && s.Profile != wanted {
		return StreamText(s.Name, s.Address, s.Profile)
	}
	return SlotText(s.Name, s.Address)
}

// Recordings are a recorder's channels as the sums of recordings see them. One that can't tell its
// plans is taken to keep all that it receives; the rate at which it receives stands in for all hours
// where it counts none.
func (r Recorder) Recordings() []recording.Channel {
	out := make([]recording.Channel, len(r.Slots))
	for i, s := range r.Slots {
		rec := s.Recording
		c := recording.Channel{Name: s.Name, Rates: rec.Rates.Or(s.Measured), Activity: rec.Activity, Unlicensed: rec.Unlicensed, Kept: rec.KeptDay,
			Silent: s.State != Receiving && rec.Rates == recording.Rates{}}
		if rec.Rates == (recording.Rates{}) && s.Kbps > 0 {
			c.Rates.Day.Record, c.Rates.Night.Record = s.Kbps, s.Kbps
		}
		switch {
		case rec.Plan != nil:
			c.Plan = *rec.Plan
			if c.Hears = rec.Hears; c.Hears == nil {
				c.Hears = []recording.Cause{} // what it doesn't tell it doesn't hear
			}
		case r.Lacks(ActPlan):
			c.Plan = recording.Always(recording.Mode{Name: "always", Idle: recording.Record, Event: recording.Record})
		default:
			c.NoPlan = true
		}
		c.KeptBy = c.Plan
		out[i] = c
	}
	return out
}

// nameTrouble says why a recorder takes no such name, as what it does; empty where it does.
func (r Recorder) nameTrouble(name string) string {
	n := utf8.RuneCountInString(name)
	switch {
	case r.Limits.NameMax > 0 && n > r.Limits.NameMax:
		return fmt.Sprintf("takes names of up to %d characters, and %q has %d", r.Limits.NameMax, name, n)
	case r.Limits.NameBytes > 0 && len(name) > r.Limits.NameBytes:
		return fmt.Sprintf("takes names of up to %d bytes, and %q has %d", r.Limits.NameBytes, name, len(name))
	}
	for _, c := range name {
		if !inChars(r.Limits.NameChars, c) {
			return fmt.Sprintf("takes no %q in a name", c)
		}
	}
	return ""
}

// inChars says whether a character is among those of a list with ranges, as Limits.NameChars; of an empty
// list all are.
func inChars(list string, c rune) bool {
	all := []rune(list)
	for i := 0; i < len(all); i++ {
		if i+2 < len(all) && all[i+1] == '-' {
			if c >= all[i] && c <= all[i+2] {
				return true
			}
			i += 2
			continue
		}
		if c == all[i] {
			return true
		}
	}
	return len(all) == 0
}

func (r Recorder) longName(why string, s finding.Severity) finding.Finding {
	return finding.Finding{Code: "channel.name-long", Severity: s, Words: "name refused", Sentence: r.Name + " " + why + ".",
		WayOut: "Give the place a name that it takes, in the expected list: it is one name everywhere."}
}

// demand is what a source asks of its recorder.
func (w Wishes) demand() Demand {
	return Demand{Kbps: w.Kbps, Megapixels: float64(w.Width) * float64(w.Height) / 1e6, FPS: w.FPS}
}

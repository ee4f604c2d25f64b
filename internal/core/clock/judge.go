package clock

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
)

// Reading is what a device says of its time.
type Reading struct {
	At         time.Time     `json:"at"`          // server, UTC
	Offset     Offset        `json:"offset"`      // device UTC − this server's
	Device     time.Time     `json:"device"`      // the device's UTC as it gave it
	LocalAhead time.Duration `json:"local_ahead"` // its local time − its UTC
	HasLocal   bool          `json:"has_local"`
	Zone       string        `json:"zone"` // POSIX TZ as given
	Daylight   bool          `json:"daylight"`
	NTP        bool          `json:"ntp"` // takes its time from NTP, else set by hand
	Servers    []string      `json:"servers"`
	FromDHCP   bool          `json:"from_dhcp"`
	Dates      string        `json:"dates,omitempty"` // of the text burned in, as tt:DateFormat; empty: none was read
	Times      string        `json:"times,omitempty"` // as tt:TimeFormat
	Drift      *Drift        `json:"drift,omitempty"` // over this and earlier readings; nil: too few
	Against    *Against      `json:"against,omitempty"`
}

// Reference is what a camera is held against: the recorder that holds it, the one
// it is planned for, or this server.
type Reference struct {
	ID      int64 // of the recorder; 0: this server
	Name    string
	Offset  Offset // reference − this server; zero for this server itself
	Why     string // Holds, Planned or Nobody
	Address string // where the reference serves NTP; empty when it was not heard to
	Zone    string // POSIX TZ that it keeps; empty: not said
	Dates   string // how it writes dates and times, as a reading's; empty: not said
	Times   string
}

// Facts is what the judge of one camera's clock knows.
type Facts struct {
	Camera    *Reading
	Reference Reference
	Window    time.Duration // sign-in window the device has shown; zero when none
}

// Wishes is what the site asks of clocks.
type Wishes struct {
	Zone   string // POSIX TZ; empty: not judged
	Source string // "recorder" or empty, "dhcp", or the address of a named server
	// Network is the one whose own time server Source is; empty: the site asks for it.
	Network string
}

// Offset is the camera against its reference.
func (f Facts) Offset() Offset {
	if f.Camera == nil {
		return Offset{}
	}
	return f.Camera.Offset.Minus(f.Reference.Offset)
}

// Read says whether what the stage is about is known: what its mark may be ready by.
func (f Facts) Read() bool { return f.Camera != nil }

// InBand says whether the camera is usable against its reference.
func (f Facts) InBand() bool {
	b := BandOf(f.Offset(), f.Window)
	return b == InStep || b == Usable
}

// Cause is the likely reason of an offset.
type Cause string

const (
	None       Cause = ""
	NeverSet   Cause = "never set"
	WrongZone  Cause = "zone typed wrongly"
	ByHand     Cause = "set by hand"
	NotReached Cause = "its NTP server isn't reached"
)

// CauseOf names why a camera's UTC is off: never set beyond 400 days; typed in
// summer time or another zone when set by hand and within 30 s of a whole
// multiple of 15 minutes; NTP not reached when NTP is set and it is off all the
// same.
func CauseOf(r Reading, o Offset) Cause {
	d := o.Mid().Abs()
	switch {
	case d <= UsableWithin:
		return None
	case d > 400*24*time.Hour:
		return NeverSet
	case r.NTP:
		return NotReached
	}
	const quarter = 15 * time.Minute
	rest := d % quarter
	if d >= quarter-30*time.Second && d <= 26*time.Hour && min(rest, quarter-rest) <= 30*time.Second {
		return WrongZone
	}
	return ByHand
}

// Judge says what is wrong with one camera's time, UTC and local apart.
func Judge(now time.Time, f Facts, w Wishes) []finding.Finding {
	if f.Camera == nil {
		return nil
	}
	var out []finding.Finding
	if u, ok := judgeUTC(f, w); ok {
		out = append(out, u)
	}
	if z, ok := judgeZone(now, f, w); ok {
		out = append(out, z)
	} else if z, ok := judgeRecordersZone(now, f); ok {
		out = append(out, z)
	}
	if l, ok := judgeLocal(f); ok {
		out = append(out, l)
	}
	if d, ok := judgeDrift(now, f); ok {
		out = append(out, d)
	}
	if t, ok := judgeText(f); ok {
		out = append(out, t)
	}
	finding.Sort(out)
	return out
}

func judgeUTC(f Facts, w Wishes) (finding.Finding, bool) {
	o := f.Offset()
	band := BandOf(o, f.Window)
	if band == InStep || band == Usable {
		return finding.Finding{}, false
	}
	r := *f.Camera
	cause := CauseOf(r, o)
	ahead := "ahead of"
	if o.Mid() < 0 {
		ahead = "behind"
	}
	within, takes := fmt.Sprintf("%.0f s (the usual window)",
		defaultWindow.Seconds()), fmt.Sprintf("at most %.0f s of difference (the usual window)", defaultWindow.Seconds())
	if f.Window > 0 {
		within, takes = fmt.Sprintf("at least %.0f s, as it has shown",
			f.Window.Seconds()), fmt.Sprintf("less than %.0f s of difference, as it has shown", f.Window.Seconds())
	}
	fd := finding.Finding{
		Code: "clock.at-risk", Severity: finding.Needs, Words: Brief(o.Mid()),
		Evidence: []finding.Evidence{
			{Name: "Offset", Value: o.String(), Via: "GetSystemDateAndTime", At: r.At},
			{Name: "Camera, UTC", Value: r.Device.UTC().Format("2006-01-02 15:04:05"), Via: "GetSystemDateAndTime", At: r.At},
			{Name: "Takes time from", Value: r.Source(), Via: "GetSystemDateAndTime, GetNTP", At: r.At},
		},
		WayOut: wayOut(f, w),
	}
	size := fmt.Sprintf("%s %s %s", Length(o.Mid()), ahead, f.Reference.Name)
	because := becauseOf(cause, o)
	if band == Refused {
		fd.Code, fd.Severity = "clock.refused", finding.Blocks
		fd.Sentence = fmt.Sprintf("Its UTC is %s%s. %s signs in with its own time and this camera takes %s: the recorder is refused, though the password is right.",
			size, because, upper(f.Reference.Name), takes)
		return fd, true
	}
	fd.Sentence = fmt.Sprintf("Its UTC is %s%s. Its sign-in window is %s: it still works, recordings carry the wrong time, and a little more and the recorder is refused.",
		size, because, within)
	return fd, true
}

// wayOut says what Propose proposes for a clock that is off: the finding and the change are one.
func wayOut(f Facts, w Wishes) string {
	r := *f.Camera
	server, named := f.source(w)
	to := sourceText(server)
	switch {
	case server != "" && r.Source() != to:
		return "Let it take its time from " + named + "."
	case server == DHCP:
		return "It asks the server that its network names already: see that UDP port 123 leads there. Setting its time once mends it for now and switches its NTP off."
	case server != "":
		return fmt.Sprintf("It asks the right server already: see that UDP port 123 leads from it to %s. Setting its time once mends it for now and switches its NTP off.", server)
	case r.NTP:
		return "Nothing that it could follow serves NTP: set its time once, which switches its NTP off."
	}
	return "Set its time once; the reference serves no NTP."
}

// sourceText is Source of a clock that follows a server.
func sourceText(server string) string {
	if server == DHCP {
		return "NTP from DHCP"
	}
	return "NTP " + server
}

func becauseOf(c Cause, o Offset) string {
	switch c {
	case NeverSet:
		return ". It was never set"
	case WrongZone:
		way := "summer time or a zone further east typed as if it were UTC"
		if o.Mid() < 0 {
			way = "winter time or a zone further west typed as if it were UTC"
		}
		return fmt.Sprintf(". It was set by hand, and exactly %s points to %s", Brief(o.Mid())[len(sign(o.Mid())):], way)
	case NotReached:
		return ". NTP is set, but its server isn't reached from the camera"
	case ByHand:
		return ". It was set by hand"
	}
	return ""
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func sign(d time.Duration) string {
	if d < 0 {
		return "−"
	}
	return "+"
}

func judgeZone(now time.Time, f Facts, w Wishes) (finding.Finding, bool) {
	want, err := parseZone(w.Zone)
	if w.Zone == "" || err != nil {
		return finding.Finding{}, false
	}
	r := *f.Camera
	ev := []finding.Evidence{{Name: "Zone", Value: r.ZoneText(), Via: "GetSystemDateAndTime", At: r.At}}
	have, err := parseZone(r.Zone)
	if err != nil {
		return finding.Finding{Code: "clock.zone", Severity: finding.Needs, Words: "zone",
			Sentence: fmt.Sprintf("Its zone %q can't be read as a POSIX time zone.", r.Zone),
			WayOut:   "Write the site's zone rule.", Evidence: ev}, true
	}
	if !r.Daylight {
		have = have.WithoutDaylight()
	}
	if sameZone(have, want, now) {
		return finding.Finding{}, false
	}
	fd := finding.Finding{Code: "clock.zone", Severity: finding.Needs, Words: "zone", Evidence: ev, WayOut: "Write the site's zone rule."}
	switch {
	case have.Offset(now) == want.Offset(now):
		fd.Words = "no daylight"
		fd.Sentence = "Its local time is right now and will be wrong after the next change of the clocks: its daylight rule is " + onOff(r.Daylight) + " or has other dates than the site's."
	case have.Std == -want.Std && want.Std != 0: // in summer too, when daylight hides it
		fd.Sentence = fmt.Sprintf("Its zone has the sign turned round: POSIX counts west of UTC, so it keeps %s where the site keeps %s.", eastOf(have.Offset(now)), eastOf(want.Offset(now)))
	default:
		fd.Sentence = fmt.Sprintf("Its local time keeps %s, the site's %s.", eastOf(have.Offset(now)), eastOf(want.Offset(now)))
	}
	return fd, true
}

// judgeRecordersZone holds the camera's zone, which is the site's, against the recorder's.
func judgeRecordersZone(now time.Time, f Facts) (finding.Finding, bool) {
	r := *f.Camera
	theirs, err := parseZone(f.Reference.Zone)
	if f.Reference.Zone == "" || err != nil || r.SameZone(f.Reference.Zone, true, now) {
		return finding.Finding{}, false
	}
	return finding.Finding{Code: "clock.recorder-zone", Severity: finding.Note, Words: "other zone",
		Sentence: fmt.Sprintf("Its zone is the site's, and %s keeps another (%s now): the same moment reads as two times there and in the picture.", f.Reference.Name, eastOf(theirs.Offset(now))),
		WayOut:   "Give the recorder the site's zone, on its own screen.",
		Evidence: []finding.Evidence{{Name: "Camera's zone", Value: r.ZoneText(), Via: "GetSystemDateAndTime", At: r.At}, {Name: f.Reference.Name, Value: f.Reference.Zone, Via: "GET /api/status", At: r.At}}}, true
}

// localWithin is by how much a local time may differ from what its zone makes of its UTC: both
// are told in whole seconds, one after the other.
const localWithin = 90 * time.Second

// judgeLocal holds the local time that a camera shows against what its own zone rule makes of
// its UTC: one may be right and the other wrong.
func judgeLocal(f Facts) (finding.Finding, bool) {
	r := *f.Camera
	z, err := parseZone(r.Zone)
	if !r.HasLocal || err != nil {
		return finding.Finding{}, false
	}
	if !r.Daylight {
		z = z.WithoutDaylight()
	}
	off := minus(r.LocalAhead, z.Offset(r.Device))
	if off.Abs() <= localWithin {
		return finding.Finding{}, false
	}
	way := "ahead of"
	if off < 0 {
		way = "behind"
	}
	return finding.Finding{Code: "clock.local", Severity: finding.Needs, Words: "local " + Brief(off),
		Sentence: fmt.Sprintf("Its local time is %s %s what its own zone rule makes of its UTC: the text in its picture and its schedules go by it.", Length(off), way),
		WayOut:   "Restart it, then read it again: it keeps an old rule. Where that doesn't help its firmware reckons wrongly: set its zone on its own page.",
		Evidence: []finding.Evidence{{Name: "Local − UTC", Value: eastOf(r.LocalAhead), Via: "GetSystemDateAndTime", At: r.At},
			{Name: "Zone", Value: r.ZoneText(), Via: "GetSystemDateAndTime", At: r.At}}}, true
}

func onOff(b bool) string {
	if b {
		return "on"
	}
	return "off"
}

func eastOf(d time.Duration) string {
	return fmt.Sprintf("UTC%+03d:%02d", int(d/time.Hour), int(d.Abs()/time.Minute)%60)
}

// Source is where the device takes its time from, in the canonical text that a
// change of it reads back.
func (r Reading) Source() string {
	switch {
	case !r.NTP:
		return ByHandText
	case r.FromDHCP:
		return "NTP from DHCP"
	case len(r.Servers) == 0:
		return "NTP without a server"
	}
	return "NTP " + strings.Join(r.Servers, ", ")
}

// SourceShown is Source with the server that its network hands out, where it takes that one.
func (r Reading) SourceShown() string {
	if r.NTP && r.FromDHCP && len(r.Servers) > 0 {
		return r.Source() + " (" + strings.Join(r.Servers, ", ") + ")"
	}
	return r.Source()
}

// ZoneText is the zone and daylight switch in canonical text.
func (r Reading) ZoneText() string { return ZoneText(r.Zone, r.Daylight) }

// ZoneText is the canonical text of a zone and its daylight switch.
func ZoneText(zone string, daylight bool) string {
	return zone + " · daylight " + onOff(daylight)
}

// Change kinds this package proposes.
const (
	SetZone   = "clock.zone"
	SetSource = "clock.source"
	SetTime   = "clock.time"
	SetManual = "clock.manual" // takes SetSource back: the device keeps its time, by hand
	SetText   = "clock.text"   // how date and time are burned in
)

// ByHandText is what Source reads of a clock that was set by hand.
const ByHandText = "set by hand"

// Propose lists what would mend the clock, in the order it is to be made: the
// zone first, then where time comes from, so that no local time is written twice.
func Propose(now time.Time, f Facts, w Wishes) []finding.Change {
	if f.Camera == nil {
		return nil
	}
	r := *f.Camera
	var out []finding.Change
	if c, wrong := f.zoneChange(now, w); wrong {
		out = append(out, c)
	}
	if t, ok := textFor(f); ok {
		out = append(out, t)
	}
	_, drifts := judgeDrift(now, f)
	band := BandOf(f.Offset(), f.Window)
	if !drifts && (band == InStep || band == Usable) {
		return out
	}
	later := slices.Clone(settled)
	if c, ok := f.sourceChange(w); ok {
		return append(out, c)
	}
	if band == InStep || band == Usable {
		return out // it drifts, and there is nothing that it could follow
	}
	if r.NTP {
		return append(out, switchNTPOff(f, later))
	}
	return append(out, finding.Change{
		Kind: SetTime, Key: SetTime, Title: "Time, once", From: "off by " + Brief(f.Offset().Mid()), To: "in step with " + f.Reference.Name,
		Why: "The reference serves no NTP that the camera could follow.", Risk: finding.NoRisk, Later: later,
		Undo: finding.Undo{Kind: finding.Irreversible, Note: "A wrong time isn't worth putting back."},
	})
}

// settled are how long after its writing a clock is read again.
var settled = []time.Duration{5 * time.Second, time.Minute}

// zoneChange gives the clock the site's zone rule; ok is false where it keeps it.
func (f Facts) zoneChange(now time.Time, w Wishes) (c finding.Change, ok bool) {
	if _, wrong := judgeZone(now, f, w); !wrong {
		return c, false
	}
	want, _ := parseZone(w.Zone)
	r := f.Camera
	return finding.Change{
		Kind: SetZone, Key: SetZone, Title: "Zone rule", From: r.ZoneText(), To: ZoneText(w.Zone, want.HasDST),
		Why: "Local time and the burned-in text follow the site's zone.", Risk: finding.NoRisk,
		Undo: finding.Undo{Kind: finding.Reversible, Note: "Put the old rule back."},
		Args: map[string]string{"zone": w.Zone, "daylight": onOff(want.HasDST), "old_zone": r.Zone, "old_daylight": onOff(r.Daylight)},
	}, true
}

// sourceChange has the clock take its time from where the site wishes; ok is false where it does, or there is nothing
// that it could follow.
func (f Facts) sourceChange(w Wishes) (c finding.Change, ok bool) {
	server, named := f.source(w)
	r, to := f.Camera, sourceText(server)
	if server == "" || r.Source() == to {
		return c, false
	}
	c = finding.Change{
		Kind: SetSource, Key: SetSource, Title: "Takes time from", From: r.Source(), To: to,
		Why: "It then follows " + named + ".", Risk: finding.NoRisk, Later: slices.Clone(settled),
		Undo: finding.Undo{Kind: finding.Compensating,
			Note: "Set by hand again; the old, wrong time isn't put back.", Act: SetManual, To: ByHandText},
		Args: map[string]string{"server": server, "reference": named},
	}
	switch {
	case r.NTP && r.FromDHCP:
		c.Undo = finding.Undo{Kind: finding.Reversible, Note: "Ask its network's server again."}
		c.Args["old_server"] = DHCP
	case r.NTP && len(r.Servers) == 1:
		c.Undo = finding.Undo{Kind: finding.Reversible, Note: "Ask the old server again."}
		c.Args["old_server"] = r.Servers[0]
	case f.InBand():
		c.Undo.Note = "Set by hand again; it goes on from the time that it has then."
	}
	return c, true
}

// Follow is what has the clock follow the site's wish, in step or not: its zone and daylight rule, and where it takes its
// time from; why says what hinders it. Both are empty where it does so already.
func Follow(now time.Time, f Facts, w Wishes) (out []finding.Change, why string) {
	if f.Camera == nil {
		return nil, "its clock wasn't read yet"
	}
	if c, wrong := f.zoneChange(now, w); wrong {
		out = append(out, c)
	}
	if server, _ := f.source(w); server == "" {
		return nil, f.Reference.Name + " serves no time that it could follow"
	}
	if c, ok := f.sourceChange(w); ok {
		out = append(out, c)
	}
	return out, ""
}

// switchNTPOff sets a time}

// switchNTPOff sets a time by hand that NTP should have and doesn't: it says so.
func switchNTPOff(f Facts, later []time.Duration) finding.Change {
	r := *f.Camera
	c := finding.Change{Kind: SetTime, Key: SetTime, Title: "Time, once; its NTP is switched off",
		From: r.Source() + ", off by " + Brief(f.Offset().Mid()), To: ByHandText + ", in step with " + f.Reference.Name,
		Why: "Its NTP isn't reached, and a time that is set by hand is the only one it can have now.", Risk: finding.NoRisk, Later: later,
		Args: map[string]string{"ntp": "off"},
		Undo: finding.Undo{Kind: finding.Irreversible, Note: "A wrong time isn't worth putting back; let it ask its servers again once they are reached."}}
	switch {
	case r.FromDHCP:
		c.Undo = finding.Undo{Kind: finding.Compensating, Note: "Ask the network's server again.", Act: SetSource, To: r.Source(), Args: map[string]string{"server": DHCP}}
	case len(r.Servers) == 1:
		c.Undo = finding.Undo{Kind: finding.Compensating, Note: "Ask its server again.", Act: SetSource, To: r.Source(), Args: map[string]string{"server": r.Servers[0]}}
	}
	return c
}

// ReadsSet is what a clock that is set once reads, in the canonical text of the change: to once
// it is in step, and its NTP off where the change switches it off.
func ReadsSet(f Facts, from, to string, args map[string]string) string {
	if f.InBand() && !(args["ntp"] == "off" && f.Camera.NTP) {
		return to
	}
	return from
}

// DHCP is the source of a site whose network hands out a time server.
const DHCP = "dhcp"

// source is the server that the camera is told to follow, as the site wishes, and its
// name; empty where there is none.
func (f Facts) source(w Wishes) (server, named string) {
	switch w.Source {
	case "", "recorder":
		if f.Reference.Why == Planned {
			return f.Reference.Address, f.Reference.Name + ", which it is planned for"
		}
		return f.Reference.Address, f.Reference.Name + ", which holds it"
	case DHCP:
		return DHCP, "the server that its network names"
	}
	if w.Network != "" {
		return w.Source, "the time server of " + w.Network
	}
	return w.Source, "the site's time server"
}

package identity

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/netplan"
)

// Facts is what the judge of Find knows of one device.
type Facts struct {
	Seen     *Sighting
	Outcome  Outcome
	LookedAt time.Time // of the last look that covered the device's address
	Tried    string    // what was asked, worded, when nothing answered
	WasUUID  string    // the endpoint it had before, where it is another now
	// Elsewhere, Claims: see Match. MovedFrom is where it was before it moved, until a person
	// settled that.
	Elsewhere []netip.Addr
	Claims    []Claim
	MovedFrom netip.Addr
	Info      *Sighting // what it says of itself signed in
	Inside    bool      // its address lies in a network of the site
	IPConfig  *netplan.IPConfig
	DNS       *netplan.DNS
	Network   netplan.Network   // of the site that it is in; its prefix is invalid where it is in none
	Networks  []netplan.Network // of the site
	Hidden    bool              // it says itself that its discovery is off
	Behind    *Behind
	Firmware  string   // as it says signed in
	Taken     string   // what answers at the address that the list gives it, where that is another device
	Sources   []string // names of its video sources, where it has several
	Chosen    int      // how many of them were picked; 0: nobody decided
	Unlisted  bool     // an account opens it over ONVIF, and what it looks at wasn't read
	Unread    string   // what hindered that
	NoInputs  []int    // that the list names and it hasn't got
}

// Behind is what a recorder tells of a device on one of its own ports.
type Behind struct {
	Recorder   string
	RecorderID int64
	Port       int
	At         time.Time
	HandsOut   string // prefix of the addresses that its ports give; empty: none
	Fixed      bool   // the device's address isn't one of them
	Relays     bool   // the recorder shows the device's page
	Slot       int    // channel bound to the port; 0: none
	SlotText   string // its canonical text, see channel.SlotText
	Dead       string // why that channel is a dead entry; empty: it isn't
}

// Read says whether what the stage is about is known: what its mark may be ready by.
func (f Facts) Read() bool { return f.Seen != nil }

// OnlyBehind says why a stage that speaks to the device itself doesn't apply: it is
// reached only from a recorder. Empty where it is reached from here, or wasn't found.
func (f Facts) OnlyBehind() string {
	if f.Seen == nil || f.Behind == nil || !f.Seen.Heard(OnAPort) {
		return ""
	}
	return fmt.Sprintf("It is reached only from %s, which signs in and sets its clock itself.", f.Behind.Recorder)
}

// OnlyRTSP says why a stage that asks over ONVIF doesn't apply: the device speaks RTSP
// alone. Empty where it speaks more, or wasn't found.
func (f Facts) OnlyRTSP() string {
	if f.Seen == nil || !f.Seen.RTSPAlone() {
		return ""
	}
	return "It speaks RTSP alone: there is no clock or event of it that can be read."
}

// Wishes is what the site expects of a device.
type Wishes struct {
	Known
	Least   string            // firmware; empty: any
	MoveTo  *netplan.IPConfig // where it is to be moved; nil: it stays
	Ours    Word              // a person's word that what answers is of this site
	Account bool              // of a recorder: it was given one
}

// Change kinds this package proposes.
const (
	SetIPConfig  = "net.ip"
	SetDiscovery = "net.discovery"
	SetDNS       = "net.dns"
	RemoveEntry  = "channel.clear" // a dead entry
)

// Canonical texts of a device's discovery.
const (
	HiddenText = "not heard"
	HeardText  = "heard"
)

// Judge says what is wrong with how one device was found.
func Judge(_ time.Time, f Facts, w Wishes) []finding.Finding {
	if f.LookedAt.IsZero() && f.Behind == nil {
		return nil
	}
	if f.Seen == nil && len(f.Elsewhere) > 0 {
		return []finding.Finding{claimed(f, w)}
	}
	if f.Seen == nil {
		return []finding.Finding{silent(f, w)}
	}
	j := judge{f: f, s: *f.Seen, w: w}
	j.ev = []finding.Evidence{{Name: "Answered", Value: j.s.WaysText(), Via: "look", At: j.s.At}}
	j.who()
	j.where()
	j.how()
	j.what()
	finding.Sort(j.out)
	return j.out
}

type judge struct {
	f   Facts
	s   Sighting
	w   Wishes
	ev  []finding.Evidence
	out []finding.Finding
}

func (j *judge) add(code string, sev finding.Severity, words, sentence, way string, more ...finding.Evidence) {
	j.out = append(j.out, finding.Finding{Code: code, Severity: sev, Words: words,
		Sentence: sentence, WayOut: way, Evidence: append(more, j.ev...)})
}

// who judges whether it is who was known here.
func (j *judge) who() {
	s, w := j.s, j.w
	elsewhere := evidenceOf("Shown at", j.f.Elsewhere, j.f.LookedAt)
	switch {
	case j.f.Outcome == Doubtful && len(j.f.Elsewhere) > 0:
		j.add("find.other-device", finding.Blocks, "other device",
			fmt.Sprintf("Another device answers at %s than the one known here as %s, and at %s answers what says to be it.", s.Address, w.Place, addresses(j.f.Elsewhere)),
			"If it was moved there, take its new address; if the camera was exchanged, let the new one take its place. No account is sent to either until then.", elsewhere)
	case j.f.Outcome == Doubtful:
		j.add("find.other-device", finding.Blocks, "other device",
			fmt.Sprintf("Another device answers at %s than the one known here as %s.", s.Address, w.Place),
			"If the camera was exchanged, let the new one take its place; if not, look for two devices on one address. No account is sent to it until then.")
	case len(j.f.Elsewhere) > 0 && !w.Ours.Holds(s):
		j.add("find.echoed", finding.Blocks, "shown twice",
			fmt.Sprintf("%s shows the same identity as this one: one device with two addresses, or something that repeats what it heard.", addresses(j.f.Elsewhere)),
			"Find out which is which. If this one is the camera, say that it is yours; no account is sent to either until then.", elsewhere)
	}
	if len(j.f.Claims) > 0 && !w.Ours.Holds(s) {
		j.add("find.claims", finding.Blocks, "says it is", fmt.Sprintf("It says to be %s. Endpoint, MAC and serial are public: anything can repeat them.", claims(j.f.Claims)),
			"If that camera was moved here, take its new address; if not, find out what this is. No account is sent to it until then.")
	}
	if s.LinkMAC != "" && s.MAC != "" && s.LinkMAC != s.MAC && !w.Ours.Holds(s) {
		j.add("find.link-mac", finding.Needs, "other MAC", fmt.Sprintf("It says that its MAC is %s, and on this network %s answers at its address.", s.MAC, s.LinkMAC),
			"A camera with two sockets, or one behind a box that answers for it, is well: then say that it is yours. No account is sent to it until then.",
			finding.Evidence{Name: "MAC at its address", Value: s.LinkMAC, Via: "neighbour table", At: s.At})
	}
	if w.Kind == Camera && !w.Expected && j.f.Behind == nil && len(j.f.Claims) == 0 {
		j.add("find.unexpected", finding.Needs, "unlisted", "It isn't on the expected list.",
			"Put it on the list, let it take the place of one that is missing, or leave it out. No account is sent to it until then.")
	}
	if w.Kind == Recorder && !w.Expected && !w.Account {
		j.add("find.unlisted-recorder", finding.Needs, "not listed", "It records, or manages what others record, and nobody listed it.",
			"Give it a name and an account on Settings, or leave it. No account is sent to it until then.")
	}
	if w.Kind == Analyser && !w.Expected && !w.Account {
		j.add("find.unlisted-analyser", finding.Needs, "not listed", "It looks at pictures for others, and nobody listed it.",
			"Give it a name and an account on Settings, or leave it. No account is sent to it until then.")
	}
	if j.f.MovedFrom.IsValid() && j.f.MovedFrom != s.Address {
		how := "its certificate is the one that it showed before"
		if w.Pin == "" || w.Pin != s.Cert {
			how = "its marks are shown nowhere else"
		}
		j.add("find.moved", finding.Note, "moved", fmt.Sprintf("It was known at %s and answers at %s: %s.", j.f.MovedFrom, s.Address, how),
			"Correct the list, or move it back.")
	}
	if i := j.f.Info; i != nil {
		for _, m := range []struct{ name, list, says string }{{"MAC", CleanMAC(w.MAC), CleanMAC(i.MAC)}, {"serial", CleanSerial(w.Serial), CleanSerial(i.Serial)}} {
			if m.list != "" && m.says != "" && m.list != m.says {
				j.add("find.not-listed", finding.Needs, "other "+m.name, fmt.Sprintf("Signed in, it says that its %s is %s; the list and what was known say %s.", m.name, m.says, m.list),
					"Is it the camera that belongs here? Then let it take the place; if not, look which cable was plugged where.",
					finding.Evidence{Name: "Says signed in", Value: m.says, Via: "GetDeviceInformation, GetNetworkInterfaces", At: i.At})
			}
		}
	}
	if len(s.Also) > 0 {
		j.add("find.two-on-one", finding.Blocks, "two on one",
			severalOnOne(s),
			"Unplug one of them, give the other another address, then look again.")
	}
	if len(s.Clones) > 0 {
		j.add("find.shared-endpoint", finding.Needs, "same endpoint",
			fmt.Sprintf("%s answers with the same endpoint: one of them is a clone, and a recorder that goes by the endpoint takes them for one.", strings.Join(s.Clones, ", ")),
			"Reset one of them to its factory state: most makes make a new endpoint then. Until then they are told apart by MAC and serial.")
	}
	if j.f.WasUUID != "" {
		j.add("find.endpoint-changed", finding.Note, "new endpoint",
			"Its endpoint is another than before, and its MAC the same: it was reset, or its firmware was exchanged.", "Sign in again: accounts and settings may be gone.",
			finding.Evidence{Name: "Endpoint before", Value: j.f.WasUUID, Via: "look", At: j.f.LookedAt})
	}
	if w.Model != "" && s.Model != "" && !strings.EqualFold(w.Model, s.Model) {
		j.add("find.other-model", finding.Needs, "other model",
			fmt.Sprintf("The list expects %s %s, and %s %s answers.", w.Make, w.Model, s.Make, s.Model),
			"Correct the list, or look which camera hangs here.")
	}
}

// where judges its place on the network.
func (j *judge) where() {
	f, s := j.f, j.s
	if !f.Inside && f.Behind == nil {
		way := "Move it into its network."
		if f.Taken != "" {
			way = fmt.Sprintf("Its address on the list, %s, is taken: %s answers there. Settle that first, or give it another address.", j.w.Address, f.Taken)
		}
		j.add("find.factory-address", finding.Needs, "factory address",
			fmt.Sprintf("It answers at %s, outside every network of the site: no recorder reaches it there.", s.Address),
			way+laptopFor(s.Address))
	}
	if b := f.Behind; b != nil {
		told := finding.Evidence{Name: fmt.Sprintf("Port %d of %s", b.Port, b.Recorder),
			Value: s.Make + " " + s.Model + " at " + s.Address.String(), Via: "channel table", At: b.At}
		if !s.Heard(Directed) && !s.Heard(Multicast) && !s.Heard(AskedTime) {
			j.add("find.behind-port", finding.Note, "behind port",
				fmt.Sprintf("It is reached only from %s, on its port %d: nothing here gets an answer from it.", b.Recorder, b.Port),
				"Set it up through the recorder; its own page opens by the recorder's relay.", told)
		}
		if b.Fixed {
			j.add("find.fixed-on-port", finding.Needs, "fixed address",
				fmt.Sprintf("It has the fixed address %s on a port of %s that gives addresses of %s: the recorder refuses it.", s.Address, b.Recorder, b.HandsOut), "Set it to automatic, on its own page by the recorder's relay.", told)
		}
		if b.Dead != "" {
			j.add("find.dead-entry", finding.Needs, "dead entry",
				fmt.Sprintf("Channel %d of %s is bound to its port and holds a dead entry (%s): the camera that hangs there isn't taken.", b.Slot, b.Recorder, b.Dead), "Remove the dead entry; what it recorded stays.", told)
		}
	}
	if f.IPConfig != nil && f.Network.Prefix.IsValid() {
		for _, t := range f.IPConfig.Trouble(f.Network, f.Networks) {
			j.add("find."+t.Code, finding.Needs, t.Words, t.Sentence, "Write mask and gateway of its network.",
				finding.Evidence{Name: "Its settings", Value: f.IPConfig.String(), Via: "GetNetworkInterfaces", At: s.At})
		}
	}
	if f.DNS != nil && f.Network.Prefix.IsValid() {
		if _, why, other := f.DNS.Want(f.Network); other {
			j.add("find.dns", finding.Needs, "name server", why, "Write the name servers of its network.",
				finding.Evidence{Name: "Its name servers", Value: f.DNS.String(), Via: "GetDNS", At: s.At})
		}
	}
}

// how judges how it was heard.
func (j *judge) how() {
	s, camera := j.s, j.w.Kind == Camera
	switch {
	case camera && s.Heard(SpokeRTSP) && !s.ONVIF() && s.Page == "":
		j.add("find.rtsp-only", finding.Needs, "RTSP only",
			"It speaks RTSP and no ONVIF: its clock, settings, rules and events can't be read or set from here.",
			"Enrol its stream by address and accept what is lost, or switch ONVIF on in its own page.")
	case camera && s.Page != "" && !s.ONVIF() && j.f.Behind == nil:
		j.add("find.onvif-off", finding.Blocks, "ONVIF off",
			"Its web page answers and ONVIF doesn't: it is switched off, or this model has none.", "Open its own page, switch ONVIF on, then look again.",
			finding.Evidence{Name: "Web page", Value: s.Title, Via: "GET " + s.Page, At: s.At})
	case len(s.Ways) == 0 && s.Trouble == "":
		j.add("find.mute", finding.Blocks, "mute", fmt.Sprintf("Its ports %s are open, and it answers to nothing that was asked: no ONVIF, no RTSP, no page.", strings.Trim(fmt.Sprint(s.Ports), "[]")), "Start it again, then look again; if it stays so, find out what hangs there.")
	case camera && s.ONVIF() && !s.Heard(Multicast) && j.f.Behind == nil && j.f.Hidden:
		j.add("find.only-directed", finding.Note, "only asked",
			"It was heard only when asked directly: its discovery is switched off.", "Switch its discovery on, or add it to a recorder by address: one that only listens never lists it.")
	case camera && s.ONVIF() && !s.Heard(Multicast) && j.f.Behind == nil:
		j.add("find.only-directed", finding.Note, "only asked",
			"It was heard only when asked directly: another network, or multicast is blocked, or its discovery is off.",
			"A recorder that only listens will never list it: add it there by address.")
	case !camera && s.Heard(ShowedWeb) && !s.Heard(SaidHello):
		j.add("find.own-screen", finding.Note, "own screen",
			"It shows a web page and answers to no recorder interface: there is no way in but its own screen.", "Set it up at its screen, by a bench sheet.")
	}
	if s.NoPassword {
		j.add("find.first-password", finding.Note, "new",
			"No first password was set: anyone who reaches it can set one.", "Set it in Sign-in.")
	}
	if s.OldPage != "" {
		j.add("find.old-page", finding.Note, "old page",
			"Its page wants a browser or plug-in of the past ("+s.OldPage+").", "Set it from here: accounts, clock, address, streams and rules need no page of its own.")
	}
	if s.Trouble != "" {
		j.add("find.bad-answer", finding.Needs, "bad answer", s.Trouble,
			"Open its own page and see whether it is well; start it again if not.")
	}
}

// what judges the device itself.
func (j *judge) what() {
	if j.w.Least != "" && j.f.Firmware != "" && older(j.f.Firmware, j.w.Least) {
		j.add("find.firmware", finding.Needs, "firmware",
			fmt.Sprintf("Its firmware is %s; this site asks for %s at least.", j.f.Firmware, j.w.Least),
			"Update it with its maker's file, then sign in again.")
	}
	if len(j.f.NoInputs) > 0 {
		j.add("find.no-input", finding.Needs, "no such input",
			fmt.Sprintf("The list names its input %s, and it has %d (%s).", numbers(j.f.NoInputs), len(j.f.Sources), strings.Join(j.f.Sources, ", ")),
			"Correct the list, or look which device hangs here.")
	}
	if j.f.Unlisted {
		why := "its video sources weren't read"
		if j.f.Unread != "" {
			why = "its video sources can't be read: " + strings.TrimSuffix(j.f.Unread, ".")
		}
		j.add("find.sources-unread", finding.Needs, "views unread", "An account opens it, and "+why+". How many views it has isn't known.", "Sign in to it again.")
	}
	if len(j.f.Sources) > 1 && j.f.Chosen == 0 {
		j.add("find.sources", finding.Needs, "which views",
			fmt.Sprintf("It has %d video sources (%s): nobody said which to enroll.", len(j.f.Sources),
				strings.Join(j.f.Sources, ", ")), "Pick the views that this site uses.")
	}
}

// numbers lists numbers with commas.
func numbers(all []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(all), " ", ", "), "[]")
}

// laptopFor says how a laptop reaches a device that is outside every network of the site.
func laptopFor(device netip.Addr) string {
	l, ok := netplan.ReachFrom(device, func(netip.Addr) bool { return false })
	if !ok {
		return ""
	}
	return fmt.Sprintf(" To reach it from a laptop give that one %s, mask %s, if nothing else has it: on Linux %s. Find has the commands of other systems.", l.Address, l.Mask, l.Linux)
}

// older says whether firmware version a is older than b: numbers are compared as numbers, whatever
// stands before the first of them, what is between as text. A number that is missing is 0, and text that
// is missing is older.
func older(a, b string) bool {
	as, bs := chunks(a), chunks(b)
	for i := range max(len(as), len(bs)) {
		x, y := "", ""
		if i < len(as) {
			x = as[i]
		}
		if i < len(bs) {
			y = bs[i]
		}
		if (x == "" || digits(x)) && (y == "" || digits(y)) {
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			if len(x) != len(y) {
				return len(x) < len(y)
			}
		}
		if x != y {
			return x < y
		}
	}
	return false
}

func digits(s string) bool { return s != "" && s[0] >= '0' && s[0] <= '9' }

// chunks splits a version into runs of digits and runs of letters, from the first digit on; one without
// any is all letters.
func chunks(s string) []string {
	if i := strings.IndexFunc(s, func(r rune) bool { return r >= '0' && r <= '9' }); i > 0 {
		s = s[i:]
	}
	var out []string
	kind := 0
	for _, r := range strings.ToLower(s) {
		k := 0
		switch {
		case r >= '0' && r <= '9':
			k = 1
		case r >= 'a' && r <= 'z':
			k = 2
		}
		if k != 0 && k == kind {
			out[len(out)-1] += string(r)
		} else if k != 0 {
			out = append(out, string(r))
		}
		kind = k
	}
	return out
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return "none"
	}
	return a.String()
}

// claimed is a device that is silent where it is known, and that something elsewhere says to be.
func claimed(f Facts, w Wishes) finding.Finding {
	return finding.Finding{Code: "find.moved-unproven", Severity: finding.Blocks, Words: "moved?",
		Sentence: fmt.Sprintf("It is silent at %s, and %s shows its identity. Endpoint, MAC and serial are public: anything can repeat them.", addressText(w.Known.Address), addresses(f.Elsewhere)),
		WayOut:   "If it was given that address, take it; if not, find out what answers there. No account is sent to it until then.",
		Evidence: []finding.Evidence{evidenceOf("Shown at", f.Elsewhere, f.LookedAt), {Name: "Tried", Value: f.Tried, Via: "look", At: f.LookedAt}}}
}

func evidenceOf(name string, at []netip.Addr, when time.Time) finding.Evidence {
	return finding.Evidence{Name: name, Value: addresses(at), Via: "look", At: when}
}

func addresses(all []netip.Addr) string {
	words := make([]string, len(all))
	for i, a := range all {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}

func claims(all []Claim) string {
	words := make([]string, len(all))
	for i, c := range all {
		words[i] = fmt.Sprintf("%s, which is known at %s", c.Place, c.At)
	}
	return strings.Join(words, "; ")
}

func silent(f Facts, w Wishes) finding.Finding {
	where := "Expected, and no address is known for it."
	if w.Address.IsValid() {
		where = "Expected here, and nothing answers."
	}
	return finding.Finding{Code: "find.silent", Severity: finding.Blocks, Words: "silent",
		Sentence: where,
		WayOut:   "Is it powered, and on this network? Then look again.",
		Evidence: []finding.Evidence{{Name: "Address", Value: addressText(w.Address), Via: "expected list",
			At: f.LookedAt}, {Name: "Tried", Value: f.Tried, Via: "look", At: f.LookedAt}}}
}

// Propose lists what would put the device where it belongs. open says whether an
// account opens it: without one nothing is written to it.
func Propose(_ time.Time, f Facts, w Wishes, open bool) []finding.Change {
	if f.Seen == nil {
		return nil
	}
	var out []finding.Change
	if b := f.Behind; b != nil && b.Dead != "" {
		out = append(out, finding.Change{Kind: RemoveEntry, Key: RemoveEntry,
			Title: fmt.Sprintf("Channel %d of %s", b.Slot, b.Recorder), From: b.SlotText, To: FreeText,
			Why: "The entry is dead: " + b.Dead + ".", Risk: finding.NoRisk, Removes: true, Undo: finding.Undo{Kind: finding.Irreversible, Note: "The old entry's password isn't known here; a new one is placed in Channels."},
			Args: map[string]string{"recorder": fmt.Sprint(b.RecorderID), "channel": fmt.Sprint(b.Slot)}})
	}
	if !open || f.IPConfig == nil {
		return out
	}
	if f.Hidden {
		out = append(out, finding.Change{Kind: SetDiscovery, Key: SetDiscovery, Title: "Discovery", From: HiddenText,
			To: HeardText, Why: "Recorders that listen find it then.", Risk: finding.NoRisk,
			Undo: finding.Undo{Kind: finding.Reversible, Note: "Switch its discovery off again."}})
	}
	if f.DNS != nil && f.Network.Prefix.IsValid() {
		if want, why, other := f.DNS.Want(f.Network); other {
			out = append(out, finding.Change{Kind: SetDNS, Key: SetDNS, Title: "Name servers", From: f.DNS.String(), To: want.String(),
				Why: why, Risk: finding.NoRisk, Undo: finding.Undo{Kind: finding.Reversible, Note: "Write the name servers that it had."}})
		}
	}
	if to := ipConfigFor(f, w); to != nil && *to != *f.IPConfig {
		out = append(out, ChangeIPConfig(*f.IPConfig, *to))
	}
	return out
}

// ChangeIPConfig is the change that gives a device another place on the network.
func ChangeIPConfig(from, to netplan.IPConfig) finding.Change {
	risk := finding.NoRisk
	if to.Address != from.Address || to.Automatic {
		risk = finding.Address
	}
	return finding.Change{Kind: SetIPConfig, Key: SetIPConfig, Title: "Address", From: from.String(), To: to.String(),
		Why: "It belongs into its network, with mask and gateway of it.", Risk: risk,
		Undo: finding.Undo{Kind: finding.Reversible, Note: "Give it the old address again, while this server reaches it."},
		Args: map[string]string{"ip": to.String(), "old_ip": from.String()}}
}

// FreeText is what a cleared channel reads, see channel.Empty.
const FreeText = "free"

// MoveTo is the place that the list gives a device which answers outside every network
// of the site: address want with mask and gateway of its network. nil where it is inside,
// or where another device answers at that address: nothing is moved onto one that is taken.
func MoveTo(f Facts, want netip.Addr, network netplan.Network) *netplan.IPConfig {
	if f.Inside || f.Taken != "" || netplan.Reserved(network.Prefix, want) {
		return nil
	}
	to := network.Settings(want)
	return &to
}

// ipConfigFor is where the device belongs: where the plan moves it, else where it is with
// mask and gateway of its network. nil: it is right, or nobody knows better.
func ipConfigFor(f Facts, w Wishes) *netplan.IPConfig {
	if w.MoveTo != nil {
		return w.MoveTo
	}
	if f.Network.Prefix.IsValid() && len(f.IPConfig.Trouble(f.Network, f.Networks)) > 0 {
		s := f.IPConfig.Mended(f.Network)
		return &s
	}
	return nil
}

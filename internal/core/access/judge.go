package access

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/trouble"
)

// Facts is what the judge of Sign-in knows of one device.
type Facts struct {
	LookedAt     time.Time
	Account      *Account
	Tries        []Try
	AuthFailures []AuthFailure
	Trouble      string // why no try could be made or judged
	NoSets       bool
	NoPassword   bool      // no first password was set: it lets anyone set one
	Rule         *Rule     // of its passwords, where it told one
	Web          *Account  // what opens its page, where ONVIF refuses it
	Basic        bool      // it takes nothing but Basic over HTTP
	LockedTo     time.Time // until when the device takes no sign-in; zero: it isn't locked
	Users        []string  // its ONVIF user names, as "otter (Administrator)"
	Pinned       string    // fingerprint of its certificate that is trusted
	Shown        string    // the one that it shows now
	Factory      bool      // what opens it is a maker's default
	Former       bool      // what opens it was left by whoever used it before
	Open         bool      // RTSP asks for no sign-in
	Doubt        string    // why no account may be sent to it, see identity.Doubt
	NoLonger     string    // the set that opened it before and was refused; empty: none
	NoLongerAt   string    // at what
}

// AuthFailure is a recorder that was refused by the device though its clock is right: it
// holds another password, and tries it again and again.
type AuthFailure struct {
	Recorder   string
	RecorderID int64
	Label      string // of the account that its channel was given
	Channel    int
	Times      int // within Period
	Paused     bool
	At         time.Time
}

// Wishes is what the site asks of accounts.
type Wishes struct {
	AllowBasic bool // for this device
	// Writes is set where something of the device is to be written, which takes an
	// administrator.
	Writes bool
	Name   string // of the account that is made where one is missing
}

// refusals lists when recorders were refused last, once for each wrong try that counts. One that isn't
// paused may be knocking still, however long ago its table was read: it counts as of now.
func (f Facts) refusals(now time.Time) []time.Time {
	var out []time.Time
	for _, k := range f.AuthFailures {
		at := k.At
		if !k.Paused {
			at = now
		}
		for range min(k.Times, Budget) {
			out = append(out, at)
		}
	}
	return out
}

// Left is the budget with what recorders spend of it, see the function Left.
func (f Facts) Left(now time.Time) (int, time.Time) {
	known := int64(0)
	if f.Account != nil {
		known = f.Account.SetID
	}
	return left(now, f.Tries, known, f.refusals(now))
}

// MayTry says whether a set may be sent to the device now, and if not, from when on. What
// opens the device may be where recorders alone spent the budget: they go on knocking whatever
// is done here, and it isn't expected to be wrong.
func (f Facts) MayTry(now time.Time, set int64) (bool, time.Time) {
	rest, until := f.Left(now)
	if rest > 0 {
		return true, time.Time{}
	}
	if f.Account != nil && f.Account.SetID == set {
		if own, _ := left(now, f.Tries, set, nil); own == Budget {
			return true, time.Time{}
		}
	}
	return false, until
}

// LockedNow says until when a device that said so takes no sign-in; zero where it does. alone is the one
// set that a person asks for, who may know better; 0: none.
func (f Facts) LockedNow(now time.Time, alone int64) time.Time {
	if alone != 0 || !f.LockedTo.After(now) {
		return time.Time{}
	}
	return f.LockedTo
}

// spent says in words what the budget went on, once nothing of it is left.
func (f Facts) spent(now time.Time) string {
	if slices.ContainsFunc(f.Tries, func(t Try) bool { return t.Outcome == Pending && t.counts(now) }) {
		return fmt.Sprintf("%d tries that were wrong or had no plain answer", Budget)
	}
	return fmt.Sprintf("%d wrong tries", Budget)
}

// Read says whether what the stage is about is known: what its mark may be ready by.
func (f Facts) Read() bool { return f.Account != nil }

// ValidUntil is when what was judged must be judged again: when tries are left once more,
// or a lock ends. Zero where neither is waited for.
func (f Facts) ValidUntil(now time.Time) time.Time {
	if left, until := f.Left(now); left == 0 {
		return until
	}
	if f.LockedTo.After(now) {
		return f.LockedTo
	}
	return time.Time{}
}

// Level names, by how much they may do.
const (
	Administrator = "Administrator"
	Operator      = "Operator"
	// NoAdministrator is one that may not read the device's accounts, which each administrator
	// may: which of the lesser levels it is, the device doesn't say.
	NoAdministrator = "no Administrator"
)

// levelFor is the least level that does the job: who writes to the system must be an
// administrator (ONVIF Core, 5.9.4.3); events, metadata and PTZ take an operator.
func levelFor(w Wishes) string {
	if w.Writes {
		return Administrator
	}
	return Operator
}

// Kept is the level that an account keeps where its password is written, which writes the level too (ONVIF Core,
// 8.4.6): the one that was read. Nobody is made an administrator for want of knowing.
func Kept(level, name string) (string, error) {
	switch level {
	case Administrator, Operator, "User", "Anonymous":
		return level, nil
	}
	return "", trouble.UserErrorf("Which level %s has isn't told, and its password isn't written without it: give it another on the device's own page.", name)
}

// enough says whether a level does the job; one that the device doesn't tell does.
func enough(level string, w Wishes) bool {
	switch level {
	case "", Administrator:
		return true
	case Operator, NoAdministrator:
		return !w.Writes
	}
	return false
}

// DoubtCode is the finding of a device that gets no account before a person said who it is.
const DoubtCode = "access.doubt"

// Judge says why a device isn't open, or what is wrong with how it is.
func Judge(now time.Time, f Facts, w Wishes) []finding.Finding {
	if f.LookedAt.IsZero() && f.Doubt == "" {
		return nil
	}
	ev := make([]finding.Evidence, 0, len(f.Tries))
	for _, t := range f.Tries {
		ev = append(ev, finding.Evidence{Name: t.Set, Value: string(t.Outcome) + detail(t.Detail), Via: string(t.Scheme), At: t.At})
	}
	var out []finding.Finding
	add := func(code string, sev finding.Severity, words, sentence, way string) {
		out = append(out, finding.Finding{Code: code, Severity: sev, Words: words, Sentence: sentence, WayOut: way, Evidence: ev})
	}
	if f.Pinned != "" && f.Shown != "" && f.Pinned != f.Shown {
		add("access.certificate", finding.Blocks, "certificate",
			fmt.Sprintf("It shows another certificate than the one that was trusted (%s… instead of %s…): nothing is sent to it.", short(f.Shown), short(f.Pinned)),
			"Was it reset, exchanged or updated? Then trust the new certificate; if not, find out who answers there.")
	}
	for _, k := range f.AuthFailures {
		if f.Account != nil && k.Label == Label(f.Account.SetID) {
			continue // it holds the right password: what refuses it is told in Channels
		}
		if k.Paused {
			add("access.held", finding.Needs, "old password",
				fmt.Sprintf("%s holds it paused on channel %d with another account than the one that opens it: resumed, it would knock with a wrong password.", k.Recorder, k.Channel),
				"Give the channel the account that opens the camera, then resume it in Channels.")
			continue
		}
		add("access.knocking", finding.Needs, "knocks",
			fmt.Sprintf("%s knocks with a password that it refuses, %d times within 30 minutes (channel %d): each counts as a wrong try.", k.Recorder, k.Times, k.Channel),
			"Give the channel the account that opens the camera, or pause it.")
	}
	switch {
	case f.Doubt != "":
		add(DoubtCode, finding.Blocks, "in doubt", f.Doubt+" No account is sent to it.", "Settle on Find who it is; then sign in.")
	case f.NoPassword:
		says := "No first password was set: anyone who reaches it can set one."
		if f.Rule != nil {
			says += " Its rule for passwords: " + f.Rule.String() + "."
		}
		add("access.first-password", finding.Needs, "new", says, "Set its first password; one is made by its rule and sealed here.")
	case f.Account != nil:
		judgeAccount(f, w, add)
		judgeSince(now, f, add)
	default:
		judgeClosed(now, f, w, add)
	}
	finding.Sort(out)
	return out
}

type adder func(code string, sev finding.Severity, words, sentence, way string)

// judgeAccount judges how a device is open.
func judgeAccount(f Facts, w Wishes, add adder) {
	a := f.Account
	if a.RTSP == NoAccountAsked {
		add("access.open-stream", finding.Needs, "open stream", "Its streams ask for no account: whoever reaches it can watch.", "Switch RTSP's sign-in on in its own page.")
	} else if a.RTSP != "" && a.RTSP != SameAccount && a.RTSPSet == 0 && a.Scheme != RTSP {
		add("access.rtsp", finding.Needs, "RTSP account", "ONVIF takes "+a.Set+", RTSP doesn't: "+a.RTSP,
			"Add the account that its streams take, or give RTSP the same one on the camera's own page.")
	}
	if f.Factory {
		add("access.factory", finding.Needs, "default",
			"It opens with its maker's default account ("+a.Username+"): everyone knows it.", "Give it a new password.")
	}
	if f.Former {
		add("access.former", finding.Needs, "old account",
			fmt.Sprintf("It still opens with %s (%s): whoever used it before can sign in.", a.Set, a.Username), "Give it a new password.")
	}
	if !enough(a.Level, w) {
		add("access.level", finding.Needs, "level",
			fmt.Sprintf("%s is %s here, and what is to be done takes %s.", a.Username, a.Level, levelFor(w)),
			"Add an account of that level, or raise it on the camera's own page.")
	}
	switch {
	case a.Scheme == Basic && f.Pinned != "":
		add("access.basic-pinned", finding.Note, "Basic",
			fmt.Sprintf("It takes nothing but Basic, and was allowed it: its password travels inside HTTPS, to the certificate that is trusted (%s…).", short(f.Pinned)), "Switch Digest on in its own page.")
	case a.Scheme == Basic:
		add("access.clear", finding.Note, "in clear",
			"Its password travels in clear (Basic over HTTP), as was allowed for it.", "Switch Digest or HTTPS on in its own page.")
	}
}

// judgeSince says why it isn't known any more that what opened a device does.
func judgeSince(now time.Time, f Facts, add adder) {
	switch {
	case f.Pinned != "" && f.Shown != "" && f.Pinned != f.Shown:
	case f.LockedTo.After(now):
		add("access.locked", finding.Blocks, "locked",
			fmt.Sprintf("%s opened it before, and it takes no sign-in until %s UTC, after too many wrong ones.", f.Account.Set, f.LockedTo.UTC().Format("15:04")),
			"Find out who signs in wrongly: a recorder or a program with an old password. Sign in once the time is over.")
	case f.Trouble != "":
		add("access.trouble", finding.Blocks, "no answer",
			fmt.Sprintf("%s opened it before; whether it does still isn't known: %s", f.Account.Set, f.Trouble), "Look whether it still answers on Find, then sign in again.")
	}
}

// judgeClosed says why no account opens a device.
func judgeClosed(now time.Time, f Facts, w Wishes, add adder) {
	rest, until := f.Left(now)
	switch {
	case f.Pinned != "" && f.Shown != "" && f.Pinned != f.Shown:
	case f.Basic && !w.AllowBasic && f.Shown != "":
		add("access.basic", finding.Blocks, "Basic only",
			fmt.Sprintf("It takes nothing but Basic, which gives the password away to whoever answers; over HTTPS it shows the certificate %s…: nobody said that it is its own. None was sent.", short(f.Shown)),
			"Switch Digest on in its own page, or compare the certificate with the one that its page shows, and allow Basic for this device.")
	case f.Basic && !w.AllowBasic:
		add("access.basic", finding.Blocks, "Basic only",
			"It takes nothing but Basic over HTTP, which shows the password to everyone on the wire: none was sent.", "Switch Digest or HTTPS on in its own page, or allow Basic for this device.")
	case f.LockedTo.After(now):
		add("access.locked", finding.Blocks, "locked",
			fmt.Sprintf("It takes no sign-in until %s UTC, after too many wrong ones.",
				f.LockedTo.UTC().Format("15:04")), "Wait; sign in once the time is over, with the right account.")
	case f.Web != nil:
		add("access.onvif-account", finding.Blocks, "no ONVIF",
			fmt.Sprintf("%s opens its web page and ONVIF refuses it: on this make ONVIF accounts are their own, and it has none.", f.Web.Set),
			fmt.Sprintf("Create the ONVIF account %s with the least level that does the job.", f.Web.Username))
	case f.Open:
		add("access.open-stream", finding.Needs, "open stream", "Its streams ask for no account: whoever reaches it can watch, and no set of this site is sent to it.", "Switch RTSP's sign-in on in its own page, then sign in again.")
	case f.NoLonger != "":
		add("access.no-longer", finding.Blocks, "refused",
			fmt.Sprintf("%s opened it before and was refused (%s): its password was changed. It isn't sent again by itself.", f.NoLonger, f.NoLongerAt),
			"Sign in with the other sets, add the account that it has now, or try that set once more.")
	case f.Trouble != "":
		add("access.trouble", finding.Blocks, "no answer", f.Trouble, "Look whether it still answers on Find, then sign in again.")
	case rest == 0:
		add("access.budget", finding.Blocks, "0 tries left",
			fmt.Sprintf("%s within 30 minutes; a third might lock it, so it is left alone until %s UTC.",
				f.spent(now), until.UTC().Format("15:04")),
			"Find out its password and add a set; it is tried once the time is over.")
	case f.NoSets:
		add("access.no-sets", finding.Needs, "no account", "No credential set of this site is left to try on it: one that it refused isn't sent again by itself.",
			"Add the account that this camera was given, or try one of them once more.")
	default:
		add("access.closed", finding.Blocks, "no account",
			fmt.Sprintf("No credential set opened it; %d more wrong tries are allowed now.", rest),
			"Add the account that this camera was given.")
	}
}

// What Account.RTSP says where RTSP takes the account too, and where it asks for none.
const (
	SameAccount    = "same account"
	NoAccountAsked = "asks for no account"
)

// Change kinds this package proposes.
const (
	SetFirst      = "access.first"
	CreateAccount = "access.create"
	Reset         = "device.reset"
	Restart       = "device.restart"
)

// Canonical texts of what those changes read.
const (
	NoPassword = "no first password"
	NoAccount  = "no ONVIF account"
	SetUp      = "set up" // of a device before it is reset or restarted
	AsNew      = "as it left the box"
	Restarted  = "started again"
)

// ResetNow is a change that puts a device back as it left the box, its address aside
// (a soft reset). What goes with it is said beforehand.
func ResetNow() finding.Change {
	return finding.Change{Kind: Reset, Key: Reset, Title: "Factory reset", From: SetUp, To: AsNew,
		Why: "Its accounts, clock, rules and texts go; its address stays.", Risk: finding.Restart, Removes: true,
		Undo: finding.Undo{Kind: finding.Irreversible, Note: "What was set on it is gone; its first password must be set anew."}}
}

// RestartNow is a change that starts a device again; its clock is read a minute later,
// to see whether it kept its time.
func RestartNow() finding.Change {
	return finding.Change{Kind: Restart, Key: Restart, Title: "Restart", From: SetUp, To: Restarted,
		Why: "To see whether it keeps its time over a restart.", Risk: finding.Restart,
		Undo: finding.Undo{Kind: finding.Irreversible,
			Note: "A restart leaves a hole in what is recorded."}, Later: []time.Duration{5 * time.Second}}
}

// AccountText is the canonical text of an account of a level.
func AccountText(name, level string) string {
	if level == "" {
		level = "level not told"
	}
	return name + ", " + level
}

// Propose lists what would open the device or close what stands open.
func Propose(_ time.Time, f Facts, w Wishes) []finding.Change {
	name := w.Name
	switch {
	case f.LookedAt.IsZero(), f.Doubt != "":
	case f.Account != nil && len(f.AuthFailures) > 0 && f.Account.Scheme != RTSP:
		var out []finding.Change
		for _, k := range f.AuthFailures {
			if k.Label == Label(f.Account.SetID) {
				continue // it holds that account: giving it again changes nothing
			}
			why := "It knocks with a password that the camera refuses."
			if k.Paused {
				why = "It is paused, and holds another account than the one that opens the camera."
			}
			out = append(out, finding.Change{Kind: Hold, Key: fmt.Sprintf("%s/%d/%d", Hold, k.RecorderID, k.Channel),
				Title: fmt.Sprintf("Account of channel %d of %s", k.Channel,
					k.Recorder), From: LabelText(k.Label), To: Label(f.Account.SetID),
				Why: why, Risk: finding.NoRisk, Undo: finding.Undo{Kind: finding.Irreversible, Note: "The old account opens nothing."},
				Args: map[string]string{"recorder": fmt.Sprint(k.RecorderID), "channel": fmt.Sprint(k.Channel),
					"set": fmt.Sprint(f.Account.SetID)}})
		}
		return out
	case f.Account == nil && len(f.AuthFailures) > 0:
		var out []finding.Change
		for _, k := range f.AuthFailures {
			out = append(out, finding.Change{Kind: Pause, Key: fmt.Sprintf("%s/%d/%d", Pause, k.RecorderID, k.Channel),
				Title: fmt.Sprintf("Pause channel %d of %s", k.Channel, k.Recorder), From: Signing, To: Paused,
				Why: "Each of its knocks counts as a wrong try; it is resumed in Channels.", Risk: finding.Gap, Undo: finding.Undo{Kind: finding.Reversible, Note: "Let it sign in again."},
				Args: map[string]string{"recorder": fmt.Sprint(k.RecorderID), "channel": fmt.Sprint(k.Channel)}})
		}
		return out
	case f.NoPassword && name != "":
		return []finding.Change{{Kind: SetFirst, Key: SetFirst, Title: "First password", From: NoPassword,
			To:  AccountText(name, Administrator),
			Why: "Its password is made by its rule and sealed here before it is sent.", Risk: finding.NoRisk,
			Undo: finding.Undo{Kind: finding.Irreversible,
				Note: "Only a factory reset takes a first password away."}, Args: map[string]string{"name": name, "level": Administrator},
			Account: AccountText(name, Administrator) + ", with a password made by its rule and sealed here"}}
	case f.Account == nil && f.Web != nil && f.Trouble == "":
		level := levelFor(w)
		return []finding.Change{{Kind: CreateAccount, Key: CreateAccount, Title: "ONVIF account", From: NoAccount,
			To:  AccountText(f.Web.Username, level),
			Why: "Created with the web account, with the least level that does the job.", Risk: finding.NoRisk,
			Undo: finding.Undo{Kind: finding.Irreversible,
				Note: "It is removed on the camera's own page: its level isn't enough to remove itself."},
			Args: map[string]string{"name": f.Web.Username, "level": level, "set": fmt.Sprint(f.Web.SetID)}, Account: AccountText(f.Web.Username, level)}}
	}
	return nil
}

// String words the rule.
func (r Rule) String() string {
	var parts []string
	if r.Length > 0 {
		parts = append(parts, fmt.Sprintf("at least %d characters", r.Length))
	}
	for _, p := range []struct {
		n    int
		what string
	}{{r.Upper, "capital letter"}, {r.Digits, "digit"}, {r.Signs, "sign"}} {
		switch {
		case p.n == 1:
			parts = append(parts, "a "+p.what)
		case p.n > 1:
			parts = append(parts, fmt.Sprintf("%d %ss", p.n, p.what))
		}
	}
	if r.NotName {
		parts = append(parts, "not the user name")
	}
	if len(parts) == 0 {
		return "none told"
	}
	return strings.Join(slices.Clip(parts), ", ")
}

func short(fingerprint string) string { return fingerprint[:min(8, len(fingerprint))] }

func detail(s string) string {
	if s == "" {
		return ""
	}
	return ": " + s
}

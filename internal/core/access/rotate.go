package access

import (
	"fmt"
	"strings"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
)

// Change kinds of a rotation: one camera's are a whole.
const (
	Pause   = "rotate.pause"      // a channel that holds the old password stops to sign in
	Change  = "rotate.password"   // the camera takes the new one
	Hold    = "rotate.hold"       // the channel is given the new one
	Resume  = "rotate.resume"     // and is seen to receive again
	Signing = channel.SigningText // canonical texts of a channel
	Paused  = channel.PausedText
	Receive = "receives"
)

// Dependant is a recorder's channel that signs in to the camera.
type Dependant struct {
	Recorder  int64
	Name      string
	Channel   int
	Receiving bool
	Paused    bool
	Label     string // of the account that it was given, see Label
	ByHand    bool   // nothing but a person can give it another account
}

// Label is what a channel is given with an account, so that it can be read back which
// one it holds; it tells nothing of the password.
func Label(set int64) string { return fmt.Sprintf("set %d", set) }

// LabelText is the canonical text of a channel's label; one that others gave its account
// has none.
func LabelText(label string) string {
	if label == "" {
		return "no label"
	}
	return label
}

// Rotate lists what gives a camera the password of another set: pause what holds the
// old one, change the camera, give the new one to every channel, see each again.
// Everything is taken back when a part fails. from and to are the sets.
func Rotate(from, to Set, deps []Dependant) []finding.Change {
	risk := finding.NoRisk
	if len(deps) > 0 {
		risk = finding.Gap
	}
	deps, byHand := apart(deps)
	why := "The new one is sealed here before it is sent."
	if len(byHand) > 0 {
		why += fmt.Sprintf(" %s gets no picture until the new one is typed in at its own screen: nothing else can give it that.", andAll(byHand))
	}
	var out []finding.Change
	each := func(kind, title, from, to, note string, also map[string]string, take func(Dependant) bool) {
		for _, d := range deps {
			if !take(d) {
				continue
			}
			args := map[string]string{"recorder": fmt.Sprint(d.Recorder), "channel": fmt.Sprint(d.Channel)}
			for k, v := range also {
				args[k] = v
			}
			out = append(out, finding.Change{Kind: kind, Key: fmt.Sprintf("%s/%d/%d", kind, d.Recorder, d.Channel),
				Title: fmt.Sprintf(title, d.Channel, d.Name), From: from, To: to,
				Why: "The camera's password changes.", Risk: risk, Undo: finding.Undo{Kind: finding.Reversible, Note: note}, Args: args})
		}
	}
	runs := func(d Dependant) bool { return !d.Paused }
	sets := map[string]string{"set": fmt.Sprint(to.ID), "old_set": fmt.Sprint(from.ID)}
	guards := map[string]string{finding.Guards: Change}
	each(Pause, "Pause channel %d of %s", Signing, Paused, "Let it sign in again.", guards, runs)
	out = append(out, finding.Change{Kind: Change, Key: Change, Title: "Password of " + to.Username, From: from.Name,
		To: to.Name, Why: why, Risk: risk,
		Undo: finding.Undo{Kind: finding.Reversible, Note: "Put the old password back."}, Args: sets, Account: to.Username + ", with a new password made by its rule and sealed here"})
	for _, d := range deps {
		one := func(x Dependant) bool { return x.Recorder == d.Recorder && x.Channel == d.Channel }
		old := LabelText(d.Label)
		follows := map[string]string{"set": sets["set"], "old_set": sets["old_set"], finding.Follows: Change}
		each(Hold, "Account of channel %d of %s", old, Label(to.ID), "Give it the old account again.", follows, one)
	}
	each(Resume, "Resume channel %d of %s", Paused, Receive, "Pause it again.",
		guards, func(d Dependant) bool { return !d.Paused && d.Receiving })
	each(Resume, "Resume channel %d of %s", Paused, Signing, "Pause it again.",
		guards, func(d Dependant) bool { return !d.Paused && !d.Receiving })
	return out
}

// apart splits those that can be told a new account from those that a person has to, which are named.
func apart(all []Dependant) (told []Dependant, byHand []string) {
	for _, d := range all {
		if d.ByHand {
			byHand = append(byHand, fmt.Sprintf("channel %d of %s", d.Channel, d.Name))
		} else {
			told = append(told, d)
		}
	}
	return told, byHand
}

func andAll(names []string) string {
	text := strings.Join(names, " and ")
	return strings.ToUpper(text[:1]) + text[1:]
}

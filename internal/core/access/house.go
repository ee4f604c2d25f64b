package access

import (
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/core/finding"
)

// Change kinds of accounts beside the one that opens a device.
const (
	MakeAccount = "account.make" // one is made by another account
	TakeAccount = "account.take" // one is taken away by another account
)

// NoSuch is the canonical text of an account that isn't there.
const NoSuch = "no such account"

// User is an account that a device told of.
type User struct{ Name, Level string }

// UserOf reads what AccountText wrote: a name may hold commas.
func UserOf(text string) User {
	name, level := text, ""
	if i := strings.LastIndex(text, ", "); i >= 0 {
		name, level = text[:i], text[i+2:]
	}
	if level == "level not told" {
		level = ""
	}
	return User{name, level}
}

// Housed is what gives a device the site's own account.
type Housed struct {
	Changes []finding.Change
	Stays   string // why the old account stays though it was to go; empty: it goes, or wasn't to
}

// House is what makes a shared set's account on a device that another account opens, has every channel that signs in
// with the old one sign in with it, and where take is set takes the old one away. why says why it can't be; both are
// empty where that set opens it already.
func House(f Facts, w Wishes, house Set, deps []Dependant, take bool) (out Housed, why string) {
	a := f.Account
	switch {
	case house.Device != 0 || house.Factory || house.Former:
		return out, house.Name + " is no account of the site's own"
	case f.Doubt != "":
		return out, "it is in doubt who it is"
	case a == nil:
		return out, "no account opens it yet: sign in first"
	case a.SetID == house.ID:
		return out, ""
	case a.Scheme == RTSP:
		return out, "it speaks RTSP alone, which makes no accounts"
	case a.Level != Administrator:
		return out, fmt.Sprintf("%s is %s here, which makes no accounts", a.Username, levelWords(a.Level))
	case len(f.Users) == 0:
		return out, "it didn't tell its accounts: sign in again"
	case house.Username == a.Username:
		return Housed{Changes: sameName(Set{ID: a.SetID, Name: a.Set, Username: a.Username}, house, deps)}, ""
	}
	for _, u := range f.Users {
		if UserOf(u).Name == house.Username {
			return out, fmt.Sprintf("it has an account %s already: try %s on it first", house.Username, house.Name)
		}
	}
	told, byHand := apart(deps)
	if take {
		out.Stays = stays(f, byHand)
	}
	take = take && out.Stays == ""
	level := levelFor(w)
	if take { // it is the only one left that is known here
		level = Administrator
	}
	args := func(name, level string, set, by int64) map[string]string {
		return map[string]string{"name": name, "level": level, "set": fmt.Sprint(set), "by": fmt.Sprint(by)}
	}
	makes := finding.Change{Kind: MakeAccount, Key: MakeAccount + "/" + house.Username, Title: "Account " + house.Username, From: NoSuch, To: AccountText(house.Username, level),
		Why:  "The site's own account (" + house.Name + "), made by " + a.Username + ", and seen to open it.",
		Risk: finding.NoRisk, Undo: finding.Undo{Kind: finding.Reversible, Note: "It is taken away again."},
		Args: args(house.Username, level, house.ID, a.SetID), Account: AccountText(house.Username, level) + ", with the password of " + house.Name}
	out.Changes = append(out.Changes, makes)
	for _, d := range told {
		if d.Label == Label(house.ID) {
			continue
		}
		c := finding.Change{Kind: Hold, Key: fmt.Sprintf("%s/%d/%d", Hold, d.Recorder, d.Channel), Title: fmt.Sprintf("Account of channel %d of %s", d.Channel, d.Name),
			From: LabelText(d.Label), To: Label(house.ID), Why: "It signs in with the site's own account from then on.", Risk: finding.Gap,
			Undo: finding.Undo{Kind: finding.Reversible, Note: "Give it the old account again."},
			Args: map[string]string{"recorder": fmt.Sprint(d.Recorder), "channel": fmt.Sprint(d.Channel), "set": fmt.Sprint(house.ID), "old_set": fmt.Sprint(a.SetID)}}
		out.Changes = append(out.Changes, c)
		if d.Receiving && !d.Paused {
			out.Changes = append(out.Changes, seenAgain(d))
		}
	}
	if take {
		out.Changes = append(out.Changes, finding.Change{Kind: TakeAccount, Key: TakeAccount + "/" + a.Username, Title: "Account " + a.Username, From: AccountText(a.Username, a.Level), To: NoSuch,
			Why:  "The site's own account opens it by then. Whatever else signs in with " + a.Username + " is refused from then on.",
			Risk: finding.NoRisk, Removes: true, Undo: finding.Undo{Kind: finding.Reversible, Note: "It is made again, with the password that is sealed here."},
			Args: args(a.Username, a.Level, a.SetID, house.ID)})
	}
	return out, ""
}

// stays says why the account that opens a device can't be taken away.
func stays(f Facts, byHand []string) string {
	a := f.Account
	switch {
	case len(byHand) > 0:
		return fmt.Sprintf("its account %s stays: %s holds it, and is given another at its own screen alone", a.Username, strings.Join(byHand, " and "))
	case a.RTSP != "" && a.RTSP != SameAccount && a.RTSP != NoAccountAsked:
		return fmt.Sprintf("its account %s stays: its streams take another account than ONVIF, and who needs it isn't known", a.Username)
	case !slices.ContainsFunc(f.Users, func(u string) bool { return UserOf(u).Name == a.Username }):
		return fmt.Sprintf("its account %s stays: it isn't among those that it told of", a.Username)
	}
	return ""
}

func levelWords(level string) string {
	if level == "" {
		return "of a level that isn't told"
	}
	return level
}

// sameName is what gives an account of the same name the password of a shared set.
func sameName(from, house Set, deps []Dependant) []finding.Change {
	out := Rotate(from, house, deps)
	for i := range out {
		if out[i].Kind == Change {
			out[i].Account = house.Username + ", with the password of " + house.Name
			out[i].Why = strings.Replace(out[i].Why, "The new one is sealed here before it is sent.", "It has an account of that name already, with another password.", 1)
		}
	}
	return out
}

// seenAgain sees a channel receive that was given another account.
func seenAgain(d Dependant) finding.Change {
	return finding.Change{Kind: Resume, Key: fmt.Sprintf("%s/%d/%d", Resume, d.Recorder, d.Channel), Title: fmt.Sprintf("Channel %d of %s", d.Channel, d.Name), From: Signing, To: Receive,
		Why: "It is seen to receive with the site's own account.", Risk: finding.NoRisk, Undo: finding.Undo{Kind: finding.Irreversible, Note: "it is a look: there is nothing to take back."},
		Args: map[string]string{"recorder": fmt.Sprint(d.Recorder), "channel": fmt.Sprint(d.Channel)}}
}

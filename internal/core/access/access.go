// Package access settles which account opens which device: in what order
// credential sets are tried, how many wrong tries a device may see, and what an
// answer means.
package access

import (
	"slices"
	"strings"
	"time"
)

const (
	// Budget is how many wrong tries one device may see within Period: some makes
	// lock at three.
	Budget = 2
	// Period is the time over which wrong tries are counted.
	Period = 30 * time.Minute
)

// Set is a credential set of a site, without its password.
type Set struct {
	ID       int64
	Name     string
	Username string
	Make     string // tried first on this make; empty: any
	Factory  bool   // a maker's default: only when a person allows it
	Former   bool   // left by whoever used the devices before
	Network  int64  // tried first on this network; 0: any
	Device   int64  // made for this device alone; 0: any
}

// Outcome of one try.
type Outcome string

const (
	Pending  Outcome = "pending" // written down, and no answer came that says anything of it (a crash counts as wrong)
	Opened   Outcome = "opened"
	Wrong    Outcome = "wrong"
	Hindered Outcome = "hindered" // it wasn't sent, or wasn't looked at: not asked for, not supported, the clock
	Locked   Outcome = "locked"   // no verdict: the device takes no sign-in for a while
)

// Try is one attempt, written down before it is sent.
type Try struct {
	At      time.Time
	SetID   int64
	Set     string
	Scheme  Scheme
	Outcome Outcome
	Detail  string
}

// Scheme is how a device takes an account.
type Scheme string

const (
	Digest Scheme = "HTTP Digest"
	Token  Scheme = "WS-UsernameToken"
	Basic  Scheme = "HTTP Basic"  // in clear: only where a person says so for the device
	RTSP   Scheme = "RTSP Digest" // of a device that speaks no ONVIF
	Web    Scheme = "web page"    // its own page, which ONVIF may not share accounts with
)

// Left is how many wrong tries the device may still see, and, when none is left,
// until when it must be left alone. Pending tries count: their answer may have been
// wrong; but not those of a set that opened the device, before or since, and wasn't
// wrong after. So do refusals, the last times at which recorders were refused with a
// password that the device doesn't take any more. tries are in the order of time.
func Left(now time.Time, tries []Try, refusals ...time.Time) (int, time.Time) {
	return left(now, tries, 0, refusals)
}

// left is Left, where the set known is known to open the device unless a try says
// otherwise; 0: none is.
func left(now time.Time, tries []Try, known int64, refusals []time.Time) (int, time.Time) {
	right := map[int64]bool{known: known != 0}
	for _, t := range tries {
		switch {
		case t.Scheme == Web || t.SetID == 0:
		case t.Outcome == Opened:
			right[t.SetID] = true
		case t.Outcome == Wrong:
			right[t.SetID] = false
		}
	}
	var counted []time.Time
	for _, t := range tries {
		if t.counts(now) && !(t.Outcome == Pending && right[t.SetID]) {
			counted = append(counted, t.At)
		}
	}
	for _, k := range refusals {
		if now.Sub(k) < Period {
			counted = append(counted, k)
		}
	}
	if rest := Budget - len(counted); rest > 0 {
		return rest, time.Time{}
	}
	slices.SortFunc(counted, func(a, b time.Time) int { return a.Compare(b) })
	return 0, counted[len(counted)-Budget].Add(Period)
}

// Opens says whether a set opened the device when it was tried last and anything was said of it.
// tries are in the order of time.
func Opens(tries []Try, set int64) bool {
	for _, t := range slices.Backward(tries) {
		if t.SetID == set && t.Scheme != Web && (t.Outcome == Opened || t.Outcome == Wrong) {
			return t.Outcome == Opened
		}
	}
	return false
}

// counts says whether the device may hold the try against whoever signs in.
func (t Try) counts(now time.Time) bool {
	return (t.Outcome == Wrong || t.Outcome == Pending) && now.Sub(t.At) < Period
}

// Device is what the order of tries depends on.
type Device struct {
	ID           int64
	Network      int64
	Make         string
	Opened       int64   // the set that opened it before; 0: none
	OpenedByMake []int64 // sets that opened others of its make in this site
	OpenedNear   []int64 // sets that opened others on its network
	Refused      []int64 // sets that it refused at last
}

// Order lists the sets to try: the one that worked on this device, those made for it,
// the one that worked on its make, on its network, those meant for its make or
// network, then the rest by their order, what others left and factory defaults last. Sets that the device refused at last or that were
// wrong within the period are left out, as those that were made for another device, and
// factory defaults unless allowed. tries are in the order of time. alone is the one set that
// a person asks for though it was refused; 0: none.
func Order(now time.Time, d Device, sets []Set, tries []Try, allowFactory bool, alone int64) []Set {
	wrong := map[int64]bool{}
	for _, id := range d.Refused {
		wrong[id] = true
	}
	for _, t := range tries {
		switch {
		case t.Scheme == Web:
		case t.counts(now) && !(t.Outcome == Pending && t.SetID == d.Opened):
			wrong[t.SetID] = true
		case t.Outcome == Opened: // it was given the account since
			delete(wrong, t.SetID)
		}
	}
	rank := func(s Set) int {
		switch {
		case s.ID == d.Opened:
			return 0
		case s.Device != 0:
			return 1
		case slices.Contains(d.OpenedByMake, s.ID):
			return 2
		case slices.Contains(d.OpenedNear, s.ID):
			return 3
		case s.Make != "" && strings.EqualFold(s.Make, d.Make):
			return 4
		case s.Network != 0 && s.Network == d.Network:
			return 5
		case s.Make == "" && s.Network == 0 && !s.Factory && !s.Former:
			return 6
		}
		return 7
	}
	var out []Set
	for _, s := range sets {
		if alone != 0 && s.ID != alone || s.Factory && !allowFactory && alone == 0 {
			continue
		}
		if (alone != 0 || !wrong[s.ID]) && (s.Device == 0 || s.Device == d.ID) {
			out = append(out, s)
		}
	}
	slices.SortStableFunc(out, func(a, b Set) int {
		if ra, rb := rank(a), rank(b); ra != rb || ra != 1 {
			return ra - rb
		}
		return int(b.ID - a.ID) // its own newest first
	})
	return out
}

// Account is what opened a device.
type Account struct {
	At       time.Time     `json:"at"`
	SetID    int64         `json:"set_id"`
	Set      string        `json:"set"`
	Username string        `json:"username"`
	Scheme   Scheme        `json:"scheme"`
	Takes    []Scheme      `json:"takes,omitempty"`    // all that it says or showed it takes, Scheme among them
	Level    string        `json:"level"`              // "Administrator", "Operator", "User"; empty: not said
	RTSP     string        `json:"rtsp"`               // "same account", which other, or why not
	RTSPSet  int64         `json:"rtsp_set,omitempty"` // the other set that RTSP takes; 0: none
	Offset   time.Duration `json:"offset"`             // device's own time that the token carried − server time
	Own      bool          `json:"own_time"`
	Stills   string        `json:"stills,omitempty"` // when its stills refused the account; empty: they didn't
	Passed   []int64       `json:"passed,omitempty"` // of an account of its page alone: sets that weren't tried any more, since that opened
}

// NotPassed is order without the sets that were passed over when a device's page opened: what is
// missing there is an ONVIF account, and reading again isn't a reason to guess. Sets that were added
// since are tried.
func (a Account) NotPassed(order []int64) []int64 {
	return slices.DeleteFunc(slices.Clone(order), func(id int64) bool { return slices.Contains(a.Passed, id) })
}

// Still is what is known of an account of a device's page once that was asked for again: with the new
// moment where the page took it, as it was where it couldn't be asked, nil where it was refused.
func (a Account) Still(opens, asked bool, now time.Time) *Account {
	switch {
	case opens:
		a.At = now
	case asked:
		return nil
	}
	return &a
}

// Others names the schemes of all but one, with commas.
func Others(all []Scheme, but Scheme) string {
	var out []string
	for _, s := range all {
		if s != but {
			out = append(out, string(s))
		}
	}
	return strings.Join(out, ", ")
}

// Refusing says since when its streams, or its stills, refuse the account that opens it over
// ONVIF; empty where they don't, or weren't asked. Neither is asked again by itself.
func (a Account) Refusing(scheme Scheme) string {
	switch {
	case scheme == Web:
		return a.Stills
	case scheme == RTSP && a.Scheme != RTSP && a.RTSPSet == 0 && a.RTSP != SameAccount && a.RTSP != NoAccountAsked:
		return a.RTSP
	}
	return ""
}

// Overtakes says whether what a set opened before doesn't count any more: another set opens the same user
// name now, and a user has one password. No account overtakes nothing.
func (a *Account) Overtakes(set Set) bool {
	return a != nil && a.SetID != set.ID && a.RTSPSet != set.ID && a.Username == set.Username
}

// ForRTSP is the set that the device's streams take: another than the one that opens it
// over ONVIF, where signing in found one.
func (a Account) ForRTSP() int64 {
	if a.RTSPSet != 0 {
		return a.RTSPSet
	}
	return a.SetID
}

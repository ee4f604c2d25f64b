// Package access settles which account opens which device: in what order
// credential sets are tried, how many wrong tries a device may see, and what an
// answer means.
package access

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
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
}

// Outcome of one try.
type Outcome string

const (
	Pending  Outcome = "pending" // written down, answer not known (a crash counts as wrong)
	Opened   Outcome = "opened"
	Wrong    Outcome = "wrong"
	Hindered Outcome = "hindered" // no verdict on the password: unreachable, malformed, not supported
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
)

// Left is how many wrong tries the device may still see, and, when none is left,
// until when it must be left alone. Pending tries count: their answer may have
// been wrong.
func Left(now time.Time, tries []Try) (int, time.Time) {
	var counted []time.Time
	for _, t := range tries {
		if (t.Outcome == Wrong || t.Outcome == Pending) && now.Sub(t.At) < Period {
			counted = append(counted, t.At)
		}
	}
	left := Budget - len(counted)
	if left > 0 {
		return left, time.Time{}
	}
	slices.SortFunc(counted, func(a, b time.Time) int { return a.Compare(b) })
	return 0, counted[len(counted)-Budget].Add(Period)
}

// Device is what the order of tries depends on.
type Device struct {
	Make         string
	Opened       int64   // the set that opened it before; 0: none
	OpenedByMake []int64 // sets that opened others of its make in this site
	OpenedNear   []int64 // sets that opened others on its network
}

// Order lists the sets to try: the one that worked on this device, on its make,
// on its network, those meant for its make, then the rest by their order. Sets
// that were wrong within the period are left out, factory defaults unless allowed.
func Order(now time.Time, d Device, sets []Set, tries []Try, allowFactory bool) []Set {
	wrong := map[int64]bool{}
	for _, t := range tries {
		if (t.Outcome == Wrong || t.Outcome == Pending) && now.Sub(t.At) < Period {
			wrong[t.SetID] = true
		}
	}
	rank := func(s Set) int {
		switch {
		case s.ID == d.Opened:
			return 0
		case slices.Contains(d.OpenedByMake, s.ID):
			return 1
		case slices.Contains(d.OpenedNear, s.ID):
			return 2
		case s.Make != "" && strings.EqualFold(s.Make, d.Make):
			return 3
		case s.Make == "":
			return 4
		}
		return 5
	}
	var out []Set
	for _, s := range sets {
		if !wrong[s.ID] && (!s.Factory || allowFactory) {
			out = append(out, s)
		}
	}
	slices.SortStableFunc(out, func(a, b Set) int { return rank(a) - rank(b) })
	return out
}

// Account is what opened a device.
type Account struct {
	At       time.Time     `json:"at"`
	SetID    int64         `json:"set_id"`
	Set      string        `json:"set"`
	Username string        `json:"username"`
	Scheme   Scheme        `json:"scheme"`
	Level    string        `json:"level"`  // "Administrator", "Operator", "User"; empty: not said
	RTSP     string        `json:"rtsp"`   // "same account", or why not
	Offset   time.Duration `json:"offset"` // device's own time that the token carried − server time
	Own      bool          `json:"own_time"`
}

// Facts is what the judge of Sign-in knows of one device.
type Facts struct {
	LookedAt time.Time
	Account  *Account
	Tries    []Try
	Trouble  string // why no try could be made or judged
	NoSets   bool
}

// Judge says why a device isn't open, or what is wrong with how it is.
func Judge(now time.Time, f Facts, _ struct{}) []finding.Finding {
	if f.LookedAt.IsZero() {
		return nil
	}
	left, until := Left(now, f.Tries)
	ev := make([]finding.Evidence, 0, len(f.Tries))
	for _, t := range f.Tries {
		ev = append(ev, finding.Evidence{Name: t.Set, Value: string(t.Outcome) + detail(t.Detail), Via: string(t.Scheme), At: t.At})
	}
	switch {
	case f.Account != nil:
		if f.Account.RTSP != "" && f.Account.RTSP != "same account" {
			return []finding.Finding{{Code: "access.rtsp", Severity: finding.Needs, Words: "RTSP account",
				Sentence: "ONVIF takes " + f.Account.Set + ", RTSP doesn't: " + f.Account.RTSP, WayOut: "Give RTSP the same account on the camera's own page.", Evidence: ev}}
		}
		return nil
	case f.Trouble != "":
		return []finding.Finding{{Code: "access.trouble", Severity: finding.Blocks, Words: "no answer",
			Sentence: f.Trouble, WayOut: "Look whether it still answers on Find, then sign in again.", Evidence: ev}}
	case left == 0:
		return []finding.Finding{{Code: "access.budget", Severity: finding.Blocks, Words: "0 tries left",
			Sentence: fmt.Sprintf("%d wrong tries within 30 minutes; a third might lock it, so it is left alone until %s UTC.", Budget, until.UTC().Format("15:04")),
			WayOut:   "Find out its password and add a set; it is tried once the time is over.", Evidence: ev}}
	case f.NoSets:
		return []finding.Finding{{Code: "access.no-sets", Severity: finding.Needs, Words: "no account",
			Sentence: "No credential set of this site is left to try on it.", WayOut: "Add the account that this camera was given.", Evidence: ev}}
	}
	return []finding.Finding{{Code: "access.closed", Severity: finding.Blocks, Words: "no account",
		Sentence: fmt.Sprintf("No credential set opened it; %d more wrong tries are allowed now.", left),
		WayOut:   "Add the account that this camera was given.", Evidence: ev}}
}

func detail(s string) string {
	if s == "" {
		return ""
	}
	return ": " + s
}

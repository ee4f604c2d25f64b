// Package filter reads the words of the filter box: what a person asks of the
// sources of a site. It knows no database; a store turns it into a query.
package filter

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"duskyharbor/internal/core/stage"
)

// maxLength is the longest text that is read, in bytes; maxWords the most words.
const (
	maxLength = 200
	maxWords  = 12
)

// Filter is what sources must hold to be shown. The zero Filter takes all.
type Filter struct {
	Words    []string      // each is found in place, make, model, address, serial or MAC
	Make     string        // the make begins with it
	Recorder string        // the planned recorder's name begins with it
	Net      string        // the network's name or the address begins with it
	Prefix   netip.Prefix  // the address is in it; the zero Prefix: not asked
	Stage    stage.Stage   // 0: any
	States   []stage.State // one of these, in Stage where given; nil: not asked
	// Unknown lists what was asked and means nothing ("stage:clok"): nothing matches
	// it, and the page says so.
	Unknown []string
}

var states = []stage.State{stage.Ready, stage.Needs, stage.Blocked, stage.NotYet, stage.Working, stage.NotHere, stage.Stale}

// Parse reads words and make:, net:, recorder:, stage:, state: in any order; a value
// in double quotes may hold spaces. Case doesn't matter. net: takes a prefix too. What can't
// be kept is refused (Unknown), never dropped: a key that stands twice, more words than
// maxWords, text beyond maxLength.
func Parse(text string) Filter {
	var f Filter
	if len(text) > maxLength {
		text = strings.ToValidUTF8(text[:maxLength], "")
		f.Unknown = append(f.Unknown, fmt.Sprintf("what stands beyond %d characters", maxLength))
	}
	met := map[string]bool{}
	for _, w := range split(strings.ToLower(text)) {
		key, value, keyed := strings.Cut(w, ":")
		value = strings.Trim(value, `"`)
		switch {
		case keyed && value == "" && slices.Contains([]string{"make", "net", "recorder", "stage", "state"}, key):
			continue // still being typed
		case keyed && met[key]:
			f.Unknown = append(f.Unknown, key+": a second time")
		case keyed && key == "make":
			f.Make = value
		case keyed && key == "recorder":
			f.Recorder = value
		case keyed && key == "net" && strings.Contains(value, "/"):
			p, err := netip.ParsePrefix(value)
			if err != nil {
				f.Unknown = append(f.Unknown, w)
			}
			f.Prefix = p.Masked()
		case keyed && key == "net":
			f.Net = value
		case keyed && key == "stage":
			st, ok := stageOf(value)
			if !ok {
				f.Unknown = append(f.Unknown, w)
			}
			f.Stage = st
		case keyed && key == "state":
			f.States = statesOf(value)
			if len(f.States) == 0 {
				f.Unknown = append(f.Unknown, w)
			}
		default:
			if len(f.Words) == maxWords {
				f.Unknown = append(f.Unknown, fmt.Sprintf("words beyond the first %d", maxWords))
			} else if len(f.Words) < maxWords {
				f.Words = append(f.Words, strings.Trim(w, `"`))
			}
			continue
		}
		met[key] = true
	}
	f.Unknown = slices.Compact(f.Unknown)
	return f
}

// Empty says whether the filter takes everything.
func (f Filter) Empty() bool {
	return len(f.Words) == 0 && f.Make == "" && f.Recorder == "" && f.Net == "" && !f.Prefix.IsValid() && f.Stage == 0 && f.States == nil && len(f.Unknown) == 0
}

func stageOf(value string) (stage.Stage, bool) {
	for _, s := range stage.All() {
		if s.Slug() == value || strings.ReplaceAll(s.Slug(), "-", "") == value {
			return s, true
		}
	}
	return 0, false
}

// statesOf lists the states whose name or label, without spaces, begins with value.
func statesOf(value string) []stage.State {
	value = strings.NewReplacer(" ", "", "-", "", "'", "").Replace(value)
	var out []stage.State
	for _, s := range states {
		label := strings.NewReplacer(" ", "", "'", "").Replace(s.Label())
		if value != "" && (strings.HasPrefix(string(s), value) || strings.HasPrefix(label, value)) {
			out = append(out, s)
		}
	}
	return out
}

// split cuts at spaces that aren't within double quotes.
func split(s string) []string {
	var out []string
	var b strings.Builder
	quoted := false
	for _, r := range s {
		switch {
		case r == '"':
			quoted = !quoted
			b.WriteRune(r)
		case (r == ' ' || r == '\t' || r == '\n' || r == '\r') && !quoted:
			if b.Len() > 0 {
				out = append(out, b.String())
				b.Reset()
			}
		default:
			b.WriteRune(r)
		}
	}
	if b.Len() > 0 {
		out = append(out, b.String())
	}
	return out
}

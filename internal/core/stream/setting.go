package stream

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
)

// Setting is a named setting that was chosen for a view.
type Setting struct {
	ID   int64
	Name string
	Want Want
}

// judgeSettings compares what was chosen with what the encoders are set to.
func judgeSettings(f Facts, w Wishes) (out []finding.Finding) {
	for _, s := range w.Settings {
		changes, cant := s.Changes(f, w)
		for _, why := range cant {
			out = append(out, finding.Finding{Code: "stream.setting-cant", Severity: finding.Needs, Words: "can't be set",
				Sentence: fmt.Sprintf("%q was chosen for it and can't be: %s.", s.Name, why),
				WayOut:   "Choose another setting for it, or none."})
		}
		for _, c := range changes {
			out = append(out, finding.Finding{Code: "stream.drift", Severity: finding.Needs, Words: "not as set",
				Sentence: fmt.Sprintf("%s isn't set as %q says: it is %s, and is to be %s.",
					strings.TrimSuffix(c.Title, "'s encoder"), s.Name, c.From, c.To),
				WayOut: "Set its encoder as is proposed, or choose another setting for it."})
		}
	}
	return out
}

// Changes are what would set the view so, and why it can't be; what its recorder can't take isn't asked for.
func (s Setting) Changes(f Facts, w Wishes) ([]finding.Change, []string) {
	want := s.Want.Codecs
	taken := func(codec string) bool { return slices.Contains(w.Codecs, codec) }
	if s.Want.Of == Record && len(w.Codecs) > 0 && len(want) > 0 && !slices.ContainsFunc(want, taken) {
		return nil, []string{w.Recorder + " takes " + prettyAll(w.Codecs)}
	}
	changes, cant := Asked(f, w, s.Want)
	for i := range changes {
		changes[i].Why = fmt.Sprintf("%q was chosen for it.", s.Name)
	}
	return changes, cant
}

// Took is what an encoder made of a setting that it took and didn't keep.
type Took struct {
	Encoder string    `json:"encoder"`
	Name    string    `json:"name"` // what was to be set: "Main's encoder"
	Asked   string    `json:"asked"`
	Reads   string    `json:"reads"`
	At      time.Time `json:"at"`
}

// judgeTook tells which settings a device took, and then read otherwise.
func judgeTook(f Facts) (out []finding.Finding) {
	for _, t := range f.Took {
		i := slices.IndexFunc(f.Profiles, func(p Profile) bool { return p.Encoder == t.Encoder })
		if i < 0 {
			continue
		}
		out = append(out, finding.Finding{Code: "stream.took-otherwise", Severity: finding.Note, Words: "takes otherwise",
			Sentence: fmt.Sprintf("%s said yes to %s, and then read %s: what it offers isn't what it does.", t.Name, t.Asked, t.Reads),
			WayOut:   "It was put back. Ask for what it reads, or for something else.",
			Evidence: []finding.Evidence{{Name: t.Name, Value: t.Reads, Via: "read after it was set", At: t.At}}})
	}
	return out
}

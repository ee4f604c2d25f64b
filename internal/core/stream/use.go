package stream

import (
	"fmt"
	"slices"

	"duskyharbor/internal/core/finding"
)

// Uses are which of a view's profiles a person wants recorded, and which looked at, by their tokens; where one is
// empty the rule picks (see Roles).
type Uses struct {
	Record string `json:"record,omitempty"`
	View   string `json:"view,omitempty"`
}

// Of is the token that a person chose for a role.
func (u Uses) Of(role Role) string {
	if role == View {
		return u.View
	}
	return u.Record
}

// Mark is the profiles with each one's use as a person wants it; the ones given stay as they are.
func (u Uses) Mark(profiles []Profile) []Profile {
	if u == (Uses{}) {
		return profiles
	}
	profiles = slices.Clone(profiles)
	for i := range profiles {
		switch profiles[i].Token {
		case u.Record:
			profiles[i].Use = Record
		case u.View:
			profiles[i].Use = View
		}
	}
	return profiles
}

// ByRule is what a person says for a role that the rule is to pick again.
const ByRule = "by rule"

// Choose is the uses once a person chose for each role a profile by its token or its name, or ByRule; empty: it
// stays. why says what can't be: no such profile, two of that name, or one for both roles.
func (u Uses) Choose(profiles []Profile, record, view string) (out Uses, why string) {
	out = u
	for _, x := range []struct {
		chosen string
		to     *string
	}{{record, &out.Record}, {view, &out.View}} {
		switch x.chosen {
		case "":
		case ByRule:
			*x.to = ""
		default:
			token, why := named(profiles, x.chosen)
			if why != "" {
				return u, why
			}
			*x.to = token
		}
	}
	if out.Record != "" && out.Record == out.View {
		return u, "the stream that is looked at is another one than the stream that is recorded"
	}
	return out, ""
}

// named is the token of the profile that a person calls so.
func named(profiles []Profile, called string) (token, why string) {
	for _, p := range profiles {
		if p.Token == called {
			return p.Token, ""
		}
	}
	for _, p := range profiles {
		if p.Name != called {
			continue
		}
		if token != "" {
			return "", fmt.Sprintf("it has two streams called %q", called)
		}
		token = p.Token
	}
	if token == "" {
		return "", fmt.Sprintf("it has no stream called %q", called)
	}
	return token, ""
}

// judgeUses says which stream that a person chose can't be had for what it was chosen for.
func judgeUses(f Facts, w Wishes) (out []finding.Finding) {
	for _, role := range []Role{Record, View} {
		token := w.Uses.Of(role)
		if token == "" {
			continue
		}
		to := map[Role]string{Record: "recorded", View: "looked at"}[role]
		p, _, there := f.Find(token)
		why := ""
		switch {
		case !there:
			why = "The stream that was chosen to be " + to + " isn't there any more."
		case p.Trouble != "":
			why = fmt.Sprintf("%s was chosen to be %s, and the camera doesn't say where it is had.", p.Name, to)
		case len(w.Codecs) > 0 && !slices.Contains(w.Codecs, p.Codec):
			why = fmt.Sprintf("%s was chosen to be %s and sends %s; %s takes %s.", p.Name, to, Pretty(p.Codec), w.Recorder, prettyAll(w.Codecs))
		default:
			continue
		}
		out = append(out, finding.Finding{Code: "stream.use", Severity: finding.Needs, Words: "other stream",
			Sentence: why + " Another is taken.", WayOut: "Choose another stream for it, or let the rule pick."})
	}
	return out
}

package rule

import "slices"

// Set is rules that a site keeps by a name.
type Set struct {
	ID    int64
	Name  string
	Rules []Rule
}

// SetStanding is how the rules of a set stand at a view, by their names: each is in one of the lists.
type SetStanding struct {
	Same      []string // the camera has it as in the set
	Otherwise []string // the camera, or the drawing where the camera hasn't it, has it otherwise
	Drawn     []string // drawn as in the set, and the camera hasn't it
	Missing   []string
}

// Compare holds what a view has against a set.
func (s Set) Compare(f Facts, drawn []Drawn) (out SetStanding) {
	for _, r := range s.Rules {
		at := f.find(r.Name)
		on := slices.IndexFunc(drawn, func(d Drawn) bool { return d.Name == r.Name })
		switch {
		case at >= 0:
			if is, told := f.Configs[at].Says(); told && Same(is, r) {
				out.Same = append(out.Same, r.Name)
			} else {
				out.Otherwise = append(out.Otherwise, r.Name)
			}
		case on >= 0 && !drawn[on].Off && Same(drawn[on].Rule, r):
			out.Drawn = append(out.Drawn, r.Name)
		case on >= 0:
			out.Otherwise = append(out.Otherwise, r.Name)
		default:
			out.Missing = append(out.Missing, r.Name)
		}
	}
	return out
}

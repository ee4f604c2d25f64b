package identity

import "strings"

// Least is the least firmware that a site asks of a make and model.
type Least struct {
	Make  string
	Model string // empty: all models of the make
	Least string
}

// LeastFor is the firmware that is asked of a device: of its model before its make.
// Empty where nothing is asked. Makes and models are compared without case.
func LeastFor(all []Least, maker, model string) string {
	found := ""
	for _, l := range all {
		switch {
		case !strings.EqualFold(l.Make, maker):
		case strings.EqualFold(l.Model, model):
			return l.Least
		case l.Model == "":
			found = l.Least
		}
	}
	return found
}

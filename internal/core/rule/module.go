package rule

import (
	"fmt"
	"strconv"

	"duskyharbor/internal/core/finding"
)

// SetModule is the kind of change that sets how much must change in a picture for its cells to count as moving.
const SetModule = "analytics.module"

// sensitivity is the parameter of a module that sees motion by cells (ONVIF Analytics, Annex B.2), 0 to 100: the more, the less must
// change.
const sensitivity = "Sensitivity"

// MotionOf is the module that sees motion by cells and has a sensitivity, and how much; ok is false where none has.
func MotionOf(all []Module) (m Module, value int, ok bool) {
	for _, m := range all {
		v, err := strconv.Atoi(m.Values[sensitivity])
		if m.Grid.Valid() && err == nil && v >= 0 && v <= 100 {
			return m, v, true
		}
	}
	return Module{}, 0, false
}

// SetSensitivity is the change that has a module see motion by so much, 0 to 100; nil where it does, ErrRule where it can't be.
func SetSensitivity(token string, all []Module, to int) (*finding.Change, error) {
	m, is, ok := MotionOf(all)
	switch {
	case to < 0 || to > 100:
		return nil, fmt.Errorf("%w: a sensitivity is 0 to 100", ErrRule)
	case !ok || token == "":
		return nil, fmt.Errorf("%w: it tells of no sensitivity to motion", ErrRule)
	case is == to:
		return nil, nil
	}
	return &finding.Change{Kind: SetModule, Key: "module/" + token + "/" + m.Name, Title: "Sensitivity to motion", From: strconv.Itoa(is), To: strconv.Itoa(to),
		Why: "It was asked for: its rules of motion in cells fire on " + map[bool]string{true: "less", false: "more"}[to > is] + " change in the picture.", Risk: finding.NoRisk,
		Args: map[string]string{"token": token, "module": m.Name, "parameter": sensitivity},
		Undo: finding.Undo{Kind: finding.Reversible, Note: "have it as it was."}}, nil
}

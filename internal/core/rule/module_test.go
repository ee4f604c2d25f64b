package rule

import (
	"errors"
	"testing"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/scene"
)

func TestSensitivityToMotion(t *testing.T) {
	grid := scene.Grid{Columns: 22, Rows: 18}
	motion := func(v string) []Module {
		return []Module{{Name: "Objects", Values: map[string]string{"Sensitivity": "9"}}, {Name: "Motion", Grid: grid, Values: map[string]string{"Sensitivity": v}}}
	}
	for name, x := range map[string]struct {
		has  []Module
		to   int
		from string // of the change; empty: none
		bad  bool
	}{
		"more":            {motion("60"), 61, "60", false},
		"less":            {motion("60"), 0, "60", false},
		"all":             {motion("0"), 100, "0", false},
		"as it is":        {motion("60"), 60, "", false},
		"below":           {motion("60"), -1, "", true},
		"beyond":          {motion("60"), 101, "", true},
		"no modules":      {nil, 50, "", true},
		"no cells":        {motion("60")[:1], 50, "", true},
		"not told":        {[]Module{{Name: "Motion", Grid: grid}}, 50, "", true},
		"no number":       {motion("high"), 50, "", true},
		"beyond as it is": {motion("400"), 50, "", true},
	} {
		c, err := SetSensitivity("vac0", x.has, x.to)
		if x.bad != errors.Is(err, ErrRule) || (c != nil) != (x.from != "") {
			t.Errorf("%s: %+v %v", name, c, err)
		}
		if c != nil && (c.From != x.from || c.Risk != finding.NoRisk || c.Args["module"] != "Motion") {
			t.Errorf("%s: %+v", name, c)
		}
	}
	if _, err := SetSensitivity("", motion("60"), 50); !errors.Is(err, ErrRule) {
		t.Error("without a configuration it is set")
	}
}

package camera_test

import (
	"reflect"
	"slices"
	"testing"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/camera"
)

// Rules of each type that the camera knows are written in its own parameters, read back, changed and taken away; what it
// doesn't know is refused, and a rule of the make's own is told as it is.
func TestRulesAreWrittenAndReadBack(t *testing.T) {
	t.Parallel()
	s := newStudio(t, func(c *camera.Config) {
		c.Manners.OwnRule = `<tan:Rule xmlns:own="urn:own" Name="Rack watch" Type="own:RackWatch"><tt:Parameters><tt:SimpleItem Name="Racks" Value="3"/><tt:ElementItem Name="Depths"><own:Depths near="2"/></tt:ElementItem></tt:Parameters></tan:Rule>`
	})
	can, err := s.cl.SupportedRules(t.Context(), s.services, "vac0")
	if err != nil || can.Most != 8 || len(can.Types) != 3 {
		t.Fatalf("it knows %+v: %v", can, err)
	}
	stays := can.Types[2]
	if !reflect.DeepEqual(stays, rule.Type{Name: "LoiteringDetector", Values: map[string]string{"TimeThreshold": "duration", "ClassFilter": "StringList"},
		Shapes: map[string]string{"Field": "Polygon"}, Fewest: 3, Points: 16, Classes: []string{"Human", "Vehicle"}}) {
		t.Errorf("of stays it tells %+v", stays)
	}
	area := []scene.Point{{X: -0.5, Y: -0.25}, {X: 0.5, Y: -0.25}, {X: 0.12345, Y: 0.98765}}
	for _, r := range []rule.Rule{
		{Name: "A <line> & \"more\"", Kind: rule.Crosses, Line: area, Direction: rule.LeftToRight, Classes: []string{"Human"}},
		{Name: "Area", Kind: rule.Inside, Area: area},
		{Name: "Stay", Kind: rule.Stays, Area: area, For: 8 * time.Second, Classes: []string{"Vehicle", "Human"}},
	} {
		c, cant := can.Write(r)
		if len(cant) > 0 {
			t.Fatalf("%s: %+v", r.Name, cant)
		}
		if err := s.cl.CreateRule(t.Context(), s.services, "vac0", c); err != nil {
			t.Fatalf("%s: %v", r.Name, err)
		}
		if err := s.cl.CreateRule(t.Context(), s.services, "vac0", c); err == nil {
			t.Errorf("%s is made twice", r.Name)
		}
		read := func() (rule.Rule, bool) {
			all, err := s.cl.RuleSet(t.Context(), s.services, "vac0")
			if err != nil {
				t.Fatal(err)
			}
			i := slices.IndexFunc(all, func(x rule.Config) bool { return x.Name == r.Name })
			if i < 0 {
				return rule.Rule{}, false
			}
			return all[i].Says()
		}
		if got, ok := read(); !ok || !rule.Same(got, r) {
			t.Errorf("%s reads %+v", r.Name, got)
		}
		if r.Kind == rule.Crosses {
			r.Direction = rule.RightToLeft
		} else {
			r.Area = []scene.Point{{X: -1, Y: -1}, {X: 1, Y: -1}, {X: 1, Y: 1}, {X: -1, Y: 1}}
		}
		c, _ = can.Write(r)
		if err := s.cl.ModifyRule(t.Context(), s.services, "vac0", c); err != nil {
			t.Errorf("%s isn't changed: %v", r.Name, err)
		}
		if got, ok := read(); !ok || !rule.Same(got, r) {
			t.Errorf("%s, changed, reads %+v", r.Name, got)
		}
		if err := s.cl.DeleteRule(t.Context(), s.services, "vac0", r.Name); err != nil {
			t.Errorf("%s stays: %v", r.Name, err)
		}
		if got, ok := read(); ok {
			t.Errorf("%+v is there yet", got)
		}
	}
	all, err := s.cl.RuleSet(t.Context(), s.services, "vac0")
	if err != nil {
		t.Fatal(err)
	}
	own := all[len(all)-1]
	if _, ok := own.Says(); ok || !own.Maker || own.Type != "RackWatch" || own.Values["Racks"] != "3" || !slices.Equal(own.Others, []string{"Depths"}) {
		t.Errorf("the make's own rule is %+v", own)
	}
	for says, bad := range map[string]rule.Config{
		"an unknown class":      {Name: "x", Type: "FieldDetector", Values: map[string]string{"ClassFilter": "Boat"}, Shapes: map[string]rule.Shape{"Field": {Closed: true, Points: area}}},
		"an unknown parameter":  {Name: "x", Type: "FieldDetector", Values: map[string]string{"Armed": "1"}, Shapes: map[string]rule.Shape{"Field": {Closed: true, Points: area}}},
		"too many points":       {Name: "x", Type: "FieldDetector", Shapes: map[string]rule.Shape{"Field": {Closed: true, Points: slices.Repeat(area, 6)}}},
		"an unknown type":       {Name: "x", Type: "TamperDetector", Shapes: map[string]rule.Shape{"Field": {Closed: true, Points: area}}},
		"a rule that isn't one": {Name: "x", Type: "LineDetector"},
	} {
		if err := s.cl.CreateRule(t.Context(), s.services, "vac0", bad); err == nil {
			t.Errorf("%s is taken", says)
		}
	}
	plain := newStudio(t, func(c *camera.Config) { c.Manners.PlainRules = true })
	if can, err := plain.cl.SupportedRules(t.Context(), plain.services, "vac0"); err != nil || len(can.Types) != 2 || len(can.Types[0].Classes) != 0 {
		t.Errorf("a plain one knows %+v: %v", can, err)
	}
}

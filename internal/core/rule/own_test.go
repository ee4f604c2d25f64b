package rule

import (
	"slices"
	"testing"
	"time"
)

// What a make's own type watches for is told by its name where that says one thing; else it is nobody's guess.
func TestWhatATypesNameSays(t *testing.T) {
	for name, want := range map[string]Kind{"EnterZone": ComesInto, "enter_zone": ComesInto, "ZONE_ENTERING": ComesInto, "RegionExit": GoesOut, "LeaveArea": GoesOut, "AreaLeaving": GoesOut,
		"ObjectAppearing": FirstSeen, "ObjectDisappears": LastSeen, "AbandonedObject": Left, "ObjectLeftBehind": Left, "ObjectRemoved": Taken, "MissingObject": Taken, "CrowdDetector": Crowd,
		"PeopleGathering": Crowd, "Speeding": Faster, "LineCrossing": Crosses, "Tripwire": Crosses, "IntrusionDetection": Inside, "Loitering": Stays, "DwellTime": Stays,
		"": "", "RackWatch": "", "FieldDetector": "", "EnterExit": "", "Centered": "", "TurnLeft": "", "Disappearance": "", "Takeaway": "", "123": "", "ABANDONED": Left, "PTZEntry": ComesInto} {
		if got := ownKind(name); got != want {
			t.Errorf("%q says %q, want %q", name, got, want)
		}
	}
}

// Every kind that a make has a type of its own for is written to it, and comes back.
func TestRulesInAMakesOwnTypes(t *testing.T) {
	const urn = "urn:skerryvane:rules"
	of := func(name string, params map[string]string) Type {
		return Type{Name: name, Maker: true, Space: urn, Values: params, Shapes: map[string]string{"Region": "Polygon"}}
	}
	lasts := map[string]string{"Duration": "integer"}
	can := Supported{Types: []Type{knows.Types[1], of("EnterZone", nil), of("ExitZone", nil), of("Appearing", nil), of("Disappearing", nil), of("AbandonedObject", lasts), of("RemovedObject", lasts),
		of("Crowding", map[string]string{"MinObjects": "integer", "Duration": "integer"}), of("Speeding", map[string]string{"SpeedPercent": "float"})}}
	for _, r := range []Rule{{Kind: ComesInto}, {Kind: GoesOut}, {Kind: FirstSeen}, {Kind: LastSeen}, {Kind: Left, For: 5 * time.Second}, {Kind: Taken, For: 9 * time.Second}, {Kind: Crowd, Count: 3, For: 4 * time.Second}, {Kind: Crowd},
		{Kind: Faster, Speed: 0.15}, {Kind: Inside}} {
		r.Name, r.Area = "a", square
		c, cant := can.Write(r)
		if len(cant) > 0 || c.Maker != (r.Kind != Inside) || c.Maker && c.Space != urn {
			t.Errorf("%s: %v %+v", r.Kind, cant, c)
			continue
		}
		if back, ok := c.Says(); !ok || !Same(back, r) {
			t.Errorf("%s comes back as %+v %t from %+v", r.Kind, back, ok, c)
		}
		if own := can.Own(r.Kind); own != "" && can.OwnOf(own) != r.Kind || can.OwnOf("") != "" {
			t.Errorf("%s is taken for %q", own, can.OwnOf(own))
		}
		if (can.Own(r.Kind) != "") != c.Maker || can.Lacks(r.Kind) != "" {
			t.Errorf("%s: its own %q, lacks %q", r.Kind, can.Own(r.Kind), can.Lacks(r.Kind))
		}
	}
	for name, x := range map[string]struct {
		has  Type
		r    Rule
		cant []string
	}{
		"a parameter more":      {of("EnterZone", map[string]string{"Armed": "boolean"}), Rule{Kind: ComesInto}, []string{`its own EnterZone takes "Armed", for which there are no words here`}},
		"drawn as a line":       {Type{Name: "EnterZone", Maker: true, Space: urn, Shapes: map[string]string{"L": "Polyline"}}, Rule{Kind: ComesInto}, []string{"its own EnterZone isn't drawn as one polygon"}},
		"two drawings":          {Type{Name: "EnterZone", Maker: true, Space: urn, Shapes: map[string]string{"A": "Polygon", "B": "Polygon"}}, Rule{Kind: ComesInto}, []string{"its own EnterZone isn't drawn as one polygon"}},
		"no namespace":          {Type{Name: "EnterZone", Maker: true, Shapes: map[string]string{"A": "Polygon"}}, Rule{Kind: ComesInto}, []string{"it knows EnterZone alone"}},
		"no time":               {of("AbandonedObject", nil), Rule{Kind: Left, For: time.Second}, []string{"it takes no time"}},
		"no number":             {of("Crowding", nil), Rule{Kind: Crowd}, []string{"its own Crowding says of its own how many are enough"}},
		"a speed of its own":    {of("Speeding", map[string]string{"Speed": "float"}), Rule{Kind: Faster, Speed: 1}, []string{`its own Speeding takes "Speed", for which there are no words here`}},
		"the standard's first":  {knows.Types[1], Rule{Kind: Inside}, nil},
		"one that says nothing": {of("RackWatch", nil), Rule{Kind: Inside}, []string{"it knows RackWatch alone"}},
	} {
		x.r.Name, x.r.Area = "a", square
		_, cant := Supported{Types: []Type{x.has}}.Write(x.r)
		var got []string
		for _, n := range cant {
			got = append(got, n.Why)
		}
		if !slices.Equal(got, x.cant) {
			t.Errorf("%s: %q", name, got)
		}
	}
	for name, c := range map[string]Config{
		"a count of none": {Type: "Crowding", Values: map[string]string{"MinObjects": "0"}}, "a count of another kind": {Type: "EnterZone", Values: map[string]string{"MinObjects": "2"}},
		"a speed of another kind": {Type: "EnterZone", Values: map[string]string{"SpeedPercent": "2"}}, "no speed": {Type: "Speeding"}, "a speed that is none": {Type: "Speeding", Values: map[string]string{"SpeedPercent": "fast"}},
		"left for no time": {Type: "AbandonedObject"},
	} {
		c.Name, c.Maker, c.Space, c.Shapes = "a", true, urn, map[string]Shape{"R": {Closed: true, Points: square}}
		if r, ok := c.Says(); ok {
			t.Errorf("%s is read as %+v", name, r)
		}
	}
}

package camera

import (
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/wire"
)

// maxRules is how many rules this make keeps.
const maxRules = 8

// writeRules answers CreateRules, ModifyRules and DeleteRules (ONVIF Analytics
// Service Specification, 5.2.3): all of a request is done, or none of it.
func (c *Camera) writeRules(op *wire.Node) (string, *fault) {
	rules := c.memory().Rules
	find := func(name string) int {
		return slices.IndexFunc(rules, func(r rule.Rule) bool { return r.Name == name })
	}
	for i := range op.Kids {
		n := &op.Kids[i]
		switch {
		case n.XMLName.Local == "RuleName" && op.XMLName.Local == "DeleteRules":
			at := find(strings.TrimSpace(n.Text))
			if at < 0 {
				return "", sender("ter:InvalidArgVal/ter:RuleNotExistent", "There is no rule of that name.")
			}
			rules = slices.Delete(rules, at, at+1)
		case n.XMLName.Local == "Rule":
			r, f := readRule(n)
			if f != nil {
				return "", f
			}
			at := find(r.Name)
			switch {
			case op.XMLName.Local == "CreateRules" && at >= 0:
				return "", sender("ter:InvalidArgVal/ter:RuleAlreadyExistent", "A rule of that name is there already.")
			case op.XMLName.Local == "ModifyRules" && at < 0:
				return "", sender("ter:InvalidArgVal/ter:RuleNotExistent", "There is no rule of that name.")
			case at >= 0:
				rules[at] = r
			case len(rules) >= maxRules:
				return "", &fault{500, "Receiver", "ter:Action/ter:TooManyRules", "This camera keeps no more rules."}
			default:
				rules = append(rules, r)
			}
		}
	}
	c.change(func(m *memory) { m.Rules = rules })
	c.events.follow(rules)
	return "<tan:" + op.XMLName.Local + "Response/>", nil
}

// readRule reads a rule's own parameters; a drawing that can't fire is refused.
func readRule(n *wire.Node) (rule.Rule, *fault) {
	r := rule.Rule{Name: strings.TrimSpace(n.Attr("Name")), Direction: rule.Either}
	_, kind, _ := strings.Cut(n.Attr("Type"), ":")
	switch kind {
	case "LineDetector":
		r.Kind, r.Line = rule.Crosses, drawn(n.Find("Polyline"))
		if item := n.Find("SimpleItem"); item.Attr("Name") == "Direction" {
			r.Direction = rule.Direction(item.Attr("Value"))
		}
	case "FieldDetector":
		r.Kind, r.Area = rule.Inside, drawn(n.Find("Polygon"))
	default:
		return r, sender("ter:InvalidArgVal/ter:RuleInvalid", "This camera knows LineDetector and FieldDetector.")
	}
	if r.Name == "" || len(r.Name) > 64 || r.Check() != nil {
		return r, sender("ter:InvalidArgVal/ter:InvalidRule", "The rule has no name, or its drawing divides nothing.")
	}
	return r, nil
}

func drawn(n *wire.Node) []scene.Point {
	if n == nil {
		return nil
	}
	var out []scene.Point
	for i := range n.Kids {
		x, err := strconv.ParseFloat(n.Kids[i].Attr("x"), 64)
		y, err2 := strconv.ParseFloat(n.Kids[i].Attr("y"), 64)
		if err != nil || err2 != nil || len(out) >= 64 {
			return nil
		}
		out = append(out, scene.Point{X: x, Y: y})
	}
	return out
}

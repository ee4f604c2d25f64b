package camera

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/wire"
)

// maxRules is how many rules this make keeps, maxVertices how many points a drawing of it has.
const (
	maxRules    = 8
	maxVertices = 16
)

// mostRules is how many rules it keeps: those with types of their own keep more.
func (c *Camera) mostRules() int {
	if c.habits().OwnTypes != "" {
		return 2 * maxRules
	}
	return maxRules
}

// classes are what its analytics tell apart, in its own words.
func (c *Camera) classes() []string {
	does := c.habits()
	if len(c.cfg.Classes) > 0 {
		return c.cfg.Classes
	}
	return []string{does.word("Human"), does.word("Vehicle")}
}

// analytics answers the rule engine's part of the Analytics service.
func (c *Camera) analytics(op *wire.Node) (string, *fault, bool) {
	switch op.XMLName.Local {
	case "GetSupportedRules":
		return "<tan:GetSupportedRulesResponse>" + c.supportedRules() + "</tan:GetSupportedRulesResponse>", nil, true
	case "GetRuleOptions":
		return "<tan:GetRuleOptionsResponse>" + c.ruleOptions() + "</tan:GetRuleOptionsResponse>", nil, true
	case "GetAnalyticsModules":
		return "<tan:GetAnalyticsModulesResponse>" + c.modules() + "</tan:GetAnalyticsModulesResponse>", nil, true
	case "GetRules":
		var b strings.Builder
		source, f := c.ruledBy(op)
		if f != nil {
			return "", f, true
		}
		for _, r := range c.memory().rules(source) {
			b.WriteString(c.ruleXML(r))
		}
		return "<tan:GetRulesResponse>" + b.String() + c.cfg.Manners.OwnRule + "</tan:GetRulesResponse>", nil, true
	case "ModifyAnalyticsModules":
		out, f := c.writeModules(op)
		return out, f, true
	case "CreateRules", "ModifyRules", "DeleteRules":
		out, f := c.writeRules(op)
		return out, f, true
	}
	return "", nil, false
}

func (c *Camera) supportedRules() string {
	filter := `<tt:SimpleItemDescription Name="ClassFilter" Type="tt:StringList"/>`
	if c.cfg.Manners.PlainRules {
		filter = ""
	}
	kind := func(name, simple, element, data, topic string, property bool) string {
		is := ""
		if property {
			is = ` IsProperty="true"`
		}
		return fmt.Sprintf(`<tt:RuleDescription Name="tt:%s"><tt:Parameters>%s<tt:ElementItemDescription %s/></tt:Parameters><tt:Messages%s><tt:Data><tt:SimpleItemDescription %s/></tt:Data><tt:ParentTopic>tns1:RuleEngine/%s</tt:ParentTopic></tt:Messages></tt:RuleDescription>`,
			name, simple, element, is, data, topic)
	}
	const object = `Name="ObjectId" Type="xs:integer"`
	out := kind("LineDetector", `<tt:SimpleItemDescription Name="Direction" Type="tt:Direction"/>`+filter, `Name="Segments" Type="tt:Polyline"`, object, "LineDetector/Crossed", false) +
		kind("FieldDetector", filter, `Name="Field" Type="tt:Polygon"`, `Name="IsInside" Type="xs:boolean"`, "FieldDetector/ObjectsInside", true)
	if !c.cfg.Manners.PlainRules {
		out += kind("LoiteringDetector", `<tt:SimpleItemDescription Name="TimeThreshold" Type="xs:duration"/>`+filter, `Name="Field" Type="tt:Polygon"`, object, "LoiteringDetector/ObjectIsLoitering", false)
	}
	if c.habits().Grid.Columns > 0 {
		out += motionDescription
	}
	out += c.ownDescriptions()
	return fmt.Sprintf(`<tan:SupportedRules Limit="%d">%s</tan:SupportedRules>`, c.mostRules(), out)
}

func (c *Camera) ruleOptions() string {
	limits := func(kind, param, options string, least int) string {
		return fmt.Sprintf(`<tan:RuleOptions RuleType="tt:%s" Name="%s" Type="tt:%s"><tt:%[3]sOptions><tt:VertexLimits><tt:Min>%d</tt:Min><tt:Max>%d</tt:Max></tt:VertexLimits></tt:%[3]sOptions></tan:RuleOptions>`,
			kind, param, options, least, maxVertices)
	}
	out := limits("LineDetector", "Segments", "Polyline", 2) + limits("FieldDetector", "Field", "Polygon", 3)
	if c.cfg.Manners.PlainRules {
		return out
	}
	out += limits("LoiteringDetector", "Field", "Polygon", 3)
	for _, kind := range []string{"LineDetector", "FieldDetector", "LoiteringDetector"} {
		out += fmt.Sprintf(`<tan:RuleOptions RuleType="tt:%s" Name="ClassFilter" Type="tt:StringList"><tt:StringList>%s</tt:StringList></tan:RuleOptions>`, kind, strings.Join(c.classes(), " "))
	}
	return out
}

func (c *Camera) ruleXML(r rule.Rule) string {
	points := func(ps []scene.Point) string {
		var b strings.Builder
		for _, p := range ps {
			p = c.habits().Counts.To(p)
			fmt.Fprintf(&b, `<tt:Point x="%.4f" y="%.4f"/>`, p.X, p.Y)
		}
		return b.String()
	}
	if r.Kind == rule.Moves {
		return motionXML(r)
	}
	if own, ok := ownTypes[r.Kind]; ok {
		return c.ownXML(own, r, points(r.Area))
	}
	kind, simple, element := "FieldDetector", "", `<tt:ElementItem Name="Field"><tt:Polygon>`+points(r.Area)+`</tt:Polygon></tt:ElementItem>`
	switch r.Kind {
	case rule.Crosses:
		kind, simple = "LineDetector", fmt.Sprintf(`<tt:SimpleItem Name="Direction" Value="%s"/>`, r.Direction)
		element = `<tt:ElementItem Name="Segments"><tt:Polyline>` + points(r.Line) + `</tt:Polyline></tt:ElementItem>`
	case rule.Stays:
		kind, simple = "LoiteringDetector", fmt.Sprintf(`<tt:SimpleItem Name="TimeThreshold" Value="PT%gS"/>`, r.For.Seconds())
	}
	if len(r.Classes) > 0 {
		words := make([]string, len(r.Classes))
		for i, class := range r.Classes {
			words[i] = c.habits().word(class)
		}
		simple += `<tt:SimpleItem Name="ClassFilter" Value="` + wire.Esc(strings.Join(words, " ")) + `"/>`
	}
	return fmt.Sprintf(`<tan:Rule Name="%s" Type="tt:%s"><tt:Parameters>%s%s</tt:Parameters></tan:Rule>`, wire.Esc(r.Name), kind, simple, element)
}

// ruledBy is the source whose rules are meant, by the token of its analytics configuration.
func (c *Camera) ruledBy(op *wire.Node) (source int, f *fault) {
	source, err := strconv.Atoi(strings.TrimPrefix(op.Get("ConfigurationToken"), "vac"))
	if err != nil || source < 0 || source >= c.memory().sources() {
		return 0, sender("ter:InvalidArgVal/ter:NoConfig", "There is no analytics configuration of that token.")
	}
	return source, nil
}

// writeRules answers CreateRules, ModifyRules and DeleteRules (ONVIF Analytics
// Service Specification, 5.2.3): all of a request is done, or none of it.
func (c *Camera) writeRules(op *wire.Node) (string, *fault) {
	source, f := c.ruledBy(op)
	if f != nil {
		return "", f
	}
	rules := c.memory().rules(source)
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
			r, f := c.readRule(n)
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
			case len(rules) >= c.mostRules():
				return "", &fault{500, "Receiver", "ter:Action/ter:TooManyRules", "This camera keeps no more rules."}
			default:
				rules = append(rules, r)
			}
		}
	}
	c.change(func(m *memory) { m.setRules(source, rules) })
	c.events.follow(c.memory())
	return "<tan:" + op.XMLName.Local + "Response/>", nil
}

// readRule reads a rule's own parameters; a drawing that can't fire is refused.
func (c *Camera) readRule(n *wire.Node) (rule.Rule, *fault) {
	r := rule.Rule{Name: strings.TrimSpace(n.Attr("Name")), Direction: rule.Either}
	prefix, kind, _ := strings.Cut(n.Attr("Type"), ":")
	if own := c.habits().OwnTypes; own != "" && n.Attr(prefix) == own {
		return c.readOwn(r, kind, n)
	}
	switch kind {
	case "LineDetector":
		r.Kind, r.Line = rule.Crosses, c.drawn(n.Find("Polyline"))
	case "FieldDetector":
		r.Kind, r.Area = rule.Inside, c.drawn(n.Find("Polygon"))
	case "LoiteringDetector":
		r.Kind, r.Area = rule.Stays, c.drawn(n.Find("Polygon"))
	case "CellMotionDetector":
		return c.readMotion(r, n)
	default:
		return r, sender("ter:InvalidArgVal/ter:RuleInvalid", "This camera doesn't know this type of rule.")
	}
	if r.Kind == rule.Stays && c.cfg.Manners.PlainRules {
		return r, sender("ter:InvalidArgVal/ter:RuleInvalid", "This camera doesn't know this type of rule.")
	}
	if f := c.readParameters(&r, n.Find("Parameters")); f != nil {
		return r, f
	}
	if r.Name == "" || len(r.Name) > 64 || r.Check() != nil {
		return r, sender("ter:InvalidArgVal/ter:InvalidRule", "The rule has no name, or its drawing divides nothing.")
	}
	return r, nil
}

// readParameters takes a rule's simple parameters; one that its type hasn't is refused.
func (c *Camera) readParameters(r *rule.Rule, n *wire.Node) *fault {
	bad := sender("ter:InvalidArgVal/ter:InvalidRule", "That parameter can't be so.")
	if n == nil {
		return bad
	}
	for i := range n.Kids {
		k := &n.Kids[i]
		if k.XMLName.Local != "SimpleItem" {
			continue
		}
		value := k.Attr("Value")
		switch name := k.Attr("Name"); {
		case name == "Direction" && r.Kind == rule.Crosses && slices.Contains([]string{"Any", "Left", "Right"}, value):
			r.Direction = rule.Direction(value)
		case name == "TimeThreshold" && r.Kind == rule.Stays:
			if r.For = duration(value); r.For <= 0 {
				return bad
			}
		case name == "ClassFilter" && !c.cfg.Manners.PlainRules:
			for _, class := range strings.Fields(value) {
				if !slices.Contains(c.classes(), class) {
					return bad
				}
				r.Classes = append(r.Classes, c.habits().class(class))
			}
		default:
			return bad
		}
	}
	return nil
}

func (c *Camera) drawn(n *wire.Node) []scene.Point {
	if n == nil {
		return nil
	}
	var out []scene.Point
	for i := range n.Kids {
		x, err := strconv.ParseFloat(n.Kids[i].Attr("x"), 64)
		y, err2 := strconv.ParseFloat(n.Kids[i].Attr("y"), 64)
		if err != nil || err2 != nil || len(out) >= maxVertices {
			return nil
		}
		out = append(out, c.habits().Counts.From(scene.Point{X: x, Y: y}))
	}
	return out
}

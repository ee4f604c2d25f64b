package onvif

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/device/dial"
)

// Limits of what is kept of a device's rules.
const (
	maxRules  = 64
	maxTypes  = 64
	maxParams = 32
	maxPoints = 256
	maxValue  = 256 // characters; of cells as many as a grid has
	maxCells  = 16 << 10
)

// SupportedRules reads which types of rules a configuration knows (GetSupportedRules, ONVIF Analytics 5.2.3.1), and how
// far their parameters go (GetRuleOptions, 5.2.3.3) where the device tells.
func (c *Client) SupportedRules(ctx context.Context, services map[string]string, configuration string) (rule.Supported, error) {
	var out rule.Supported
	r, err := c.ofRules(ctx, services, "GetSupportedRules", configuration, "")
	if err != nil {
		return out, err
	}
	of := r.at("SupportedRules")
	out.Most = atoi(of.attr("Limit"))
	for _, n := range of.all("RuleDescription") {
		if len(out.Types) >= maxTypes {
			break
		}
		t := rule.Type{Most: atoi(n.attr("maxInstances")), Values: map[string]string{}, Shapes: map[string]string{}}
		if t.Name, t.Maker, t.Space = n.standard(n.attr("Name")); t.Name == "" {
			continue
		}
		for _, p := range n.at("Parameters").all("SimpleItemDescription") {
			if name := p.attr("Name"); name != "" && len(t.Values) < maxParams {
				t.Values[name] = local(p.attr("Type"))
			}
		}
		for _, p := range n.at("Parameters").all("ElementItemDescription") {
			if name := p.attr("Name"); name != "" && len(t.Shapes) < maxParams {
				t.Shapes[name] = local(p.attr("Type"))
			}
		}
		out.Types = append(out.Types, t)
	}
	options, err := c.ofRules(ctx, services, "GetRuleOptions", configuration, "")
	if err != nil {
		return out, untold(err)
	}
	for _, n := range options.all("RuleOptions") {
		name, maker, _ := n.standard(n.attr("RuleType"))
		for i := range out.Types {
			if t := &out.Types[i]; t.Name == name && t.Maker == maker || n.attr("RuleType") == "" && (t.Values[n.attr("Name")] != "" || t.Shapes[n.attr("Name")] != "") {
				t.Fewest, t.Points, t.Classes = bounds(n, *t)
			}
		}
	}
	return out, nil
}

// bounds are the limits that one answer of GetRuleOptions gives a type, beside those that it has.
func bounds(n *node, t rule.Type) (fewest, points int, classes []string) {
	fewest, points, classes = t.Fewest, t.Points, t.Classes
	for _, name := range []string{"PolygonOptions", "PolylineOptions"} {
		if l := n.at(name, "VertexLimits"); l != nil {
			fewest, points = l.num("Min"), l.num("Max")
		}
	}
	if list := n.at("StringList"); list != nil && t.Values[n.attr("Name")] != "" && strings.Contains(strings.ToLower(n.attr("Name")), "class") {
		classes = strings.Fields(list.str())
		classes = classes[:min(len(classes), maxParams)]
	}
	return max(0, fewest), max(0, points), classes
}

// Modules reads the analytics modules of a configuration (GetAnalyticsModules, ONVIF Analytics 5.2.4.4), each with the layout
// of its cells where it has one; none where the device doesn't know the call.
func (c *Client) Modules(ctx context.Context, services map[string]string, configuration string) (out []rule.Module, err error) {
	r, err := c.ofRules(ctx, services, "GetAnalyticsModules", configuration, "")
	if err != nil {
		return nil, untold(err)
	}
	for _, n := range r.all("AnalyticsModule") {
		if len(out) >= maxRules {
			break
		}
		m := rule.Module{Name: n.attr("Name"), Values: map[string]string{}}
		m.Type, _, _ = n.standard(n.attr("Type"))
		for _, p := range n.at("Parameters").all("SimpleItem") {
			if value := p.attr("Value"); len(m.Values) < maxParams && len(value) <= maxValue {
				m.Values[p.attr("Name")] = value
			}
		}
		for _, p := range n.at("Parameters").all("ElementItem") {
			if l := p.at("CellLayout"); l != nil {
				m.Grid = scene.Grid{Columns: atoi(l.attr("Columns")), Rows: atoi(l.attr("Rows"))}
			}
		}
		out = append(out, m)
	}
	return out, nil
}

// ModifyModule sets one parameter of an analytics module and sends all else of it back as it is told (ModifyAnalyticsModules, ONVIF
// Analytics 5.2.4.6). dial.ErrNotSupported where it has no such module or parameter.
func (c *Client) ModifyModule(ctx context.Context, services map[string]string, configuration, module, parameter, value string) error {
	r, err := c.ofRules(ctx, services, "GetAnalyticsModules", configuration, "")
	if err != nil {
		return err
	}
	for _, n := range r.all("AnalyticsModule") {
		if n.attr("Name") != module {
			continue
		}
		for _, p := range n.at("Parameters").all("SimpleItem") {
			if p.attr("Name") != parameter {
				continue
			}
			for i, a := range p.attrs {
				if a.Name.Local == "Value" {
					p.attrs[i].Value = value
					_, err := c.ofRules(ctx, services, "ModifyAnalyticsModules", configuration, n.xml())
					return err
				}
			}
		}
	}
	return &dial.Error{Tried: "ModifyAnalyticsModules", On: c.on(), Kind: dial.ErrNotSupported, Says: "it has no such module any more"}
}

// RuleSet reads the rules of a configuration as they are (GetRules, ONVIF Analytics 5.2.3.4).
func (c *Client) RuleSet(ctx context.Context, services map[string]string, configuration string) ([]rule.Config, error) {
	r, err := c.ofRules(ctx, services, "GetRules", configuration, "")
	if err != nil {
		return nil, err
	}
	var out []rule.Config
	for _, n := range r.all("Rule") {
		if len(out) < maxRules {
			out = append(out, config(n))
		}
	}
	return out, nil
}

// config is a rule as it came: values cut to what is kept, shapes with their points, and the names of what else there is.
func config(n *node) rule.Config {
	x := rule.Config{Name: n.attr("Name"), Values: map[string]string{}, Shapes: map[string]rule.Shape{}}
	x.Type, x.Maker, x.Space = n.standard(n.attr("Type"))
	for _, p := range n.at("Parameters").all("SimpleItem") {
		if value := p.attr("Value"); len(x.Values) < maxParams && (len(value) <= maxValue || p.attr("Name") == "ActiveCells" && len(value) <= maxCells) {
			x.Values[p.attr("Name")] = value
		}
	}
	for _, p := range n.at("Parameters").all("ElementItem") {
		line, area := p.at("Polyline"), p.at("Polygon")
		switch {
		case len(x.Shapes) >= maxParams:
		case line != nil:
			x.Shapes[p.attr("Name")] = rule.Shape{Points: points(line)}
		case area != nil:
			x.Shapes[p.attr("Name")] = rule.Shape{Closed: true, Points: points(area)}
		case len(x.Others) < maxParams:
			x.Others = append(x.Others, p.attr("Name"))
		}
	}
	return x
}

// Rules are the rules of a configuration that there is a sentence for.
func (c *Client) Rules(ctx context.Context, services map[string]string, configuration string) ([]rule.Rule, error) {
	if _, ok := services[rulesNS]; !ok {
		return nil, nil
	}
	all, err := c.RuleSet(ctx, services, configuration)
	if err != nil {
		return nil, err
	}
	var out []rule.Rule
	for _, x := range all {
		if r, ok := x.Says(); ok {
			out = append(out, r)
		}
	}
	return out, nil
}

// CreateRule makes a rule, ModifyRule exchanges the one of its name, DeleteRule takes one away (ONVIF Analytics 5.2.3.5 to
// 5.2.3.7).
func (c *Client) CreateRule(ctx context.Context, services map[string]string, configuration string, r rule.Config) error {
	_, err := c.ofRules(ctx, services, "CreateRules", configuration, ruleXML(r))
	return err
}

// ModifyRule: see CreateRule.
func (c *Client) ModifyRule(ctx context.Context, services map[string]string, configuration string, r rule.Config) error {
	_, err := c.ofRules(ctx, services, "ModifyRules", configuration, ruleXML(r))
	return err
}

// DeleteRule: see CreateRule.
func (c *Client) DeleteRule(ctx context.Context, services map[string]string, configuration, name string) error {
	_, err := c.ofRules(ctx, services, "DeleteRules", configuration, "<RuleName>"+escape(name)+"</RuleName>")
	return err
}

func (c *Client) ofRules(ctx context.Context, services map[string]string, op, configuration, inner string) (*node, error) {
	return c.call(ctx, services[rulesNS], rulesNS, op, fmt.Sprintf(`<%s xmlns="%s" xmlns:tt="%s"><ConfigurationToken>%s</ConfigurationToken>%s</%[1]s>`,
		op, rulesNS, schemaNS, escape(configuration), inner), CallLimit)
}

// ruleXML writes a rule, its parameters in the order of their names.
func ruleXML(r rule.Config) string {
	var b strings.Builder
	of, space := "tt", ""
	if r.Maker {
		of, space = "own", ` xmlns:own="`+escape(r.Space)+`"`
	}
	fmt.Fprintf(&b, `<Rule%s Name="%s" Type="%s:%s"><tt:Parameters>`, space, escape(r.Name), of, escape(r.Type))
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		fmt.Fprintf(&b, `<tt:SimpleItem Name="%s" Value="%s"/>`, escape(name), escape(r.Values[name]))
	}
	for _, name := range slices.Sorted(maps.Keys(r.Shapes)) {
		kind := "Polyline"
		if r.Shapes[name].Closed {
			kind = "Polygon"
		}
		fmt.Fprintf(&b, `<tt:ElementItem Name="%s"><tt:%s>`, escape(name), kind)
		for _, p := range r.Shapes[name].Points {
			fmt.Fprintf(&b, `<tt:Point x="%s" y="%s"/>`, strconv.FormatFloat(p.X, 'f', 5, 64), strconv.FormatFloat(p.Y, 'f', 5, 64))
		}
		fmt.Fprintf(&b, `</tt:%s></tt:ElementItem>`, kind)
	}
	return b.String() + `</tt:Parameters></Rule>`
}

// standard parts a qualified name in content into its local name and whether it is of another namespace than the
// standard's: which one. A prefix that isn't declared is taken for what most mean by it.
func (n *node) standard(name string) (of string, maker bool, ns string) {
	prefix, of, cut := strings.Cut(name, ":")
	if !cut {
		prefix, of = "", name
	}
	if len(of) > 64 {
		return "", false, ""
	}
	switch space := n.space(prefix); space {
	case schemaNS, rulesNS:
		return of, false, ""
	case "":
		return of, prefix != "" && prefix != "tt", ""
	default:
		if len(space) > maxValue {
			space = ""
		}
		return of, true, space
	}
}

// local is a qualified name without its prefix, in at most 64 characters.
func local(name string) string {
	if _, after, cut := strings.Cut(name, ":"); cut {
		name = after
	}
	return name[:min(len(name), 64)]
}

func atoi(text string) int { return max(0, (&node{text: text}).num()) }

func points(n *node) []scene.Point {
	var out []scene.Point
	for _, p := range n.all("Point") {
		if len(out) < maxPoints {
			out = append(out, scene.Point{X: (&node{text: p.attr("x")}).float(), Y: (&node{text: p.attr("y")}).float()})
		}
	}
	return out
}

// HasRules says whether a device has a service of rules.
func HasRules(services map[string]string) bool { return services[rulesNS] != "" }

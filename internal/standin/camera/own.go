package camera

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/standin/wire"
)

// ownType is a rule type of this make's own, and which parameters it takes.
type ownType struct {
	name               string
	lasts, many, speed bool
}

// ownTypes are what the make calls what the standard has no types for. Seconds are whole, speeds in hundredths of the picture a second.
var ownTypes = map[rule.Kind]ownType{
	rule.ComesInto: {name: "EnterZone"}, rule.GoesOut: {name: "ExitZone"}, rule.FirstSeen: {name: "ObjectAppears"}, rule.LastSeen: {name: "ObjectDisappears"},
	rule.Left: {name: "AbandonedObject", lasts: true}, rule.Taken: {name: "RemovedObject", lasts: true},
	rule.Crowd: {name: "Crowding", lasts: true, many: true}, rule.Faster: {name: "Speeding", speed: true},
}

func (c *Camera) ownDescriptions() string {
	if c.habits().OwnTypes == "" {
		return ""
	}
	var b strings.Builder
	for _, kind := range rule.Kinds {
		own, ok := ownTypes[kind]
		if !ok {
			continue
		}
		simple := `<tt:SimpleItemDescription Name="ClassFilter" Type="tt:StringList"/>`
		if own.lasts {
			simple += `<tt:SimpleItemDescription Name="Duration" Type="xs:integer"/>`
		}
		if own.many {
			simple += `<tt:SimpleItemDescription Name="MinObjects" Type="xs:integer"/>`
		}
		if own.speed {
			simple += `<tt:SimpleItemDescription Name="MinSpeedPercent" Type="xs:float"/>`
		}
		fmt.Fprintf(&b, `<tt:RuleDescription xmlns:mk="%s" Name="mk:%s"><tt:Parameters>%s<tt:ElementItemDescription Name="Region" Type="tt:Polygon"/></tt:Parameters><tt:Messages><tt:Data><tt:SimpleItemDescription Name="ObjectId" Type="xs:integer"/></tt:Data><tt:ParentTopic>tns1:RuleEngine/%s/Detected</tt:ParentTopic></tt:Messages></tt:RuleDescription>`,
			wire.Esc(c.habits().OwnTypes), own.name, simple, own.name)
	}
	return b.String()
}

func (c *Camera) ownXML(own ownType, r rule.Rule, points string) string {
	simple := ""
	if len(r.Classes) > 0 {
		simple += `<tt:SimpleItem Name="ClassFilter" Value="` + wire.Esc(strings.Join(r.Classes, " ")) + `"/>`
	}
	if own.lasts {
		simple += fmt.Sprintf(`<tt:SimpleItem Name="Duration" Value="%d"/>`, int(r.For.Seconds()))
	}
	if own.many {
		simple += fmt.Sprintf(`<tt:SimpleItem Name="MinObjects" Value="%d"/>`, max(2, r.Count))
	}
	if own.speed {
		simple += fmt.Sprintf(`<tt:SimpleItem Name="MinSpeedPercent" Value="%g"/>`, 100*r.Speed)
	}
	return fmt.Sprintf(`<tan:Rule xmlns:mk="%s" Name="%s" Type="mk:%s"><tt:Parameters>%s<tt:ElementItem Name="Region"><tt:Polygon>%s</tt:Polygon></tt:ElementItem></tt:Parameters></tan:Rule>`,
		wire.Esc(c.habits().OwnTypes), wire.Esc(r.Name), own.name, simple, points)
}

// readOwn reads a rule of one of its own types; a parameter that its type hasn't is refused.
func (c *Camera) readOwn(r rule.Rule, name string, n *wire.Node) (rule.Rule, *fault) {
	bad := sender("ter:InvalidArgVal/ter:InvalidRule", "A rule of this camera's own type can't be so.")
	var own ownType
	for kind, t := range ownTypes {
		if t.name == name {
			r.Kind, own = kind, t
		}
	}
	p := n.Find("Parameters")
	if r.Kind == "" || p == nil {
		return r, bad
	}
	r.Direction, r.Area = "", c.drawn(n.Find("Polygon"))
	for i := range p.Kids {
		k := &p.Kids[i]
		if k.XMLName.Local != "SimpleItem" {
			continue
		}
		value := k.Attr("Value")
		v, err := strconv.ParseFloat(value, 64)
		switch item := k.Attr("Name"); {
		case item == "ClassFilter":
			for _, class := range strings.Fields(value) {
				if !slices.Contains(c.classes(), class) {
					return r, bad
				}
				r.Classes = append(r.Classes, c.habits().class(class))
			}
		case err != nil:
			return r, bad
		case item == "Duration" && own.lasts:
			r.For = time.Duration(int(v)) * time.Second
		case item == "MinObjects" && own.many:
			r.Count = int(v)
		case item == "MinSpeedPercent" && own.speed:
			r.Speed = v / 100
		default:
			return r, bad
		}
	}
	if r.Name == "" || len(r.Name) > 64 || r.Check() != nil {
		return r, bad
	}
	return r, nil
}

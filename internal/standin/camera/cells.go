package camera

import (
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// motionDescription is how this make describes rules of cell motion (ONVIF Analytics, Annex B.3).
const motionDescription = `<tt:RuleDescription Name="tt:CellMotionDetector"><tt:Parameters><tt:SimpleItemDescription Name="MinCount" Type="xs:integer"/><tt:SimpleItemDescription Name="AlarmOnDelay" Type="xs:integer"/><tt:SimpleItemDescription Name="AlarmOffDelay" Type="xs:integer"/><tt:SimpleItemDescription Name="ActiveCells" Type="xs:base64Binary"/></tt:Parameters><tt:Messages IsProperty="true"><tt:Data><tt:SimpleItemDescription Name="IsMotion" Type="xs:boolean"/></tt:Data><tt:ParentTopic>tns1:RuleEngine/CellMotionDetector/Motion</tt:ParentTopic></tt:Messages></tt:RuleDescription>`

// modules are its analytics engines: one that sees motion by cells, where it has any.
func (c *Camera) modules() string {
	g := c.habits().Grid
	if g.Columns == 0 {
		return ""
	}
	return fmt.Sprintf(`<tan:AnalyticsModule Name="Motion" Type="tt:CellMotionEngine"><tt:Parameters><tt:SimpleItem Name="Sensitivity" Value="%d"/><tt:ElementItem Name="Layout"><tt:CellLayout Columns="%d" Rows="%d"><tt:Transformation><tt:Translate x="-1" y="-1"/><tt:Scale x="%.6f" y="%.6f"/></tt:Transformation></tt:CellLayout></tt:ElementItem></tt:Parameters></tan:AnalyticsModule>`,
		c.memory().senses(), g.Columns, g.Rows, 2/float64(g.Columns), 2/float64(g.Rows))
}

// senses is its sensitivity to motion.
func (m memory) senses() int {
	if m.Senses != nil {
		return *m.Senses
	}
	return 60
}

// writeModules answers ModifyAnalyticsModules (ONVIF Analytics, 5.2.4.6): the module comes whole, with the layout of its cells, which
// can't be another.
func (c *Camera) writeModules(op *wire.Node) (string, *fault) {
	bad := sender("ter:InvalidArgVal/ter:InvalidModule", "That module isn't as this camera can have it.")
	if _, f := c.ruledBy(op); f != nil {
		return "", f
	}
	m, layout := op.Find("AnalyticsModule"), op.Find("CellLayout")
	g := c.habits().Grid
	if m == nil || layout == nil || m.Attr("Name") != "Motion" || layout.Attr("Columns") != strconv.Itoa(g.Columns) || layout.Attr("Rows") != strconv.Itoa(g.Rows) || layout.Find("Scale") == nil {
		return "", bad
	}
	item := m.Find("SimpleItem")
	if item == nil || item.Attr("Name") != "Sensitivity" {
		return "", bad
	}
	v, err := strconv.Atoi(item.Attr("Value"))
	if err != nil || v < 0 || v > 100 {
		return "", bad
	}
	c.change(func(m *memory) { m.Senses = &v })
	return "<tan:ModifyAnalyticsModulesResponse/>", nil
}

// stirring is the area, in frame units, that something must have for its cells to count: none at the usual sensitivity and above,
// more the less there is.
func (m memory) stirring() float64 { return max(0, float64(50-m.senses())/50*0.25) }

func motionXML(r rule.Rule) string {
	raw := make([]byte, (len(r.Cells.On)+7)/8)
	for i, on := range r.Cells.On {
		if on {
			raw[i/8] |= 1 << (7 - i%8)
		}
	}
	// A byte that comes again is written as a run, any other by itself: what PackBits allows, if not the shortest.
	var packed []byte
	for i := 0; i < len(raw); {
		n := 1
		for i+n < len(raw) && raw[i+n] == raw[i] && n < 128 {
			n++
		}
		if n == 1 {
			packed = append(packed, 0, raw[i])
		} else {
			packed = append(packed, byte(1-n), raw[i])
		}
		i += n
	}
	return fmt.Sprintf(`<tan:Rule Name="%s" Type="tt:CellMotionDetector"><tt:Parameters><tt:SimpleItem Name="MinCount" Value="%d"/><tt:SimpleItem Name="AlarmOnDelay" Value="%d"/><tt:SimpleItem Name="AlarmOffDelay" Value="%d"/><tt:SimpleItem Name="ActiveCells" Value="%s"/></tt:Parameters></tan:Rule>`,
		wire.Esc(r.Name), r.Count, r.For.Milliseconds(), r.Break.Milliseconds(), base64.StdEncoding.EncodeToString(packed))
}

// readMotion reads a rule of cell motion; cells of another layout are refused.
func (c *Camera) readMotion(r rule.Rule, n *wire.Node) (rule.Rule, *fault) {
	bad := sender("ter:InvalidArgVal/ter:InvalidRule", "The cells of the rule aren't those of this camera, or none is active.")
	r.Kind, r.Cells.Grid = rule.Moves, c.habits().Grid
	p := n.Find("Parameters")
	if p == nil || r.Cells.Columns == 0 {
		return r, bad
	}
	for i := range p.Kids {
		value := p.Kids[i].Attr("Value")
		ms, err := strconv.Atoi(value)
		switch name := p.Kids[i].Attr("Name"); {
		case name == "ActiveCells":
			r.Cells.On = unpacked(value, r.Cells.Columns*r.Cells.Rows)
		case err != nil || ms < 0:
			return r, bad
		case name == "MinCount":
			r.Count = ms
		case name == "AlarmOnDelay":
			r.For = time.Duration(ms) * time.Millisecond
		case name == "AlarmOffDelay":
			r.Break = time.Duration(ms) * time.Millisecond
		}
	}
	if r.Name == "" || len(r.Name) > 64 || r.Cells.On == nil || r.Check() != nil {
		return r, bad
	}
	return r, nil
}

// unpacked are the bits of PackBits in base64; nil where there are not as many as cells.
func unpacked(text string, cells int) (on []bool) {
	packed, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	var raw []byte
	for i := 0; err == nil && i < len(packed); {
		head := int(packed[i])
		switch {
		case head < 128 && i+1+head < len(packed):
			raw = append(raw, packed[i+1:i+2+head]...)
			i += 2 + head
		case head > 128 && i+1 < len(packed):
			for range 257 - head {
				raw = append(raw, packed[i+1])
			}
			i += 2
		case head == 128:
			i++
		default:
			return nil
		}
	}
	if len(raw) != (cells+7)/8 {
		return nil
	}
	for i := range cells {
		on = append(on, raw[i/8]>>(7-i%8)&1 == 1)
	}
	return on
}

// stir is what the camera's motion rules say of a picture: of each, whether enough of its cells moved for long enough.
type stir struct {
	since, last int64 // frames: moving since, and moved last
	on          bool
}

// stirs follows motion rules over pictures: frame counts on, and boxes are of what moves in it.
func (c *Camera) stirs(was map[string]*stir, frame int64, moving []scene.Observation) {
	for _, r := range c.memory().Rules { // its further views have the same scene: who has cells has one view
		if r.Kind != rule.Moves {
			continue
		}
		s := was[r.Name]
		if s == nil {
			s = &stir{since: -1}
			was[r.Name] = s
		}
		touched := 0
		for _, o := range moving {
			if o.Box.Area() < c.memory().stirring() {
				continue
			}
			touched += r.Cells.Touched(o.Box)
		}
		frames := func(d time.Duration) int64 { return int64(d * footage.FPS / time.Second) }
		switch {
		case touched >= max(1, r.Count) && s.since < 0:
			s.since, s.last = frame, frame
		case touched >= max(1, r.Count):
			s.last = frame
		case s.since >= 0 && frame-s.last > frames(r.Break):
			s.since = -1
		}
		if now := s.since >= 0 && (s.on || frame-s.since >= frames(r.For)); now != s.on {
			s.on = now
			if now {
				c.events.mu.Lock()
				c.events.fired[r.Name]++
				c.events.mu.Unlock()
			}
			c.events.set(r.Name, strconv.FormatBool(now), c.Now())
		}
	}
}

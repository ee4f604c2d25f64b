package camera

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// overlay is a text that somebody had burned into a source's picture.
type overlay struct {
	Token  string `json:"token"`
	Source int    `json:"source"`
	Kind   string `json:"kind"` // "Plain", "DateAndTime"
	Words  string `json:"words,omitempty"`
	Date   string `json:"date,omitempty"`
	Time   string `json:"time,omitempty"`
	Corner string `json:"corner"` // "UpperLeft", "UpperRight", "LowerLeft", "LowerRight"
}

// mask hides a part of a source's picture.
type mask struct {
	Token  string        `json:"token"`
	Source int           `json:"source"`
	Area   scene.Polygon `json:"area"`
	On     bool          `json:"on"`
}

// maxOverlays is how many texts this family burns in, maxCorners how many corners a mask has.
const (
	maxOverlays = 4
	maxCorners  = 8
	firstText   = "osd0" // date and time, as it leaves the box
)

var corners = []string{"UpperLeft", "UpperRight", "LowerLeft", "LowerRight"}

// overlays are the texts of the camera: date and time of its first source, and what was added.
func (c *Camera) overlays() []overlay {
	m := c.memory()
	var out []overlay
	if !m.NoTime {
		corner := m.Corner
		if corner == "" {
			corner = corners[0]
		}
		out = append(out, overlay{Token: firstText, Kind: "DateAndTime", Date: m.Date, Time: m.Time, Corner: corner})
	}
	return append(out, m.Overlays...)
}

func (o overlay) xml(tag string) string {
	inner := "<tt:Type>Plain</tt:Type><tt:PlainText>" + wire.Esc(o.Words) + "</tt:PlainText>"
	if o.Kind != "Plain" {
		inner = "<tt:Type>DateAndTime</tt:Type><tt:DateFormat>" + wire.Esc(o.Date) + "</tt:DateFormat><tt:TimeFormat>" + wire.Esc(o.Time) + "</tt:TimeFormat>"
	}
	return fmt.Sprintf(`<%s token="%s"><tt:VideoSourceConfigurationToken>vsc%d</tt:VideoSourceConfigurationToken><tt:Type>Text</tt:Type><tt:Position><tt:Type>%s</tt:Type></tt:Position><tt:TextString>%s</tt:TextString></%[1]s>`,
		tag, wire.Esc(o.Token), o.Source, o.Corner, inner)
}

// texts answers the OSD operations of both media services.
func (c *Camera) texts(op *wire.Node, ns string) (string, *fault, bool) {
	none := sender("ter:InvalidArgVal/ter:NoConfig", "There is no such text.")
	all := c.overlays()
	switch op.XMLName.Local {
	case "GetOSDs":
		var b strings.Builder
		for _, o := range all {
			if of := op.Get("ConfigurationToken"); of == "" || of == fmt.Sprintf("vsc%d", o.Source) {
				b.WriteString(o.xml(ns + ":OSDs"))
			}
		}
		return "<" + ns + ":GetOSDsResponse>" + b.String() + "</" + ns + ":GetOSDsResponse>", nil, true
	case "GetOSDOptions":
		return fmt.Sprintf(`<%[1]s:GetOSDOptionsResponse><%[1]s:OSDOptions><tt:MaximumNumberOfOSDs Total="%[2]d"/><tt:Type>Text</tt:Type><tt:PositionOption>%[3]s</tt:PositionOption><tt:TextOption><tt:Type>Plain</tt:Type><tt:Type>DateAndTime</tt:Type></tt:TextOption></%[1]s:OSDOptions></%[1]s:GetOSDOptionsResponse>`,
			ns, maxOverlays, strings.Join(corners, "</tt:PositionOption><tt:PositionOption>")), nil, true
	case "SetOSD":
		o, f := c.textOf(op.Find("OSD"))
		switch {
		case f != nil:
			return "", f, true
		case !slices.ContainsFunc(all, func(x overlay) bool { return x.Token == o.Token }):
			return "", none, true
		}
		c.change(func(m *memory) {
			if o.Token == firstText {
				m.Date, m.Time, m.Corner = o.Date, o.Time, o.Corner
				return
			}
			m.Overlays = append(withoutText(m.Overlays, o.Token), o)
		})
		return "<" + ns + ":SetOSDResponse/>", nil, true
	case "CreateOSD":
		o, f := c.textOf(op.Find("OSD"))
		if f != nil {
			return "", f, true
		}
		if len(all) >= maxOverlays {
			return "", sender("ter:Action/ter:MaxOSDs", "No more texts can be burned in."), true
		}
		c.change(func(m *memory) {
			m.Made++
			o.Token = "osd" + strconv.Itoa(m.Made)
			m.Overlays = append(slices.Clone(m.Overlays), o)
		})
		return "<" + ns + ":CreateOSDResponse><" + ns + ":OSDToken>" + o.Token + "</" + ns + ":OSDToken></" + ns + ":CreateOSDResponse>", nil, true
	case "DeleteOSD":
		token := op.Get("OSDToken")
		if !slices.ContainsFunc(all, func(x overlay) bool { return x.Token == token }) {
			return "", none, true
		}
		c.change(func(m *memory) { m.NoTime, m.Overlays = m.NoTime || token == firstText, withoutText(m.Overlays, token) })
		return "<" + ns + ":DeleteOSDResponse/>", nil, true
	}
	return "", nil, false
}

func withoutText(all []overlay, token string) []overlay {
	return slices.DeleteFunc(slices.Clone(all), func(o overlay) bool { return o.Token == token })
}

// textOf reads a text as a client wants it.
func (c *Camera) textOf(n *wire.Node) (overlay, *fault) {
	o := overlay{Token: n.Attr("token"), Corner: corners[0]}
	source, ok := c.sourceOf(n.Get("VideoSourceConfigurationToken"), "vsc")
	bad := sender("ter:InvalidArgVal/ter:ConfigModify", "The text can't be set so.")
	if !ok {
		return o, bad
	}
	o.Source = source
	if p := n.Find("Position"); p != nil {
		o.Corner = p.Get("Type")
	}
	text := n.Find("TextString")
	o.Kind, o.Words, o.Date, o.Time = text.Get("Type"), text.Get("PlainText"), text.Get("DateFormat"), text.Get("TimeFormat")
	switch {
	case !slices.Contains(corners, o.Corner),
		o.Kind == "Plain" && (o.Words == "" || len(o.Words) > 64),
		o.Kind == "DateAndTime" && (o.Date == "" || o.Time == ""),
		o.Kind != "Plain" && o.Kind != "DateAndTime":
		return o, bad
	}
	return o, nil
}

// sourceOf is the number of the source that a token names.
func (c *Camera) sourceOf(token, prefix string) (int, bool) {
	i, err := strconv.Atoi(strings.TrimPrefix(token, prefix))
	return i, err == nil && strings.HasPrefix(token, prefix) && i >= 0 && i < max(1, len(c.cfg.Manners.Sources))
}

// masks answers the mask operations (ONVIF Media2, 5.11).
func (c *Camera) masks(op *wire.Node) (string, *fault, bool) {
	if !strings.Contains(op.XMLName.Local, "Mask") {
		return "", nil, false
	}
	most := c.cfg.Manners.Masks
	if most == 0 || op.XMLName.Space != media2Space {
		return "", sender("ter:ActionNotSupported", "This device hides no parts of its picture."), true
	}
	all := c.memory().Masks
	known := func(token string) bool {
		return slices.ContainsFunc(all, func(m mask) bool { return m.Token == token })
	}
	without := func(all []mask, token string) []mask {
		return slices.DeleteFunc(slices.Clone(all), func(m mask) bool { return m.Token == token })
	}
	none := sender("ter:InvalidArgVal/ter:NoConfig", "There is no such mask.")
	switch op.XMLName.Local {
	case "GetMasks":
		var b strings.Builder
		for _, m := range all {
			if of := op.Get("ConfigurationToken"); of == "" || of == fmt.Sprintf("vsc%d", m.Source) {
				b.WriteString(m.xml())
			}
		}
		return "<tr2:GetMasksResponse>" + b.String() + "</tr2:GetMasksResponse>", nil, true
	case "GetMaskOptions":
		return fmt.Sprintf(`<tr2:GetMaskOptionsResponse><tr2:Options RectangleOnly="false" SingleColorOnly="true"><tr2:MaxMasks>%d</tr2:MaxMasks><tr2:MaxPoints>%d</tr2:MaxPoints><tr2:Types>Color</tr2:Types></tr2:Options></tr2:GetMaskOptionsResponse>`, most, maxCorners), nil, true
	case "SetMask", "CreateMask":
		m, f := c.maskOf(op.Find("Mask"))
		if f != nil {
			return "", f, true
		}
		if op.XMLName.Local == "SetMask" {
			if !known(m.Token) {
				return "", none, true
			}
			c.change(func(mem *memory) { mem.Masks = append(without(mem.Masks, m.Token), m) })
			return "<tr2:SetMaskResponse/>", nil, true
		}
		if len(all) >= most {
			return "", sender("ter:Action/ter:MaxMasks", "No more parts can be hidden."), true
		}
		c.change(func(mem *memory) {
			mem.Made++
			m.Token = "mask" + strconv.Itoa(mem.Made)
			mem.Masks = append(slices.Clone(mem.Masks), m)
		})
		return "<tr2:CreateMaskResponse><tr2:Token>" + m.Token + "</tr2:Token></tr2:CreateMaskResponse>", nil, true
	case "DeleteMask":
		if !known(op.Get("Token")) {
			return "", none, true
		}
		c.change(func(mem *memory) { mem.Masks = without(mem.Masks, op.Get("Token")) })
		return "<tr2:DeleteMaskResponse/>", nil, true
	}
	return "", nil, false
}

func (m mask) xml() string {
	var b strings.Builder
	for _, p := range m.Area {
		fmt.Fprintf(&b, `<tt:Point x="%g" y="%g"/>`, p.X, p.Y)
	}
	return fmt.Sprintf(`<tr2:Masks token="%s"><tr2:ConfigurationToken>vsc%d</tr2:ConfigurationToken><tr2:Polygon>%s</tr2:Polygon><tr2:Type>Color</tr2:Type><tr2:Color X="0" Y="0" Z="0"/><tr2:Enabled>%t</tr2:Enabled></tr2:Masks>`,
		m.Token, m.Source, b.String(), m.On)
}

// maskOf reads a mask as a client wants it. Corners are kept on this family's grid.
func (c *Camera) maskOf(n *wire.Node) (mask, *fault) {
	m := mask{Token: n.Attr("token"), On: n.Get("Enabled") == "true" || n.Get("Enabled") == "1"}
	source, ok := c.sourceOf(n.Get("ConfigurationToken"), "vsc")
	m.Source = source
	polygon := n.Find("Polygon")
	if !ok || polygon == nil || n.Get("Type") != "Color" || len(polygon.Kids) < 3 || len(polygon.Kids) > maxCorners {
		return m, sender("ter:InvalidArgVal/ter:InvalidMaskOptions", "The mask can't be set so.")
	}
	grid := func(v float64) float64 { return float64(int(v*100+100.5))/100 - 1 }
	for i := range polygon.Kids {
		x, err := strconv.ParseFloat(polygon.Kids[i].Attr("x"), 64)
		y, err2 := strconv.ParseFloat(polygon.Kids[i].Attr("y"), 64)
		if err != nil || err2 != nil || !(x >= -1 && x <= 1 && y >= -1 && y <= 1) {
			return m, sender("ter:InvalidArgVal/ter:InvalidPolygon", "A corner is outside the picture.")
		}
		m.Area = append(m.Area, scene.Point{X: grid(x), Y: grid(y)})
	}
	return m, nil
}

// look is how a source looks now and what is laid over its picture, and whether that differs
// from what its clips were coded of.
func (c *Camera) look(source int) (l footage.Look, differs bool) {
	m := c.memory()
	for _, k := range m.Masks {
		if k.Source == source && k.On {
			l.Masks = append(l.Masks, k.Area)
		}
	}
	i := c.imagingOf(source)
	l.Gain, l.Blur = i.gain(m.Night), i.blur()
	if source == 0 && c.cfg.Manners.PTZ {
		at := c.pose(time.Now())
		l.Pan, l.Tilt, l.Zoom = at.Pan/2, at.Tilt/2, 1+nearest*at.Zoom
	}
	differs = len(l.Masks) > 0 || l.Gain != 1 || l.Blur > 0 || l.Pan != 0 || l.Tilt != 0 || l.Zoom > 1 || i.Cut != "AUTO"
	for _, o := range c.overlays() {
		if o.Source != source {
			continue
		}
		words := o.Words
		if o.Kind != "Plain" {
			words = c.stampOf(o)
		}
		differs = differs || o.Token != firstText
		l.Texts = append(l.Texts, footage.Text{Words: words, Right: strings.HasSuffix(o.Corner, "Right"), Low: strings.HasPrefix(o.Corner, "Lower")})
	}
	return l, differs
}

// stampOf is the camera's own local time as it burns it in.
func (c *Camera) stampOf(o overlay) string {
	now := c.Now().UTC()
	now = now.Add(c.memory().localAhead(now))
	layout := strings.NewReplacer("yyyy", "2006", "MM", "01", "dd", "02", "HH", "15", "hh", "03", "mm", "04", "ss", "05", "tt", "PM")
	return now.Format(layout.Replace(o.Date + " " + o.Time))
}

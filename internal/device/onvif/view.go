package onvif

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

const (
	imagingNS = "http://www.onvif.org/ver20/imaging/wsdl"
	ptzNS     = "http://www.onvif.org/ver20/ptz/wsdl"
)

// Limits of what is kept of a view.
const (
	maxTexts   = 16
	maxMasks   = 64
	maxCorners = 64
	maxPresets = 256
	maxWord    = 128
)

// Setup reads how the picture of a profile's view is made and what lies over it. What the device
// doesn't tell is nil.
func (c *Client) Setup(ctx context.Context, services map[string]string, p stream.Profile) (s picture.Setup, err error) {
	s.Config, s.Source = p.SourceConfig, p.Source
	if s.Texts, err = c.textsOf(ctx, services, p.SourceConfig); err != nil {
		return s, err
	}
	if s.Masks, err = c.masksOf(ctx, services, p.SourceConfig); err != nil {
		return s, err
	}
	if s.Imaging, err = c.Imaging(ctx, services, p.Source); err != nil {
		return s, err
	}
	if p.PTZ != "" {
		s.PTZ, err = c.PTZ(ctx, services, p)
	}
	return s, err
}

// optional asks for what a device may not have: nil where it doesn't.
func (c *Client) optional(ctx context.Context, at, ns, op, inner string) (*node, error) {
	if at == "" {
		return nil, nil
	}
	r, err := c.call(ctx, at, ns, op, "<"+op+` xmlns="`+ns+`">`+inner+"</"+op+">", CallLimit)
	if err != nil {
		return nil, untold(err)
	}
	return r, nil
}

func element(name, value string) string { return "<" + name + ">" + escape(value) + "</" + name + ">" }

// words are the texts of elements by a name, without the empty ones.
func words(all []*node) (out []string) {
	for _, n := range all {
		if s := dial.CleanText(n.str(), maxWord); s != "" && len(out) < maxTexts {
			out = append(out, s)
		}
	}
	return out
}

// textsOf reads what is burned into a view (GetOSDs, GetOSDOptions; ONVIF Media2, 5.10).
func (c *Client) textsOf(ctx context.Context, services map[string]string, config string) (*picture.Texts, error) {
	ns, at := c.media(services)
	r, err := c.optional(ctx, at, ns, "GetOSDs", element("ConfigurationToken", config))
	if r == nil {
		return nil, err
	}
	out := &picture.Texts{}
	for _, n := range r.all("OSDs") {
		s := n.at("TextString")
		t := picture.Text{Token: n.attr("token"), Words: dial.CleanText(s.str("PlainText"), maxWord),
			Dates: dial.CleanText(s.str("DateFormat"), maxWord), Times: dial.CleanText(s.str("TimeFormat"), maxWord), Corner: n.str("Position", "Type")}
		switch s.str("Type") {
		case "Plain":
			t.Kind = picture.Name
		case "Date", "Time", "DateAndTime":
			t.Kind, t.Words = picture.Time, ""
		default:
			continue
		}
		if of := n.str("VideoSourceConfigurationToken"); (of == config || of == "") && len(out.All) < maxTexts {
			out.All = append(out.All, t)
		}
	}
	o, err := c.optional(ctx, at, ns, "GetOSDOptions", element("ConfigurationToken", config))
	if o == nil {
		return out, err
	}
	n := o.at("OSDOptions")
	most := n.at("MaximumNumberOfOSDs")
	out.Most, _ = strconv.Atoi(most.attr("Total"))
	out.MostNames, _ = strconv.Atoi(most.attr("PlainText"))
	out.MostTimes, _ = strconv.Atoi(most.attr("DateAndTime"))
	out.Dates, out.Times = words(n.at("TextOption").all("DateFormat")), words(n.at("TextOption").all("TimeFormat"))
	out.Corners = words(n.all("PositionOption"))
	for _, k := range words(n.at("TextOption").all("Type")) {
		out.Plain = out.Plain || k == "Plain"
	}
	return out, nil
}

// PutText burns in one text of a kind, or none where it is empty: it changes the first one that
// there is, makes one where there is none, and takes the others out (SetOSD, CreateOSD, DeleteOSD).
func (c *Client) PutText(ctx context.Context, services map[string]string, config string, t picture.Text) error {
	had, err := c.textsOf(ctx, services, config)
	if err != nil {
		return err
	}
	ns, at := c.media(services)
	if had == nil {
		return &dial.Error{Tried: "GetOSDs", On: c.host.Addr.String(), Kind: dial.ErrNotSupported, Says: "it burns in no text"}
	}
	wanted := t.Words != "" || t.Dates != "" || t.Times != ""
	for _, x := range had.All {
		switch {
		case x.Kind != t.Kind:
		case wanted:
			if _, err := c.call(ctx, at, ns, "SetOSD", `<SetOSD xmlns="`+ns+`" xmlns:tt="`+schemaNS+`">`+osdXML("OSD", config, x.Token, t)+`</SetOSD>`, CallLimit); err != nil {
				return err
			}
			wanted = false
		default:
			if _, err := c.call(ctx, at, ns, "DeleteOSD", `<DeleteOSD xmlns="`+ns+`">`+element("OSDToken", x.Token)+`</DeleteOSD>`, CallLimit); err != nil {
				return err
			}
		}
	}
	if wanted {
		_, err = c.call(ctx, at, ns, "CreateOSD", `<CreateOSD xmlns="`+ns+`" xmlns:tt="`+schemaNS+`">`+osdXML("OSD", config, "", t)+`</CreateOSD>`, CallLimit)
	}
	return err
}

func osdXML(tag, config, token string, t picture.Text) string {
	inner := "<tt:Type>Plain</tt:Type><tt:PlainText>" + escape(t.Words) + "</tt:PlainText>"
	if t.Kind == picture.Time {
		inner = "<tt:Type>DateAndTime</tt:Type><tt:DateFormat>" + escape(t.Dates) + "</tt:DateFormat><tt:TimeFormat>" + escape(t.Times) + "</tt:TimeFormat>"
	}
	corner := t.Corner
	if corner == "" {
		corner = "UpperLeft"
	}
	return fmt.Sprintf(`<%s token="%s"><tt:VideoSourceConfigurationToken>%s</tt:VideoSourceConfigurationToken><tt:Type>Text</tt:Type><tt:Position><tt:Type>%s</tt:Type></tt:Position><tt:TextString>%s</tt:TextString></%[1]s>`,
		tag, escape(token), escape(config), escape(corner), inner)
}

// TextsNow reads what is burned in, for reading back.
func (c *Client) TextsNow(ctx context.Context, services map[string]string, config string) (picture.Texts, error) {
	t, err := c.textsOf(ctx, services, config)
	if t == nil {
		return picture.Texts{}, err
	}
	return *t, err
}

// masksOf reads what is hidden of a view (GetMasks, GetMaskOptions; ONVIF Media2, 5.11).
func (c *Client) masksOf(ctx context.Context, services map[string]string, config string) (*picture.Masks, error) {
	at := services[mediaNS]
	r, err := c.optional(ctx, at, mediaNS, "GetMasks", element("ConfigurationToken", config))
	if r == nil {
		return nil, err
	}
	out := &picture.Masks{}
	for _, n := range r.all("Masks") {
		m := picture.Mask{Token: n.attr("token"), On: n.yes("Enabled")}
		for _, p := range n.at("Polygon").all("Point") {
			if len(m.Area) < maxCorners {
				m.Area = append(m.Area, scene.Point{X: (&node{text: p.attr("x")}).float(), Y: (&node{text: p.attr("y")}).float()})
			}
		}
		if of := n.str("ConfigurationToken"); m.Area.Check() == nil && (of == config || of == "") && len(out.All) < maxMasks {
			out.All = append(out.All, m)
		}
	}
	o, err := c.optional(ctx, at, mediaNS, "GetMaskOptions", element("ConfigurationToken", config))
	if o == nil {
		return out, err
	}
	n := o.at("Options")
	out.Most, out.Corners = n.num("MaxMasks"), n.num("MaxPoints")
	out.Rectangle = n.attr("RectangleOnly") == "true" || n.attr("RectangleOnly") == "1"
	return out, nil
}

// Hidden reads which areas are hidden now, for reading back.
func (c *Client) Hidden(ctx context.Context, services map[string]string, config string) ([]scene.Polygon, error) {
	m, err := c.masksOf(ctx, services, config)
	if m == nil {
		return nil, err
	}
	return m.Areas(), err
}

// Hide hides these areas and no others: nothing that is to stay hidden is seen in between
// (CreateMask, SetMask, DeleteMask).
func (c *Client) Hide(ctx context.Context, services map[string]string, config string, areas []scene.Polygon) error {
	had, err := c.masksOf(ctx, services, config)
	if err != nil {
		return err
	}
	if had == nil {
		return &dial.Error{Tried: "GetMasks", On: c.host.Addr.String(), Kind: dial.ErrNotSupported, Says: "it hides no parts of its picture"}
	}
	spare, want := []picture.Mask(nil), areas
	for _, m := range had.All {
		kept := false
		for i, a := range want {
			if m.On && picture.SameAreas([]scene.Polygon{a}, []scene.Polygon{m.Area}) {
				want, kept = append(append([]scene.Polygon(nil), want[:i]...), want[i+1:]...), true
				break
			}
		}
		if !kept {
			spare = append(spare, m)
		}
	}
	at := services[mediaNS]
	for _, a := range want {
		op, token := "CreateMask", ""
		if had.Most > 0 && len(had.All) >= had.Most && len(spare) > 0 {
			op, token, spare = "SetMask", spare[0].Token, spare[1:]
		}
		had.All = append(had.All, picture.Mask{})
		if _, err := c.call(ctx, at, mediaNS, op, "<"+op+` xmlns="`+mediaNS+`" xmlns:tt="`+schemaNS+`">`+maskXML(config, token, a)+"</"+op+">", CallLimit); err != nil {
			return err
		}
	}
	for _, m := range spare {
		if _, err := c.call(ctx, at, mediaNS, "DeleteMask", `<DeleteMask xmlns="`+mediaNS+`">`+element("Token", m.Token)+`</DeleteMask>`, CallLimit); err != nil {
			return err
		}
	}
	return nil
}

func maskXML(config, token string, a scene.Polygon) string {
	var b strings.Builder
	for _, p := range a {
		fmt.Fprintf(&b, `<tt:Point x="%.4f" y="%.4f"/>`, p.X, p.Y)
	}
	return `<Mask token="` + escape(token) + `">` + element("ConfigurationToken", config) + "<Polygon>" + b.String() + "</Polygon><Type>Color</Type><Enabled>true</Enabled></Mask>"
}

// Imaging reads how a source takes its pictures and what can be set (GetImagingSettings,
// GetOptions, GetStatus, GetMoveOptions; ONVIF Imaging, 5.2); nil where it doesn't tell.
func (c *Client) Imaging(ctx context.Context, services map[string]string, source string) (*picture.Imaging, error) {
	at, of := services[imagingNS], element("VideoSourceToken", source)
	r, err := c.optional(ctx, at, imagingNS, "GetImagingSettings", of)
	if r == nil {
		return nil, err
	}
	s := r.at("ImagingSettings")
	out := &picture.Imaging{DayNight: s.str("IrCutFilter"), Exposure: s.str("Exposure", "Mode"), Time: s.float("Exposure", "ExposureTime"), Focusing: s.str("Focus", "AutoFocusMode")}
	if s.at("Brightness") != nil {
		v := s.float("Brightness")
		out.Brightness = &v
	}
	o, err := c.optional(ctx, at, imagingNS, "GetOptions", of)
	if err != nil {
		return nil, err
	}
	n := o.at("ImagingOptions")
	out.DayNights, out.Exposures = words(n.all("IrCutFilterModes")), words(n.at("Exposure").all("Mode"))
	out.Focusings = words(n.at("Focus").all("AutoFocusModes"))
	out.Times, out.Brights = rangeOf(n.at("Exposure", "ExposureTime")), rangeOf(n.at("Brightness"))
	m, err := c.optional(ctx, at, imagingNS, "GetMoveOptions", of)
	if err != nil {
		return nil, err
	}
	out.Focuses = rangeOf(m.at("MoveOptions", "Absolute", "Position"))
	if !out.Focuses.Known() {
		return out, nil
	}
	st, err := c.optional(ctx, at, imagingNS, "GetStatus", of)
	if p := st.at("Status", "FocusStatus20", "Position"); p != nil {
		v := p.float()
		out.Focus = &v
	}
	return out, err
}

// rangeOf reads a tt:FloatRange.
func rangeOf(n *node) picture.Range { return picture.Range{Min: n.float("Min"), Max: n.float("Max")} }

// SetImaging sets one property of how a source takes its pictures (SetImagingSettings, Move).
func (c *Client) SetImaging(ctx context.Context, services map[string]string, source string, p picture.Property, value string) error {
	v, of := escape(value), element("VideoSourceToken", source)
	if p == picture.Focus {
		_, err := c.call(ctx, services[imagingNS], imagingNS, "Move", `<Move xmlns="`+imagingNS+`" xmlns:tt="`+schemaNS+`">`+of+
			"<Focus><tt:Absolute><tt:Position>"+v+"</tt:Position></tt:Absolute></Focus></Move>", CallLimit)
		return err
	}
	inner := map[picture.Property]string{
		picture.DayNight:   "<tt:IrCutFilter>" + v + "</tt:IrCutFilter>",
		picture.Exposure:   "<tt:Exposure><tt:Mode>" + v + "</tt:Mode></tt:Exposure>",
		picture.ExposeFor:  "<tt:Exposure><tt:Mode>MANUAL</tt:Mode><tt:ExposureTime>" + v + "</tt:ExposureTime></tt:Exposure>",
		picture.Brightness: "<tt:Brightness>" + v + "</tt:Brightness>",
		picture.Focusing:   "<tt:Focus><tt:AutoFocusMode>" + v + "</tt:AutoFocusMode></tt:Focus>",
	}[p]
	_, err := c.call(ctx, services[imagingNS], imagingNS, "SetImagingSettings", `<SetImagingSettings xmlns="`+imagingNS+`" xmlns:tt="`+schemaNS+`">`+of+
		"<ImagingSettings>"+inner+"</ImagingSettings><ForcePersistence>true</ForcePersistence></SetImagingSettings>", CallLimit)
	return err
}

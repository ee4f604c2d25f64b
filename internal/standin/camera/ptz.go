package camera

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/standin/wire"
)

const ptzSpace = "http://www.onvif.org/ver20/ptz/wsdl"

// Spaces that it knows (ONVIF PTZ, 5.8).
const (
	panTiltSpace      = "http://www.onvif.org/ver10/tptz/PanTiltSpaces/PositionGenericSpace"
	zoomSpace         = "http://www.onvif.org/ver10/tptz/ZoomSpaces/PositionGenericSpace"
	panTiltSpeedSpace = "http://www.onvif.org/ver10/tptz/PanTiltSpaces/VelocityGenericSpace"
	zoomSpeedSpace    = "http://www.onvif.org/ver10/tptz/ZoomSpaces/VelocityGenericSpace"
	fieldSpace        = "http://www.onvif.org/ver10/tptz/PanTiltSpaces/TranslationSpaceFov"
)

// aim is where the camera looks: pan and tilt −1 to 1, right and up positive, zoom 0 to 1.
type aim struct {
	Pan  float64 `json:"pan"`
	Tilt float64 `json:"tilt"`
	Zoom float64 `json:"zoom"`
}

// Speed of its motors, units a second, and how far it can be tilted.
const (
	ptzSpeed   = 0.8
	tiltLimit  = 0.6
	maxPresets = 8
	nearest    = 3                // how many times nearer, and once, its lens goes
	maxSteer   = 10 * time.Second // a move that is told no end stops by itself
)

func (a aim) held() aim {
	return aim{max(-1, min(1, a.Pan)), max(-tiltLimit, min(tiltLimit, a.Tilt)), max(0, min(1, a.Zoom))}
}

// motion is a move from one aim to another, at a speed on each axis, units a second.
type motion struct {
	from, to, speed aim
	began           time.Time
}

// fastest is how fast it goes to a place.
var fastest = aim{ptzSpeed, ptzSpeed, ptzSpeed}

// at is where it is, and whether it is there.
func (m motion) at(now time.Time) (aim, bool) {
	since := now.Sub(m.began).Seconds()
	axis := func(from, to, speed float64) float64 {
		if d := to - from; math.Abs(d) > since*speed {
			return from + math.Copysign(since*speed, d)
		}
		return to
	}
	a := aim{axis(m.from.Pan, m.to.Pan, m.speed.Pan), axis(m.from.Tilt, m.to.Tilt, m.speed.Tilt), axis(m.from.Zoom, m.to.Zoom, m.speed.Zoom)}
	return a, a == m.to
}

// preset is an aim that it was told to remember.
type preset struct {
	Token string `json:"token"`
	Name  string `json:"name"`
	At    aim    `json:"at"`
}

// pose is where it looks at a moment.
func (c *Camera) pose(now time.Time) aim {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.motion.began.IsZero() {
		return c.mem.Aim
	}
	a, _ := c.motion.at(now)
	return a
}

// Looks is where it looks now.
func (c *Camera) Looks() (pan, tilt, zoom float64) {
	at := c.pose(time.Now())
	return at.Pan, at.Tilt, at.Zoom
}

// turn sends it to an aim; what lies beyond its ends is the end.
func (c *Camera) turn(to aim) { c.move(to, fastest) }

// steer moves it at a velocity, in parts of its fastest, until the time is over.
func (c *Camera) steer(v aim, limit time.Duration) {
	at, s := c.pose(time.Now()), limit.Seconds()*ptzSpeed
	c.move(aim{at.Pan + v.Pan*s, at.Tilt + v.Tilt*s, at.Zoom + v.Zoom*s}, aim{math.Abs(v.Pan) * ptzSpeed, math.Abs(v.Tilt) * ptzSpeed, math.Abs(v.Zoom) * ptzSpeed})
}

// across moves it by parts of what it sees: 1 is from the middle of its picture to the edge.
func (c *Camera) across(at aim, x, y float64) {
	near := 1 + nearest*at.Zoom
	at.Pan, at.Tilt = at.Pan+2*x/near, at.Tilt+2*y/near
	c.turn(at)
}

func (c *Camera) move(to, speed aim) {
	now := time.Now()
	from := c.pose(now)
	c.change(func(m *memory) {
		m.Aim = to.held()
		c.motion = motion{from, m.Aim, speed, now}
	})
}

func (c *Camera) still(now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, there := c.motion.at(now)
	return c.motion.began.IsZero() || there
}

// ptz answers the PTZ service (ONVIF PTZ).
func (c *Camera) ptz(op *wire.Node) (string, *fault, bool) {
	if op.XMLName.Space != ptzSpace {
		return "", nil, false
	}
	if !c.cfg.Manners.PTZ {
		return "", sender("ter:ActionNotSupported", "This camera can't be moved."), true
	}
	name := op.XMLName.Local
	empty := func() (string, *fault, bool) { return "<tptz:" + name + "Response/>", nil, true }
	switch name {
	case "GetNodes":
		return "<tptz:GetNodesResponse>" + c.nodeXML() + "</tptz:GetNodesResponse>", nil, true
	case "GetConfigurations":
		return fmt.Sprintf(`<tptz:GetConfigurationsResponse><tptz:PTZConfiguration token="ptz0"><tt:Name>Dome</tt:Name><tt:UseCount>2</tt:UseCount><tt:NodeToken>node0</tt:NodeToken><tt:PanTiltLimits><tt:Range><tt:URI>%s</tt:URI><tt:XRange><tt:Min>-1</tt:Min><tt:Max>1</tt:Max></tt:XRange><tt:YRange><tt:Min>%g</tt:Min><tt:Max>%g</tt:Max></tt:YRange></tt:Range></tt:PanTiltLimits><tt:ZoomLimits><tt:Range><tt:URI>%s</tt:URI><tt:XRange><tt:Min>0</tt:Min><tt:Max>1</tt:Max></tt:XRange></tt:Range></tt:ZoomLimits></tptz:PTZConfiguration></tptz:GetConfigurationsResponse>`,
			panTiltSpace, -tiltLimit, tiltLimit, zoomSpace), nil, true
	}
	p, ok := c.profile(op.Get("ProfileToken"))
	if !ok || p.source != 0 {
		return "", sender("ter:InvalidArgVal/ter:NoPTZProfile", "That profile can't be moved."), true
	}
	at := c.pose(time.Now())
	switch name {
	case "GetStatus":
		moves := "MOVING"
		if c.still(time.Now()) {
			moves = "IDLE"
		}
		return fmt.Sprintf(`<tptz:GetStatusResponse><tptz:PTZStatus><tt:Position>%s</tt:Position><tt:MoveStatus><tt:PanTilt>%s</tt:PanTilt><tt:Zoom>%[2]s</tt:Zoom></tt:MoveStatus><tt:UtcTime>%s</tt:UtcTime></tptz:PTZStatus></tptz:GetStatusResponse>`,
			at.xml(), moves, c.Now().UTC().Format(time.RFC3339)), nil, true
	case "AbsoluteMove":
		to, ok := aimOf(op.Find("Position"), at)
		if !ok || to != to.held() {
			return "", sender("ter:InvalidArgVal/ter:InvalidPosition", "It doesn't go there."), true
		}
		c.turn(to)
		return empty()
	case "ContinuousMove", "RelativeMove":
		if c.cfg.Manners.PTZByPlaces {
			return "", sender("ter:ActionNotSupported", "It goes to places alone."), true
		}
		if f := c.byHand(op, at); f != nil {
			return "", f, true
		}
		return empty()
	case "Stop":
		c.turn(at)
		return empty()
	}
	return c.presets(op, at)
}

// byHand moves it at a velocity, or by parts of what it sees.
func (c *Camera) byHand(op *wire.Node, at aim) *fault {
	bad := sender("ter:InvalidArgVal/ter:InvalidTranslation", "It doesn't move so.")
	if op.XMLName.Local == "RelativeMove" {
		pt := op.Find("Translation").Find("PanTilt")
		by, ok := aimOf(op.Find("Translation"), aim{})
		if !ok || pt == nil || pt.Attr("space") != fieldSpace || max(math.Abs(by.Pan), math.Abs(by.Tilt)) > 1 {
			return bad
		}
		c.across(at, by.Pan, by.Tilt)
		return nil
	}
	v, ok := aimOf(op.Find("Velocity"), aim{})
	if !ok || max(math.Abs(v.Pan), math.Abs(v.Tilt), math.Abs(v.Zoom)) > 1 {
		return sender("ter:InvalidArgVal/ter:InvalidVelocity", "It doesn't go so fast.")
	}
	limit := maxSteer
	if told := op.Get("Timeout"); told != "" {
		s, err := strconv.ParseFloat(strings.TrimSuffix(strings.TrimPrefix(told, "PT"), "S"), 64)
		if err != nil || s <= 0 || s > maxSteer.Seconds() {
			return sender("ter:InvalidArgVal/ter:TimeoutNotSupported", "It doesn't move for so long.")
		}
		limit = time.Duration(s * float64(time.Second))
	}
	c.steer(v, limit)
	return nil
}

// nodeXML is what it tells of how it can be moved.
func (c *Camera) nodeXML() string {
	space := func(tag, uri string, low, high float64, axes string) string {
		s := "<tt:" + tag + "><tt:URI>" + uri + "</tt:URI>"
		for _, a := range axes {
			s += fmt.Sprintf("<tt:%[1]cRange><tt:Min>%[2]g</tt:Min><tt:Max>%[3]g</tt:Max></tt:%[1]cRange>", a, low, high)
		}
		return s + "</tt:" + tag + ">"
	}
	spaces := space("AbsolutePanTiltPositionSpace", panTiltSpace, -1, 1, "XY") + space("AbsoluteZoomPositionSpace", zoomSpace, 0, 1, "X")
	if !c.cfg.Manners.PTZByPlaces {
		spaces += space("RelativePanTiltTranslationSpace", fieldSpace, -1, 1, "XY") +
			space("ContinuousPanTiltVelocitySpace", panTiltSpeedSpace, -1, 1, "XY") + space("ContinuousZoomVelocitySpace", zoomSpeedSpace, -1, 1, "X")
	}
	return fmt.Sprintf(`<tptz:PTZNode token="node0"><tt:Name>Dome</tt:Name><tt:SupportedPTZSpaces>%s</tt:SupportedPTZSpaces><tt:MaximumNumberOfPresets>%d</tt:MaximumNumberOfPresets><tt:HomeSupported>false</tt:HomeSupported></tptz:PTZNode>`,
		spaces, maxPresets)
}

// presets answers what is about the aims that it remembers.
func (c *Camera) presets(op *wire.Node, at aim) (string, *fault, bool) {
	all := c.memory().Presets
	token := op.Get("PresetToken")
	i := slices.IndexFunc(all, func(p preset) bool { return p.Token == token })
	none := sender("ter:InvalidArgVal/ter:NoToken", "There is no such preset.")
	switch op.XMLName.Local {
	case "GetPresets":
		var b strings.Builder
		for _, p := range all {
			fmt.Fprintf(&b, `<tptz:Preset token="%s"><tt:Name>%s</tt:Name><tt:PTZPosition>%s</tt:PTZPosition></tptz:Preset>`, p.Token, wire.Esc(p.Name), p.At.xml())
		}
		return "<tptz:GetPresetsResponse>" + b.String() + "</tptz:GetPresetsResponse>", nil, true
	case "SetPreset":
		name := op.Get("PresetName")
		switch {
		case token != "" && i < 0:
			return "", none, true
		case token == "" && len(all) >= maxPresets:
			return "", sender("ter:Action/ter:TooManyPresets", "It remembers no more."), true
		case name == "" || len(name) > 64:
			return "", sender("ter:InvalidArgVal/ter:InvalidPresetName", "A preset needs a name."), true
		}
		c.change(func(m *memory) {
			m.Presets = slices.Clone(m.Presets)
			if token != "" {
				m.Presets[i] = preset{token, name, at}
				return
			}
			m.Made++
			token = "preset" + strconv.Itoa(m.Made)
			m.Presets = append(m.Presets, preset{token, name, at})
		})
		return "<tptz:SetPresetResponse><tptz:PresetToken>" + token + "</tptz:PresetToken></tptz:SetPresetResponse>", nil, true
	case "GotoPreset":
		if i < 0 {
			return "", none, true
		}
		c.turn(all[i].At)
		return "<tptz:GotoPresetResponse/>", nil, true
	case "RemovePreset":
		if i < 0 {
			return "", none, true
		}
		c.change(func(m *memory) { m.Presets = slices.Delete(slices.Clone(m.Presets), i, i+1) })
		return "<tptz:RemovePresetResponse/>", nil, true
	}
	return "", sender("ter:ActionNotSupported", "This device knows no such operation."), true
}

func (a aim) xml() string {
	return fmt.Sprintf(`<tt:PanTilt x="%.4f" y="%.4f" space="%s"/><tt:Zoom x="%.4f" space="%s"/>`, a.Pan, a.Tilt, panTiltSpace, a.Zoom, zoomSpace)
}

// aimOf reads an aim; an axis that isn't given stays.
func aimOf(n *wire.Node, at aim) (aim, bool) {
	ok := n != nil
	read := func(of *wire.Node, name string, v *float64) {
		if of == nil {
			return
		}
		x, err := strconv.ParseFloat(of.Attr(name), 64)
		*v, ok = x, ok && err == nil
	}
	read(n.Find("PanTilt"), "x", &at.Pan)
	read(n.Find("PanTilt"), "y", &at.Tilt)
	read(n.Find("Zoom"), "x", &at.Zoom)
	return at, ok
}

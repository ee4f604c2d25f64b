package camera

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/standin/wire"
)

const imagingSpace = "http://www.onvif.org/ver20/imaging/wsdl"

// imaging is how a source takes its pictures.
type imaging struct {
	Cut        string  `json:"cut"`      // filter of infrared light: "ON": by day, "OFF": by night, "AUTO"
	Exposure   string  `json:"exposure"` // "AUTO", "MANUAL"
	Time       float64 `json:"time"`     // of exposure, in µs, where it is by hand
	Brightness float64 `json:"brightness"`
	Focusing   string  `json:"focusing"` // "AUTO", "MANUAL"
	Focus      float64 `json:"focus"`    // 0 to 1
}

const (
	rightTime  = 10000 // µs that are right for its scene by day
	rightFocus = 0.5
)

// imagingOf is how a source takes its pictures now.
func (c *Camera) imagingOf(source int) imaging {
	if i, ok := c.memory().Imaging[source]; ok {
		return i
	}
	return imaging{Cut: "AUTO", Exposure: "AUTO", Time: rightTime, Brightness: 50, Focusing: "AUTO", Focus: rightFocus}
}

// gain is how bright its pictures are against what its automatic exposure makes.
func (i imaging) gain(night bool) float64 {
	g := 0.5 + i.Brightness/100
	if i.Exposure == "MANUAL" {
		g *= i.Time / rightTime
	}
	if night && i.Cut == "ON" {
		g *= 0.3 // the filter keeps out what its lamp gives
	}
	return min(4, g)
}

// blur is how far its pictures are out of focus, in pixels.
func (i imaging) blur() int {
	if i.Focusing == "AUTO" {
		return 0
	}
	return int(math.Round(60 * math.Abs(i.Focus-rightFocus)))
}

// byNight says whether it sees without colours.
func (i imaging) byNight(night bool) bool {
	return i.Cut == "OFF" || night && i.Cut == "AUTO"
}

// pictures answers the Imaging service (ONVIF Imaging).
func (c *Camera) pictures(op *wire.Node) (string, *fault, bool) {
	if op.XMLName.Space != imagingSpace {
		return "", nil, false
	}
	source, ok := c.sourceOf(op.Get("VideoSourceToken"), "vs")
	if !ok {
		return "", sender("ter:InvalidArgVal/ter:NoSource", "There is no such source."), true
	}
	i := c.imagingOf(source)
	switch op.XMLName.Local {
	case "GetImagingSettings":
		return fmt.Sprintf(`<timg:GetImagingSettingsResponse><timg:ImagingSettings><tt:Brightness>%g</tt:Brightness><tt:Exposure><tt:Mode>%s</tt:Mode><tt:ExposureTime>%g</tt:ExposureTime></tt:Exposure><tt:Focus><tt:AutoFocusMode>%s</tt:AutoFocusMode></tt:Focus><tt:IrCutFilter>%s</tt:IrCutFilter></timg:ImagingSettings></timg:GetImagingSettingsResponse>`,
			i.Brightness, i.Exposure, i.Time, i.Focusing, i.Cut), nil, true
	case "GetOptions":
		return `<timg:GetOptionsResponse><timg:ImagingOptions><tt:Brightness><tt:Min>0</tt:Min><tt:Max>100</tt:Max></tt:Brightness><tt:Exposure><tt:Mode>AUTO</tt:Mode><tt:Mode>MANUAL</tt:Mode><tt:ExposureTime><tt:Min>100</tt:Min><tt:Max>40000</tt:Max></tt:ExposureTime></tt:Exposure><tt:Focus><tt:AutoFocusModes>AUTO</tt:AutoFocusModes><tt:AutoFocusModes>MANUAL</tt:AutoFocusModes></tt:Focus><tt:IrCutFilterModes>ON</tt:IrCutFilterModes><tt:IrCutFilterModes>OFF</tt:IrCutFilterModes><tt:IrCutFilterModes>AUTO</tt:IrCutFilterModes></timg:ImagingOptions></timg:GetOptionsResponse>`, nil, true
	case "GetMoveOptions":
		return `<timg:GetMoveOptionsResponse><timg:MoveOptions><tt:Absolute><tt:Position><tt:Min>0</tt:Min><tt:Max>1</tt:Max></tt:Position></tt:Absolute></timg:MoveOptions></timg:GetMoveOptionsResponse>`, nil, true
	case "GetStatus":
		return fmt.Sprintf(`<timg:GetStatusResponse><timg:Status><tt:FocusStatus20><tt:Position>%g</tt:Position><tt:MoveStatus>IDLE</tt:MoveStatus></tt:FocusStatus20></timg:Status></timg:GetStatusResponse>`, i.Focus), nil, true
	case "SetImagingSettings":
		if f := i.set(op.Find("ImagingSettings")); f != nil {
			return "", f, true
		}
		c.keepImaging(source, i)
		return "<timg:SetImagingSettingsResponse/>", nil, true
	case "Move":
		to, err := strconv.ParseFloat(op.Find("Absolute").Get("Position"), 64)
		if err != nil || !(to >= 0 && to <= 1) {
			return "", sender("ter:InvalidArgVal/ter:SettingsInvalid", "Its focus doesn't go there."), true
		}
		if i.Focusing == "AUTO" {
			return "", sender("ter:Action/ter:SettingsInvalid", "It focuses by itself."), true
		}
		i.Focus = to
		c.keepImaging(source, i)
		return "<timg:MoveResponse/>", nil, true
	}
	return "", sender("ter:ActionNotSupported", "This device knows no such operation."), true
}

func (c *Camera) keepImaging(source int, i imaging) {
	c.change(func(m *memory) {
		all := maps.Clone(m.Imaging)
		if all == nil {
			all = map[int]imaging{}
		}
		all[source] = i
		m.Imaging = all
	})
}

// set takes over what a client gives; what it leaves out stays.
func (i *imaging) set(n *wire.Node) *fault {
	bad := sender("ter:InvalidArgVal/ter:SettingsInvalid", "The pictures can't be taken so.")
	word := func(v *string, s string, of ...string) bool {
		if s != "" {
			*v = s
		}
		return slices.Contains(of, *v)
	}
	number := func(v *float64, s string, from, to float64) bool {
		if s == "" {
			return true
		}
		x, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
		*v = x
		return err == nil && x >= from && x <= to
	}
	exposure, focus := n.Find("Exposure"), n.Find("Focus")
	if !word(&i.Cut, n.Get("IrCutFilter"), "ON", "OFF", "AUTO") || !number(&i.Brightness, n.Get("Brightness"), 0, 100) ||
		!word(&i.Exposure, exposure.Get("Mode"), "AUTO", "MANUAL") || !number(&i.Time, exposure.Get("ExposureTime"), 100, 40000) ||
		!word(&i.Focusing, focus.Get("AutoFocusMode"), "AUTO", "MANUAL") {
		return bad
	}
	if i.Focusing == "AUTO" {
		i.Focus = rightFocus
	}
	return nil
}

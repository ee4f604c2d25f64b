package onvif

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// PTZ reads where a profile's camera can be turned, where it looks, and what it remembers
// (GetConfigurations, GetNodes, GetStatus, GetPresets; ONVIF PTZ, 5.2 to 5.4); nil where it
// doesn't tell.
func (c *Client) PTZ(ctx context.Context, services map[string]string, p stream.Profile) (*picture.PTZ, error) {
	at, profile := services[ptzNS], p.Token
	nodes, err := c.optional(ctx, at, ptzNS, "GetNodes", "")
	if nodes == nil {
		return nil, err
	}
	confs, err := c.optional(ctx, at, ptzNS, "GetConfigurations", "")
	if err != nil {
		return nil, err
	}
	limits := named(confs.all("PTZConfiguration"), p.PTZ)
	n := named(nodes.all("PTZNode"), limits.str("NodeToken"))
	if n == nil {
		return nil, nil // which one turns it isn't told
	}
	out := &picture.PTZ{Profile: profile, Config: p.PTZ}
	out.Most = n.num("MaximumNumberOfPresets")
	spaces := n.at("SupportedPTZSpaces")
	if s := space(spaces.all("ContinuousPanTiltVelocitySpace"), "VelocityGenericSpace"); s != nil {
		out.PanSpeeds, out.TiltSpeeds = rangeOf(s.at("XRange")), rangeOf(s.at("YRange"))
	}
	if s := space(spaces.all("ContinuousZoomVelocitySpace"), "VelocityGenericSpace"); s != nil {
		out.ZoomSpeeds = rangeOf(s.at("XRange"))
	}
	if s := space(spaces.all("RelativePanTiltTranslationSpace"), "TranslationSpaceFov"); s != nil {
		out.AcrossX, out.AcrossY = rangeOf(s.at("XRange")), rangeOf(s.at("YRange"))
	}
	if s := space(spaces.all("AbsolutePanTiltPositionSpace"), "PositionGenericSpace"); s != nil {
		out.Pans, out.Tilts = rangeOf(s.at("XRange")), rangeOf(s.at("YRange"))
	}
	if s := space(spaces.all("AbsoluteZoomPositionSpace"), "PositionGenericSpace"); s != nil {
		out.Zooms = rangeOf(s.at("XRange"))
	}
	narrow(&out.Pans, limits.at("PanTiltLimits", "Range", "XRange"))
	narrow(&out.Tilts, limits.at("PanTiltLimits", "Range", "YRange"))
	narrow(&out.Zooms, limits.at("ZoomLimits", "Range", "XRange"))
	if out.At, _, err = c.aim(ctx, at, profile); err != nil {
		return nil, untold(err)
	}
	out.Presets, err = c.presets(ctx, at, profile)
	return out, err
}

// named is the element of a token; where that isn't told, the only one that there is.
func named(all []*node, token string) *node {
	if token == "" && len(all) == 1 {
		return all[0]
	}
	for _, n := range all {
		if n.attr("token") == token {
			return n
		}
	}
	return nil
}

// space is the space of a name among those that are offered (ONVIF PTZ, 5.8).
func space(all []*node, name string) *node {
	for _, s := range all {
		if strings.HasSuffix(s.str("URI"), "/"+name) {
			return s
		}
	}
	return nil
}

// narrow brings a range to the limits that are set.
func narrow(r *picture.Range, n *node) {
	if l := rangeOf(n); l.Known() && r.Known() {
		r.Min, r.Max = math.Max(r.Min, l.Min), math.Min(r.Max, l.Max)
	}
}

// aim reads where it looks, nil where it doesn't tell, and whether it stands still.
func (c *Client) aim(ctx context.Context, at, profile string) (a *picture.Aim, still bool, err error) {
	r, err := c.call(ctx, at, ptzNS, "GetStatus", `<GetStatus xmlns="`+ptzNS+`">`+element("ProfileToken", profile)+`</GetStatus>`, CallLimit)
	if err != nil {
		return nil, false, err
	}
	s := r.at("PTZStatus")
	moves := s.str("MoveStatus", "PanTilt") == "MOVING" || s.str("MoveStatus", "Zoom") == "MOVING"
	return aimOf(s.at("Position")), !moves, nil
}

// aimOf reads a tt:PTZVector.
func aimOf(n *node) *picture.Aim {
	pt, z := n.at("PanTilt"), n.at("Zoom")
	if pt == nil && z == nil {
		return nil
	}
	v := func(n *node, name string) float64 { return (&node{text: n.attr(name)}).float() }
	return &picture.Aim{Pan: v(pt, "x"), Tilt: v(pt, "y"), Zoom: v(z, "x")}
}

func (c *Client) presets(ctx context.Context, at, profile string) (out []picture.Preset, err error) {
	r, err := c.optional(ctx, at, ptzNS, "GetPresets", element("ProfileToken", profile))
	if r == nil {
		return nil, err
	}
	for _, n := range r.all("Preset") {
		if len(out) < maxPresets {
			out = append(out, picture.Preset{Token: n.attr("token"), Name: dial.CleanText(n.str("Name"), maxWord), At: aimOf(n.at("PTZPosition"))})
		}
	}
	return out, nil
}

// Aim reads where it looks; nil where it doesn't tell.
func (c *Client) Aim(ctx context.Context, services map[string]string, profile string) (*picture.Aim, error) {
	a, _, err := c.aim(ctx, services[ptzNS], profile)
	return a, err
}

// Waiting for a camera that turns.
const (
	turnLimit = 8 * time.Second
	turnEvery = 100 * time.Millisecond
)

// Turn sends it to an aim and waits until it stands there, 8 s at the most (AbsoluteMove,
// GetStatus).
func (c *Client) Turn(ctx context.Context, services map[string]string, profile string, to picture.Aim, axes []picture.Axis) error {
	at := services[ptzNS]
	if _, err := c.call(ctx, at, ptzNS, "AbsoluteMove", `<AbsoluteMove xmlns="`+ptzNS+`" xmlns:tt="`+schemaNS+`">`+element("ProfileToken", profile)+
		"<Position>"+position(to, axes)+"</Position></AbsoluteMove>", CallLimit); err != nil {
		return err
	}
	return c.stands(ctx, at, "AbsoluteMove", profile, to)
}

// position writes an aim on the axes that can be sent to a place.
func position(to picture.Aim, axes []picture.Axis) string {
	var inner strings.Builder
	if slices.Contains(axes, picture.Pan) || slices.Contains(axes, picture.Tilt) {
		fmt.Fprintf(&inner, `<tt:PanTilt x="%.4f" y="%.4f"/>`, to.Pan, to.Tilt)
	}
	if slices.Contains(axes, picture.Zoom) {
		fmt.Fprintf(&inner, `<tt:Zoom x="%.4f"/>`, to.Zoom)
	}
	return inner.String()
}

// Call sends it to a preset and waits until it stands there, 8 s at the most (GotoPreset).
func (c *Client) Call(ctx context.Context, services map[string]string, profile, token string, to picture.Aim) error {
	at := services[ptzNS]
	if _, err := c.call(ctx, at, ptzNS, "GotoPreset", `<GotoPreset xmlns="`+ptzNS+`">`+element("ProfileToken", profile)+element("PresetToken", token)+`</GotoPreset>`, CallLimit); err != nil {
		return err
	}
	return c.stands(ctx, at, "GotoPreset", profile, to)
}

// stands waits until it stands at an aim.
func (c *Client) stands(ctx context.Context, at, tried, profile string, to picture.Aim) error {
	ctx, cancel := context.WithTimeout(ctx, turnLimit)
	defer cancel()
	for {
		a, still, err := c.aim(ctx, at, profile)
		switch {
		case err != nil:
			return err
		case a != nil && still && a.Near(to):
			return nil
		}
		select {
		case <-ctx.Done():
			return &dial.Error{Tried: tried, On: c.host.Addr.String(), Kind: dial.ErrRefused, Says: fmt.Sprintf("it wasn't there after %v", turnLimit)}
		case <-time.After(turnEvery):
		}
	}
}

// Remember saves where it looks by a name: the preset of that name is set anew, or one is made
// (SetPreset); Forget removes it (RemovePreset).
func (c *Client) Remember(ctx context.Context, services map[string]string, profile, name string) error {
	token, err := c.presetOf(ctx, services[ptzNS], profile, name)
	if err != nil {
		return err
	}
	inner := element("ProfileToken", profile) + element("PresetName", name)
	if token != "" {
		inner += element("PresetToken", token)
	}
	_, err = c.call(ctx, services[ptzNS], ptzNS, "SetPreset", `<SetPreset xmlns="`+ptzNS+`">`+inner+`</SetPreset>`, CallLimit)
	return err
}

// Forget removes the preset of a name.
func (c *Client) Forget(ctx context.Context, services map[string]string, profile, name string) error {
	token, err := c.presetOf(ctx, services[ptzNS], profile, name)
	if err != nil || token == "" {
		return err
	}
	_, err = c.call(ctx, services[ptzNS], ptzNS, "RemovePreset", `<RemovePreset xmlns="`+ptzNS+`">`+element("ProfileToken", profile)+element("PresetToken", token)+`</RemovePreset>`, CallLimit)
	return err
}

func (c *Client) presetOf(ctx context.Context, at, profile, name string) (string, error) {
	all, err := c.presets(ctx, at, profile)
	for _, p := range all {
		if p.Name == name {
			return p.Token, err
		}
	}
	return "", err
}

package onvif

import (
	"context"
	"fmt"
	"strings"
	"time"

	"duskyharbor/internal/core/picture"
)

// Spaces of what is asked by hand (ONVIF PTZ, 5.8).
const acrossSpace = "http://www.onvif.org/ver10/tptz/PanTiltSpaces/TranslationSpaceFov"

// steerLimit is how long a camera may take to answer a hand: a key that is held is told again soon.
const steerLimit = 2 * time.Second

// Steer sets it moving at a velocity, until it is told otherwise or the limit is over: the camera then stops by itself,
// whoever is gone by then (ContinuousMove with Timeout; ONVIF PTZ, 5.3.3).
func (c *Client) Steer(ctx context.Context, services map[string]string, profile string, v picture.Push, limit time.Duration) error {
	var inner strings.Builder
	if v.Pan != 0 || v.Tilt != 0 {
		fmt.Fprintf(&inner, `<tt:PanTilt x="%.4f" y="%.4f"/>`, v.Pan, v.Tilt)
	}
	if v.Zoom != 0 {
		fmt.Fprintf(&inner, `<tt:Zoom x="%.4f"/>`, v.Zoom)
	}
	return c.ptzCall(ctx, services, "ContinuousMove", element("ProfileToken", profile)+"<Velocity>"+inner.String()+"</Velocity>"+
		element("Timeout", fmt.Sprintf("PT%.1fS", limit.Seconds())))
}

// Halt stops it (Stop).
func (c *Client) Halt(ctx context.Context, services map[string]string, profile string) error {
	return c.ptzCall(ctx, services, "Stop", element("ProfileToken", profile)+"<PanTilt>true</PanTilt><Zoom>true</Zoom>")
}

// Across sets it moving by parts of what it sees (RelativeMove in the translation space that goes by the field of view).
func (c *Client) Across(ctx context.Context, services map[string]string, profile string, pan, tilt float64) error {
	return c.ptzCall(ctx, services, "RelativeMove", element("ProfileToken", profile)+
		fmt.Sprintf(`<Translation><tt:PanTilt x="%.4f" y="%.4f" space="%s"/></Translation>`, pan, tilt, acrossSpace))
}

// Send sets it moving to an aim, or to a preset where its token is given, and waits for nothing.
func (c *Client) Send(ctx context.Context, services map[string]string, profile, preset string, to picture.Aim, axes []picture.Axis) error {
	if preset != "" {
		return c.ptzCall(ctx, services, "GotoPreset", element("ProfileToken", profile)+element("PresetToken", preset))
	}
	return c.ptzCall(ctx, services, "AbsoluteMove", element("ProfileToken", profile)+"<Position>"+position(to, axes)+"</Position>")
}

// ptzCall asks the PTZ service for something that answers nothing.
func (c *Client) ptzCall(ctx context.Context, services map[string]string, op, inner string) error {
	_, err := c.call(ctx, services[ptzNS], ptzNS, op, `<`+op+` xmlns="`+ptzNS+`" xmlns:tt="`+schemaNS+`">`+inner+`</`+op+`>`, steerLimit)
	return err
}

// Settled waits until it stands still, and says where; limit is how long at the most.
func (c *Client) Settled(ctx context.Context, services map[string]string, profile string, limit time.Duration) (*picture.Aim, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for {
		a, still, err := c.aim(ctx, services[ptzNS], profile)
		if err != nil || still {
			return a, err
		}
		select {
		case <-ctx.Done():
			return a, nil
		case <-time.After(turnEvery):
		}
	}
}

package onvif

import (
	"context"
	"errors"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// profiles1 is Profiles over Media ver10, for devices that know no other (ONVIF Media
// Service Specification, 5.2 and 5.15).
func (c *Client) profiles1(ctx context.Context, at string) ([]stream.Profile, error) {
	r, err := c.call(ctx, at, media1NS, "GetProfiles", `<GetProfiles xmlns="`+media1NS+`"/>`, CallLimit)
	if err != nil {
		return nil, err
	}
	var out []stream.Profile
	for _, n := range r.all("Profiles") {
		enc := n.at("VideoEncoderConfiguration")
		if enc == nil || len(out) >= maxProfiles {
			continue
		}
		p := stream.Profile{Token: n.attr("token"), Name: n.str("Name"), PTZ: n.at("PTZConfiguration").attr("token"),
			Source: n.str("VideoSourceConfiguration", "SourceToken"), View: n.str("VideoSourceConfiguration",
				"Name"), SourceConfig: n.at("VideoSourceConfiguration").attr("token"),
			Codec: codec(enc.str("Encoding")), Width: enc.num("Resolution", "Width"), Height: enc.num("Resolution",
				"Height"), FPS: rateOf(enc), Kbps: enc.num("RateControl", "BitrateLimit"),
			GOP: groupOf(enc), Fine: fine(enc), Cast: cast(enc), Encoder: enc.attr("token"), Metadata: n.at("MetadataConfiguration") != nil, Analytics: n.at("VideoAnalyticsConfiguration").attr("token")}
		sound := n.at("AudioEncoderConfiguration")
		p.Sound = stream.Sound{Codec: stream.SoundCodec(sound.str("Encoding")), Encoder: sound.attr("token")}
		out = append(out, p)
	}
	return out, nil
}

// addresses1 is Addresses over Media ver10.
func (c *Client) addresses1(ctx context.Context, at string, p *stream.Profile) error {
	u, err := c.call(ctx, at, media1NS, "GetStreamUri",
		`<GetStreamUri xmlns="`+media1NS+`" xmlns:tt="`+schemaNS+`"><StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport></StreamSetup><ProfileToken>`+escape(p.Token)+`</ProfileToken></GetStreamUri>`, CallLimit)
	if err != nil {
		return err
	}
	p.Given = stream.WithoutAccount(u.str("MediaUri", "Uri"))
	if p.URI, p.Repaired, err = stream.RepairHost(p.Given, c.host.Addr); err != nil {
		return &dial.Error{Tried: "GetStreamUri", On: c.host.Addr.String(), Kind: dial.ErrMalformed, Says: err.Error()}
	}
	s, err := c.call(ctx, at, media1NS, "GetSnapshotUri",
		`<GetSnapshotUri xmlns="`+media1NS+`"><ProfileToken>`+escape(p.Token)+`</ProfileToken></GetSnapshotUri>`, CallLimit)
	switch {
	case err == nil:
		p.Snapshot, _, _ = stream.RepairHost(s.str("MediaUri", "Uri"), c.host.Addr)
	case !errors.Is(err, dial.ErrNotSupported) && !errors.Is(err, dial.ErrRefused):
		return err
	}
	return nil
}

// VideoSources lists the video sources that the device's profiles show, in their order. It
// asks for the profiles alone, not for their addresses.
func (c *Client) VideoSources(ctx context.Context, services map[string]string) ([]stream.VideoSource, error) {
	ns, at := mediaNS, services[mediaNS]
	body := `<GetProfiles xmlns="` + mediaNS + `"><Type>VideoSource</Type></GetProfiles>`
	path := []string{"Configurations", "VideoSource"}
	if at == "" {
		if at = services[media1NS]; at == "" {
			return nil, nil
		}
		ns, body, path = media1NS, `<GetProfiles xmlns="`+media1NS+`"/>`, []string{"VideoSourceConfiguration"}
	}
	r, err := c.call(ctx, at, ns, "GetProfiles", body, CallLimit)
	if err != nil {
		return nil, err
	}
	var out []stream.VideoSource
	seen := map[string]bool{}
	for _, n := range r.all("Profiles") {
		v := stream.VideoSource{Token: n.at(path...).str("SourceToken"), Name: n.at(path...).str("Name")}
		if v.Token != "" && !seen[v.Token] && len(out) < maxProfiles {
			seen[v.Token] = true
			if v.Name == "" {
				v.Name = v.Token
			}
			out = append(out, v)
		}
	}
	return out, nil
}

// Text is how a device burns date and time into its picture (OSDs of ONVIF Media2,
// 5.10, and Media ver10, 5.14).
type Text struct {
	Token, Configuration string
	Dates, Times         string // tt:DateFormat, tt:TimeFormat
	Place                string // tt:Position's type
}

// Texts reads them; the first that carries date or time is what is judged.
func (c *Client) Texts(ctx context.Context, services map[string]string) ([]Text, error) {
	ns, at := c.media(services)
	if at == "" {
		return nil, nil
	}
	r, err := c.call(ctx, at, ns, "GetOSDs", `<GetOSDs xmlns="`+ns+`"/>`, CallLimit)
	if err != nil {
		return nil, err
	}
	var out []Text
	for _, n := range r.all("OSDs") {
		s := n.at("TextString")
		t := Text{Token: n.attr("token"), Configuration: n.str("VideoSourceConfigurationToken"),
			Dates: s.str("DateFormat"), Times: s.str("TimeFormat"), Place: n.str("Position", "Type")}
		if (t.Dates != "" || t.Times != "") && len(out) < 16 {
			out = append(out, t)
		}
	}
	return out, nil
}

// SetText writes one of them.
func (c *Client) SetText(ctx context.Context, services map[string]string, t Text) error {
	ns, at := c.media(services)
	place := t.Place
	if place == "" {
		place = "UpperLeft"
	}
	body := `<SetOSD xmlns="` + ns + `" xmlns:tt="` + schemaNS + `"><OSD token="` + escape(t.Token) + `"><tt:VideoSourceConfigurationToken>` + escape(t.Configuration) + `</tt:VideoSourceConfigurationToken><tt:Type>Text</tt:Type><tt:Position><tt:Type>` + escape(place) +
		`</tt:Type></tt:Position><tt:TextString><tt:Type>DateAndTime</tt:Type><tt:DateFormat>` + escape(t.Dates) + `</tt:DateFormat><tt:TimeFormat>` + escape(t.Times) + `</tt:TimeFormat></tt:TextString></OSD></SetOSD>`
	_, err := c.call(ctx, at, ns, "SetOSD", body, CallLimit)
	return err
}

func (c *Client) media(services map[string]string) (ns, at string) {
	if at = services[mediaNS]; at != "" {
		return mediaNS, at
	}
	return media1NS, services[media1NS]
}

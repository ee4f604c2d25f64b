package onvif

import (
	"context"
	"errors"
	"strings"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// maxProfiles is how many media profiles of a device are read.
const maxProfiles = 32

// Profiles reads the media profiles with encoder settings (GetProfiles, ONVIF Media2; Media
// where a device knows no other), at most 32. Addresses reads where each one is had.
func (c *Client) Profiles(ctx context.Context, services map[string]string) ([]stream.Profile, error) {
	at, ok := services[mediaNS]
	if !ok && services[media1NS] != "" {
		return c.profiles1(ctx, services[media1NS])
	}
	if !ok {
		return nil, &dial.Error{Tried: "GetProfiles", On: c.host.Addr.String(), Kind: dial.ErrNotSupported,
			Says: "it offers no Media2 service"}
	}
	r, err := c.call(ctx, at, mediaNS, "GetProfiles",
		`<GetProfiles xmlns="`+mediaNS+`"><Type>VideoSource</Type><Type>VideoEncoder</Type><Type>AudioEncoder</Type><Type>AudioDecoder</Type><Type>Metadata</Type><Type>Analytics</Type><Type>PTZ</Type></GetProfiles>`, CallLimit)
	if err != nil {
		return nil, err
	}
	var out []stream.Profile
	speakers := map[string][]int{} // decoders of sound, with the profiles that have them
	for _, n := range r.all("Profiles") {
		enc := n.at("Configurations", "VideoEncoder")
		if enc == nil || len(out) >= maxProfiles {
			continue
		}
		p := stream.Profile{Token: n.attr("token"), Name: n.str("Name"),
			Source: n.str("Configurations", "VideoSource", "SourceToken"), View: n.str("Configurations", "VideoSource",
				"Name"), SourceConfig: n.at("Configurations", "VideoSource").attr("token"),
			Codec: codec(enc.str("Encoding")), Width: enc.num("Resolution", "Width"), Height: enc.num("Resolution", "Height"),
			FPS: rateOf(enc), Kbps: enc.num("RateControl", "BitrateLimit"),
			Metadata: n.at("Configurations", "Metadata") != nil, Analytics: n.at("Configurations", "Analytics").attr("token")}
		p.GOP, p.Fine, p.Encoder, p.PTZ = groupOf(enc), fine(enc), enc.attr("token"), n.at("Configurations", "PTZ").attr("token")
		p.Cast = cast(enc)
		sound := n.at("Configurations", "AudioEncoder")
		p.Sound = stream.Sound{Codec: stream.SoundCodec(sound.str("Encoding")), Encoder: sound.attr("token")}
		if d := n.at("Configurations", "AudioDecoder"); d != nil {
			speakers[d.attr("token")] = append(speakers[d.attr("token")], len(out))
		}
		out = append(out, p)
	}
	for token, of := range speakers { // which sound its speaker takes
		takes, err := c.soundCodecs(ctx, at, "GetAudioDecoderConfigurationOptions", token)
		if err != nil {
			return nil, err
		}
		for _, i := range of {
			out[i].Sound.Takes = takes
		}
	}
	return out, nil
}

// codec brings an encoding to the names of Media2: "H264", "H265", "JPEG".
func codec(s string) string {
	return strings.ToUpper(strings.NewReplacer(".", "", "-", "").Replace(s))
}

// Addresses reads where a profile's stream and still are had (GetStreamUri, GetSnapshotUri),
// brought to where the device was reached. A device may have no still.
func (c *Client) Addresses(ctx context.Context, services map[string]string, p *stream.Profile) error {
	at, ok := services[mediaNS]
	if !ok {
		return c.addresses1(ctx, services[media1NS], p)
	}
	r, err := c.call(ctx, at, mediaNS, "GetStreamUri",
		`<GetStreamUri xmlns="`+mediaNS+`"><Protocol>RTSP</Protocol><ProfileToken>`+escape(p.Token)+`</ProfileToken></GetStreamUri>`, CallLimit)
	if err != nil {
		return err
	}
	p.Given = stream.WithoutAccount(r.str("Uri"))
	if p.URI, p.Repaired, err = stream.RepairHost(p.Given, c.host.Addr); err != nil {
		return &dial.Error{Tried: "GetStreamUri", On: c.host.Addr.String(), Kind: dial.ErrMalformed, Says: err.Error()}
	}
	if err := c.secureAddress(ctx, at, p); err != nil {
		return err
	}
	s, err := c.call(ctx, at, mediaNS, "GetSnapshotUri",
		`<GetSnapshotUri xmlns="`+mediaNS+`"><ProfileToken>`+escape(p.Token)+`</ProfileToken></GetSnapshotUri>`, CallLimit)
	switch {
	case err == nil:
		p.Snapshot, _, _ = stream.RepairHost(s.str("Uri"), c.host.Addr)
	case !errors.Is(err, dial.ErrNotSupported) && !errors.Is(err, dial.ErrRefused):
		return err // a camera may have no still; it may not vanish in between
	}
	return nil
}

// secureAddress reads where the profile is had over TLS (Media2, 5.1.1: RtspsUnicast), where the
// device says that it offers that.
func (c *Client) secureAddress(ctx context.Context, at string, p *stream.Profile) error {
	if c.secure == nil {
		r, err := c.call(ctx, at, mediaNS, "GetServiceCapabilities", `<GetServiceCapabilities xmlns="`+mediaNS+`"/>`, CallLimit)
		if err = untold(err); err != nil {
			return err
		}
		offers := r.at("Capabilities", "StreamingCapabilities").attr("SecureRTSPStreaming")
		c.secure = new(bool)
		*c.secure = offers == "true" || offers == "1"
	}
	if !*c.secure {
		return nil
	}
	r, err := c.call(ctx, at, mediaNS, "GetStreamUri",
		`<GetStreamUri xmlns="`+mediaNS+`"><Protocol>RtspsUnicast</Protocol><ProfileToken>`+escape(p.Token)+`</ProfileToken></GetStreamUri>`, CallLimit)
	if err != nil {
		return untold(err)
	}
	if p.Secure, _, err = stream.RepairHost(r.str("Uri"), c.host.Addr); err != nil || !strings.HasPrefix(p.Secure, "rtsps://") {
		p.Secure = ""
	}
	return nil
}

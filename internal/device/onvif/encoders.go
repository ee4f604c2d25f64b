package onvif

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"

	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/device/dial"
)

// Limits of what is kept of a device's options.
const (
	maxOptions = 16
	maxSizes   = 64
	maxLevel   = 32 // characters of a codec's profile
)

// Options reads what the encoder of a profile can be set to, and what its sound can, into the
// profile (GetVideoEncoderConfigurationOptions, ONVIF Media2, 5.3.4; Media, 5.6.5). A device
// that doesn't tell leaves them empty.
func (c *Client) Options(ctx context.Context, services map[string]string, p *stream.Profile) error {
	ns, at := c.media(services)
	if at == "" || p.Encoder == "" {
		return nil
	}
	r, err := c.call(ctx, at, ns, "GetVideoEncoderConfigurationOptions", `<GetVideoEncoderConfigurationOptions xmlns="`+ns+`"><ConfigurationToken>`+escape(p.Encoder)+
		`</ConfigurationToken></GetVideoEncoderConfigurationOptions>`, CallLimit)
	if err != nil {
		return untold(err)
	}
	if ns == mediaNS {
		p.Options = options2(r)
	} else {
		p.Options = options1(r)
	}
	if p.Sound.Encoder != "" && ns == mediaNS {
		if p.Sound.Options, err = c.soundCodecs(ctx, at, "GetAudioEncoderConfigurationOptions", p.Sound.Encoder); err != nil {
			return err
		}
	}
	return nil
}

// untold drops the trouble of a device that doesn't know a call, won't answer it, or answers
// what can't be read.
func untold(err error) error {
	if errors.Is(err, dial.ErrNotSupported) || errors.Is(err, dial.ErrRefused) || errors.Is(err, dial.ErrMalformed) {
		return nil
	}
	return err
}

func (c *Client) soundCodecs(ctx context.Context, at, op, token string) ([]string, error) {
	r, err := c.call(ctx, at, mediaNS, op, `<`+op+` xmlns="`+mediaNS+`"><ConfigurationToken>`+escape(token)+`</ConfigurationToken></`+op+`>`, CallLimit)
	if err != nil {
		return nil, untold(err)
	}
	var out []string
	for _, n := range r.all("Options") {
		if codec := stream.SoundCodec(n.str("Encoding")); codec != "" && len(out) < maxOptions {
			out = append(out, codec)
		}
	}
	return out, nil
}

// options2 reads the answer of Media2: one element a codec, ranges as lists in attributes.
func options2(r *node) (out []stream.Options) {
	for _, n := range r.all("Options") {
		if len(out) >= maxOptions {
			break
		}
		o := stream.Options{Codec: codec(n.str("Encoding")), Sizes: sizes(n.all("ResolutionsAvailable")),
			MinKbps: n.num("BitrateRange", "Min"), MaxKbps: n.num("BitrateRange", "Max")}
		for _, f := range strings.Fields(n.attr("FrameRatesSupported")) {
			if v, err := strconv.ParseFloat(f, 64); err == nil && v > 0 && v <= 1000 && len(o.Rates) < maxSizes {
				o.Rates = append(o.Rates, v)
			}
		}
		if g := strings.Fields(n.attr("GovLengthRange")); len(g) > 0 {
			o.MinGOP, o.MaxGOP = (&node{text: g[0]}).num(), (&node{text: g[len(g)-1]}).num()
		}
		o.Levels = levels(strings.Fields(n.attr("ProfilesSupported")))
		o.Constant = yes(n.attr("ConstantBitRateSupported"))
		o.MinQuality, o.MaxQuality = n.float("QualityRange", "Min"), n.float("QualityRange", "Max")
		if o.Codec != "" {
			out = append(out, o)
		}
	}
	return out
}

// yes reads an xs:boolean.
func yes(text string) bool { return text == "true" || text == "1" }

// levels keeps what a device may name as profiles of a codec (tt:VideoEncodingProfiles).
func levels(all []string) (out []string) {
	for _, l := range all {
		if len(out) < maxOptions && len(l) <= maxLevel {
			out = append(out, l)
		}
	}
	return out
}

// fine is what an encoder tells besides codec, size and limits.
func fine(n *node) stream.Fine {
	f := stream.Fine{Quality: n.float("Quality"), Level: n.attr("Profile")}
	if f.Level == "" {
		f.Level = n.str("H264", "H264Profile")
	}
	if len(f.Level) > maxLevel {
		f.Level = ""
	}
	switch constant := n.at("RateControl").attr("ConstantBitRate"); {
	case yes(constant):
		f.Rate = stream.Constant
	case constant != "":
		f.Rate = stream.Variable
	}
	return f
}

// cast is what an encoder tells of the group that it sends to (tt:MulticastConfiguration); nil where it tells nothing.
func cast(n *node) *stream.Cast {
	m := n.at("Multicast")
	if m == nil {
		return nil
	}
	c := &stream.Cast{Port: min(max(m.num("Port"), 0), 65535), TTL: min(max(m.num("TTL"), 0), 255), On: yes(m.str("AutoStart"))}
	if a, err := netip.ParseAddr(m.str("Address", "IPv4Address")); err == nil && a.Is4() && !a.IsUnspecified() {
		c.Group = a.String()
	}
	return c
}

// Cast reads whether an encoder sends to a group, and to which.
func (c *Client) Cast(ctx context.Context, services map[string]string, token string) (stream.Cast, error) {
	n, err := c.encoder(ctx, services, token)
	if err != nil {
		return stream.Cast{}, err
	}
	if set := cast(n); set != nil {
		return *set, nil
	}
	return stream.Cast{}, &dial.Error{Tried: "GetVideoEncoderConfigurations", On: c.on(), Kind: dial.ErrNotSupported, Says: "it doesn't tell whether it sends to a group"}
}

// SetCast has a profile's stream sent to a group, or to none (StartMulticastStreaming and StopMulticastStreaming, ONVIF
// Media2 and Media). It is stopped before its group is set otherwise: what is on its way keeps to the one of before.
func (c *Client) SetCast(ctx context.Context, services map[string]string, profile, encoder string, to stream.Cast) error {
	ns, at := c.media(services)
	turn := func(op string) error {
		_, err := c.call(ctx, at, ns, op, fmt.Sprintf(`<%s xmlns="%s"><ProfileToken>%s</ProfileToken></%[1]s>`, op, ns, escape(profile)), CallLimit)
		return err
	}
	now, err := c.Cast(ctx, services, encoder)
	if err != nil {
		return err
	}
	if now.On {
		if err := turn("StopMulticastStreaming"); err != nil || !to.On {
			return err
		}
	}
	if !to.On {
		return nil
	}
	if now.On = true; now != to {
		set, err := c.Encoder(ctx, services, encoder)
		if err != nil {
			return err
		}
		group := fmt.Sprintf(`<tt:Multicast><tt:Address><tt:Type>IPv4</tt:Type><tt:IPv4Address>%s</tt:IPv4Address></tt:Address><tt:Port>%d</tt:Port><tt:TTL>%d</tt:TTL><tt:AutoStart>false</tt:AutoStart></tt:Multicast>`,
			escape(to.Group), to.Port, to.TTL)
		if err := c.setEncoder(ctx, services, set, group); err != nil {
			return err
		}
	}
	return turn("StartMulticastStreaming")
}

// options1 reads that of Media ver10: one element named for each codec; the range of bit
// rates stands in an extension.
func options1(r *node) (out []stream.Options) {
	of := r.at("Options")
	for _, name := range []string{"JPEG", "H264"} {
		n := of.at(name)
		if n == nil {
			continue
		}
		rate := of.at("Extension", name, "BitrateRange")
		var profiles []string
		for _, l := range n.all("H264ProfilesSupported") {
			profiles = append(profiles, l.str())
		}
		out = append(out, stream.Options{Codec: name, Levels: levels(profiles),
			MinQuality: of.float("QualityRange", "Min"), MaxQuality: of.float("QualityRange", "Max"), Sizes: sizes(n.all("ResolutionsAvailable")),
			MinFPS: n.float("FrameRateRange", "Min"), MaxFPS: n.float("FrameRateRange", "Max"),
			MinGOP: n.num("GovLengthRange", "Min"), MaxGOP: n.num("GovLengthRange", "Max"),
			MinKbps: rate.num("Min"), MaxKbps: rate.num("Max")})
	}
	return out
}

func sizes(all []*node) (out []stream.Size) {
	for _, n := range all {
		s := stream.Size{Width: n.num("Width"), Height: n.num("Height")}
		if s.Width > 0 && s.Height > 0 && s.Width <= 1<<15 && s.Height <= 1<<15 && len(out) < maxSizes {
			out = append(out, s)
		}
	}
	return out
}

// Encoder reads how a video encoder is set (GetVideoEncoderConfigurations of Media2;
// GetVideoEncoderConfiguration of Media ver10).
func (c *Client) Encoder(ctx context.Context, services map[string]string, token string) (stream.Encoder, error) {
	n, err := c.encoder(ctx, services, token)
	if err != nil {
		return stream.Encoder{}, err
	}
	e := stream.Encoder{Token: token, Codec: codec(n.str("Encoding")), Size: stream.Size{Width: n.num("Resolution", "Width"), Height: n.num("Resolution", "Height")},
		FPS: rateOf(n), Kbps: n.num("RateControl", "BitrateLimit"), GOP: groupOf(n), Fine: fine(n)}
	return e, nil
}

// rateOf is how many pictures a second an encoder sends at the most: of those that it takes, each
// EncodingInterval's (tt:VideoRateControl of Media ver10).
func rateOf(n *node) float64 {
	return n.float("RateControl", "FrameRateLimit") / float64(max(1, n.num("RateControl", "EncodingInterval")))
}

// groupOf is the number of frames from key frame to key frame: an attribute in Media2, an
// element of the codec in Media ver10.
func groupOf(n *node) int {
	if g := n.attr("GovLength"); g != "" {
		return (&node{text: g}).num()
	}
	return n.num("H264", "GovLength")
}

func (c *Client) encoder(ctx context.Context, services map[string]string, token string) (*node, error) {
	ns, at := c.media(services)
	const op = "GetVideoEncoderConfigurations"
	body := `<` + op + ` xmlns="` + ns + `">`
	if ns == mediaNS {
		body += `<ConfigurationToken>` + escape(token) + `</ConfigurationToken>`
	}
	r, err := c.call(ctx, at, ns, op, body+`</`+op+`>`, CallLimit)
	if err != nil {
		return nil, err
	}
	for _, n := range r.all("Configurations") {
		if n.attr("token") == token {
			return n, nil
		}
	}
	return nil, &dial.Error{Tried: op, On: c.on(), Kind: dial.ErrMalformed, Says: "it has no encoder " + token + " any more"}
}

// SetEncoder sets a video encoder (SetVideoEncoderConfiguration). What isn't given here stays
// as the device tells it now: its name, quality, multicast and session.
func (c *Client) SetEncoder(ctx context.Context, services map[string]string, e stream.Encoder) error {
	return c.setEncoder(ctx, services, e, "")
}

// setEncoder sets a video encoder, and where it sends to; with group empty that stays.
func (c *Client) setEncoder(ctx context.Context, services map[string]string, e stream.Encoder, group string) error {
	n, err := c.encoder(ctx, services, e.Token)
	if err != nil {
		return err
	}
	if group == "" {
		group = n.copied("Multicast")
	}
	ns, at := c.media(services)
	const op = "SetVideoEncoderConfiguration"
	var b strings.Builder
	fmt.Fprintf(&b, `<%s xmlns="%s" xmlns:tt="%s"><Configuration token="%s"`, op, ns, schemaNS, escape(e.Token))
	if ns == mediaNS {
		if e.GOP > 0 {
			fmt.Fprintf(&b, ` GovLength="%d"`, e.GOP)
		}
		level := e.Level
		if level == "" && codec(n.str("Encoding")) == e.Codec {
			level = n.attr("Profile")
		}
		if level != "" {
			fmt.Fprintf(&b, ` Profile="%s"`, escape(level))
		}
	}
	fmt.Fprintf(&b, `><tt:Name>%s</tt:Name><tt:UseCount>%d</tt:UseCount><tt:Encoding>%s</tt:Encoding><tt:Resolution><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></tt:Resolution>`,
		escape(n.str("Name")), n.num("UseCount"), escape(e.Codec), e.Width, e.Height)
	rate := fmt.Sprintf(`<tt:FrameRateLimit>%s</tt:FrameRateLimit>`, strconv.FormatFloat(e.FPS, 'f', -1, 64))
	quality := n.str("Quality")
	switch {
	case e.Quality > 0:
		quality = strconv.FormatFloat(e.Quality, 'f', -1, 64)
	case quality == "":
		quality = "5"
	}
	if ns == mediaNS {
		b.WriteString(rateControl2(n, e, rate))
		fmt.Fprintf(&b, `%s<tt:Quality>%s</tt:Quality>`, group, escape(quality))
	} else {
		every := max(1, n.num("RateControl", "EncodingInterval"))
		rate = fmt.Sprintf(`<tt:FrameRateLimit>%d</tt:FrameRateLimit>`, max(1, int(math.Round(e.FPS*float64(every))))) // ver10 knows whole ones alone
		fmt.Fprintf(&b, `<tt:Quality>%s</tt:Quality><tt:RateControl>%s<tt:EncodingInterval>%d</tt:EncodingInterval><tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl>`, escape(quality), rate, every, e.Kbps)
		if e.Codec == "H264" {
			level := cmp.Or(e.Level, n.str("H264", "H264Profile"), "Main")
			fmt.Fprintf(&b, `<tt:H264><tt:GovLength>%d</tt:GovLength><tt:H264Profile>%s</tt:H264Profile></tt:H264>`, e.GOP, escape(level))
		}
		fmt.Fprintf(&b, `%s%s`, group, n.copied("SessionTimeout"))
	}
	b.WriteString(`</Configuration>`)
	if ns != mediaNS {
		b.WriteString(`<ForcePersistence>true</ForcePersistence>`)
	}
	_, err = c.call(ctx, at, ns, op, b.String()+`</`+op+`>`, CallLimit)
	return err
}

// rateControl2 is the limits of an encoder as Media2 writes them; an encoder that has none is given none.
func rateControl2(n *node, e stream.Encoder, rate string) string {
	if e.FPS <= 0 && e.Kbps <= 0 {
		return ""
	}
	constant := n.at("RateControl").attr("ConstantBitRate")
	if e.Rate != "" {
		constant = strconv.FormatBool(e.Rate == stream.Constant)
	}
	if constant != "" {
		constant = ` ConstantBitRate="` + escape(constant) + `"`
	}
	return fmt.Sprintf(`<tt:RateControl%s>%s<tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl>`, constant, rate, e.Kbps)
}

// copied is a child as it came.
func (n *node) copied(local string) string {
	k := n.child("", local)
	if k == nil {
		return ""
	}
	return k.xml()
}

// SoundCodec reads how a device's sound is coded (GetAudioEncoderConfigurations, Media2).
func (c *Client) SoundCodec(ctx context.Context, services map[string]string, token string) (string, error) {
	n, err := c.sound(ctx, services, token)
	if err != nil {
		return "", err
	}
	return stream.SoundCodec(n.str("Encoding")), nil
}

func (c *Client) sound(ctx context.Context, services map[string]string, token string) (*node, error) {
	r, err := c.call(ctx, services[mediaNS], mediaNS, "GetAudioEncoderConfigurations",
		`<GetAudioEncoderConfigurations xmlns="`+mediaNS+`"><ConfigurationToken>`+escape(token)+`</ConfigurationToken></GetAudioEncoderConfigurations>`, CallLimit)
	if err != nil {
		return nil, err
	}
	for _, n := range r.all("Configurations") {
		if n.attr("token") == token {
			return n, nil
		}
	}
	return nil, &dial.Error{Tried: "GetAudioEncoderConfigurations", On: c.on(), Kind: dial.ErrMalformed, Says: "it has no sound encoder " + token + " any more"}
}

// SetSoundCodec has a device code its sound otherwise, at the first bit and sample rate that it
// offers for that (SetAudioEncoderConfiguration, Media2).
func (c *Client) SetSoundCodec(ctx context.Context, services map[string]string, token, want string) error {
	n, err := c.sound(ctx, services, token)
	if err != nil {
		return err
	}
	at := services[mediaNS]
	r, err := c.call(ctx, at, mediaNS, "GetAudioEncoderConfigurationOptions",
		`<GetAudioEncoderConfigurationOptions xmlns="`+mediaNS+`"><ConfigurationToken>`+escape(token)+`</ConfigurationToken></GetAudioEncoderConfigurationOptions>`, CallLimit)
	if err != nil {
		return err
	}
	for _, o := range r.all("Options") {
		if stream.SoundCodec(o.str("Encoding")) != want {
			continue
		}
		_, err := c.call(ctx, at, mediaNS, "SetAudioEncoderConfiguration", fmt.Sprintf(
			`<SetAudioEncoderConfiguration xmlns="%s" xmlns:tt="%s"><Configuration token="%s"><tt:Name>%s</tt:Name><tt:UseCount>%d</tt:UseCount><tt:Encoding>%s</tt:Encoding>%s<tt:Bitrate>%d</tt:Bitrate><tt:SampleRate>%d</tt:SampleRate></Configuration></SetAudioEncoderConfiguration>`,
			mediaNS, schemaNS, escape(token), escape(n.str("Name")), n.num("UseCount"), escape(o.str("Encoding")), n.copied("Multicast"),
			o.num("BitrateList", "Items"), o.num("SampleRateList", "Items")), CallLimit)
		return err
	}
	return &dial.Error{Tried: "SetAudioEncoderConfiguration", On: c.on(), Kind: dial.ErrNotSupported, Says: "it doesn't offer " + stream.PrettySound(want)}
}

// HasSound reads whether a profile sends sound (GetProfiles).
func (c *Client) HasSound(ctx context.Context, services map[string]string, profile string) (bool, error) {
	ns, at := c.media(services)
	body, path := `<GetProfiles xmlns="`+ns+`"/>`, []string{"AudioEncoderConfiguration"}
	if ns == mediaNS {
		body = `<GetProfiles xmlns="` + mediaNS + `"><Token>` + escape(profile) + `</Token><Type>AudioEncoder</Type></GetProfiles>`
		path = []string{"Configurations", "AudioEncoder"}
	}
	r, err := c.call(ctx, at, ns, "GetProfiles", body, CallLimit)
	if err != nil {
		return false, err
	}
	for _, n := range r.all("Profiles") {
		if n.attr("token") == profile {
			return n.at(path...) != nil, nil
		}
	}
	return false, &dial.Error{Tried: "GetProfiles", On: c.on(), Kind: dial.ErrMalformed, Says: "it has no profile " + profile + " any more"}
}

// SetHasSound takes sound out of a profile, or puts an encoder's in (RemoveConfiguration and
// AddConfiguration of Media2, 5.2; Remove- and AddAudioEncoderConfiguration of Media ver10).
func (c *Client) SetHasSound(ctx context.Context, services map[string]string, profile, encoder string, on bool) error {
	ns, at := c.media(services)
	verb := "Remove"
	if on {
		verb = "Add"
	}
	op, inner := verb+"AudioEncoderConfiguration", ""
	switch token := escape(encoder); {
	case ns == mediaNS && on:
		op, inner = verb+"Configuration", `<Configuration><Type>AudioEncoder</Type><Token>`+token+`</Token></Configuration>`
	case ns == mediaNS:
		op, inner = verb+"Configuration", `<Configuration><Type>AudioEncoder</Type></Configuration>`
	case on:
		inner = `<ConfigurationToken>` + token + `</ConfigurationToken>`
	}
	_, err := c.call(ctx, at, ns, op, fmt.Sprintf(`<%s xmlns="%s"><ProfileToken>%s</ProfileToken>%s</%[1]s>`, op, ns, escape(profile), inner), CallLimit)
	return err
}

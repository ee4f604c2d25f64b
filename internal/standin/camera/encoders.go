package camera

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// jpegFPS is how many pictures a second this family's encoders make as JPEG.
const jpegFPS = 5

// encoder is how one profile's pictures are coded, as a client can set it.
type encoder struct {
	Codec string `json:"codec"` // "H264", "H265", "JPEG"
	Sub   bool   `json:"sub"`   // the small size
	Long  bool   `json:"long"`  // four seconds from key frame to key frame
	Kbps  int    `json:"kbps"`
}

func (e encoder) coding() footage.Coding {
	return footage.Coding{Codec: e.Codec, Sub: e.Sub, Long: e.Long}
}

func (e encoder) fps() int {
	if e.Codec == "JPEG" {
		return jpegFPS
	}
	return footage.FPS
}

func (e encoder) group() int64 {
	if e.Codec == "JPEG" {
		return 1
	}
	return e.coding().Group()
}

// scene is what a source looks at, in the light that there is.
func (c *Camera) scene(source int) footage.Scene {
	s := c.cfg.Scene
	if source > 0 && source <= len(c.cfg.Scenes) {
		s = c.cfg.Scenes[source-1]
	}
	c.mu.Lock()
	if c.turned.Scene != nil && source == 0 {
		s = *c.turned.Scene
	}
	c.mu.Unlock()
	s.Night = c.imagingOf(source).byNight(c.memory().Night)
	return s
}

// codecs that the encoder of a profile can be set to.
func (c *Camera) codecs(p profile) []string {
	var out []string
	for _, coding := range footage.Codings(c.scene(p.source)) {
		one := c.cfg.Manners.Media1 && coding.Codec == "H265" // Media ver10 has no word for it
		if !one && !slices.Contains(out, coding.Codec) {
			out = append(out, coding.Codec)
		}
	}
	if c.cfg.Manners.JPEG {
		out = append(out, "JPEG")
	}
	return out
}

// groups that it can be set to, in frames.
func (c *Camera) groups(p profile, codec string) []int64 {
	out := []int64{footage.FPS}
	switch {
	case codec == "JPEG":
		return []int64{1}
	case c.scene(p.source).Has(footage.Coding{Codec: codec, Long: true}):
		out = append(out, footage.LongGroup)
	}
	return out
}

// encoderOf is how a profile is coded now.
func (c *Camera) encoderOf(p profile) encoder {
	if e, ok := c.memory().Encoders[p.token]; ok {
		return e
	}
	e := encoder{Codec: c.codecs(p)[0], Sub: p.sub, Kbps: 2048}
	if p.sub {
		e.Kbps = 512
	}
	if slices.Contains(c.codecs(p), c.cfg.Manners.Codec) {
		e.Codec = c.cfg.Manners.Codec
	}
	e.Long = c.cfg.Manners.LongKeys && len(c.groups(p, e.Codec)) > 1
	return e
}

func (c *Camera) profile(token string) (profile, bool) {
	for _, p := range c.profiles() {
		if p.token == token {
			return p, true
		}
	}
	return profile{}, false
}

// setEncoder answers SetVideoEncoderConfiguration of both services. What it can't do it
// refuses; the number of frames between key frames becomes the nearest that it has.
func (c *Camera) setEncoder(op *wire.Node, ns string) (string, *fault) {
	conf := op.Find("Configuration")
	p, ok := c.profile(strings.TrimPrefix(conf.Attr("token"), "vec_"))
	if !ok {
		return "", sender("ter:InvalidArgVal/ter:NoConfig", "There is no such encoder.")
	}
	bad := sender("ter:InvalidArgVal/ter:ConfigModify", "The encoder can't be set so.")
	e := encoder{Codec: strings.ToUpper(conf.Get("Encoding"))}
	if !slices.Contains(c.codecs(p), e.Codec) {
		return "", bad
	}
	width, height := conf.Get("Width"), conf.Get("Height")
	for _, sub := range []bool{false, true} {
		if w, h := footage.Size(sub); width == strconv.Itoa(w) && height == strconv.Itoa(h) {
			e.Sub, ok = sub, false
		}
	}
	e.Kbps, _ = strconv.Atoi(conf.Get("BitrateLimit"))
	fps, err := strconv.ParseFloat(conf.Get("FrameRateLimit"), 64)
	if ok || err != nil || int(fps) != e.fps() || e.Kbps < 64 || e.Kbps > 4096 || e.Codec == "JPEG" && !e.Sub {
		return "", bad
	}
	gov := conf.Attr("GovLength")
	if gov == "" {
		gov = conf.Get("GovLength")
	}
	frames, _ := strconv.ParseInt(gov, 10, 64)
	e.Long = frames > (footage.FPS+footage.LongGroup)/2 && len(c.groups(p, e.Codec)) > 1
	c.change(func(m *memory) {
		all := map[string]encoder{p.token: e}
		for t, old := range m.Encoders {
			if t != p.token {
				all[t] = old
			}
		}
		m.Encoders = all
	})
	c.hangUp(p.token)
	return "<" + ns + ":SetVideoEncoderConfigurationResponse/>", nil
}

// encoderXML is an encoder's settings as Media2 writes them.
func (c *Camera) encoderXML(tag string, p profile) string {
	e := c.encoderOf(p)
	w, h := footage.Size(e.Sub)
	group := fmt.Sprintf(` GovLength="%d" Profile="Main"`, e.group())
	if e.Codec == "JPEG" {
		group = ""
	}
	return fmt.Sprintf(`<%s token="vec_%s"%s><tt:Name>%s encoder</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>%s</tt:Encoding><tt:Resolution><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></tt:Resolution><tt:RateControl ConstantBitRate="false"><tt:FrameRateLimit>%d</tt:FrameRateLimit><tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl><tt:Quality>6</tt:Quality></%s>`,
		tag, p.token, group, title(p.token), e.Codec, w, h, e.fps(), e.Kbps, tag)
}

// encoder1XML is the same as Media ver10 does.
func (c *Camera) encoder1XML(tag string, p profile) string {
	e := c.encoderOf(p)
	w, h := footage.Size(e.Sub)
	return fmt.Sprintf(`<%s token="vec_%s"><tt:Name>Encoder</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>%s</tt:Encoding><tt:Resolution><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></tt:Resolution><tt:Quality>6</tt:Quality><tt:RateControl><tt:FrameRateLimit>%d</tt:FrameRateLimit><tt:EncodingInterval>1</tt:EncodingInterval><tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl><tt:H264><tt:GovLength>%d</tt:GovLength><tt:H264Profile>Main</tt:H264Profile></tt:H264></%s>`,
		tag, p.token, e.Codec, w, h, e.fps(), e.Kbps, e.group(), tag)
}

func sizesXML(tag string, small bool) string {
	var b strings.Builder
	for _, sub := range []bool{false, true} {
		if w, h := footage.Size(sub); sub || !small {
			fmt.Fprintf(&b, `<%s><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></%[1]s>`, tag, w, h)
		}
	}
	return b.String()
}

// optionsXML is what an encoder can be set to (GetVideoEncoderConfigurationOptions).
func (c *Camera) optionsXML(op *wire.Node, one bool) (string, *fault) {
	p, ok := c.profile(strings.TrimPrefix(op.Get("ConfigurationToken"), "vec_"))
	if !ok {
		if p, ok = c.profile(op.Get("ProfileToken")); !ok {
			return "", sender("ter:InvalidArgVal/ter:NoConfig", "There is no such encoder.")
		}
	}
	var b strings.Builder
	for _, codec := range c.codecs(p) {
		groups, fps := c.groups(p, codec), encoder{Codec: codec}.fps()
		last := groups[len(groups)-1]
		if one {
			fmt.Fprintf(&b, `<tt:%s>%s<tt:GovLengthRange><tt:Min>%d</tt:Min><tt:Max>%d</tt:Max></tt:GovLengthRange><tt:FrameRateRange><tt:Min>%d</tt:Min><tt:Max>%[5]d</tt:Max></tt:FrameRateRange><tt:EncodingIntervalRange><tt:Min>1</tt:Min><tt:Max>1</tt:Max></tt:EncodingIntervalRange><tt:H264ProfilesSupported>Main</tt:H264ProfilesSupported></tt:%[1]s>`,
				codec, sizesXML("tt:ResolutionsAvailable", codec == "JPEG"), groups[0], last, fps)
			continue
		}
		gov := fmt.Sprintf(` GovLengthRange="%d %d"`, groups[0], last)
		if codec == "JPEG" {
			gov = ""
		}
		fmt.Fprintf(&b, `<tr2:Options%s FrameRatesSupported="%d" ProfilesSupported="Main" ConstantBitRateSupported="false"><tt:Encoding>%s</tt:Encoding><tt:QualityRange><tt:Min>0</tt:Min><tt:Max>10</tt:Max></tt:QualityRange>%s<tt:BitrateRange><tt:Min>64</tt:Min><tt:Max>4096</tt:Max></tt:BitrateRange></tr2:Options>`,
			gov, fps, codec, sizesXML("tt:ResolutionsAvailable", codec == "JPEG"))
	}
	if one {
		return `<trt:GetVideoEncoderConfigurationOptionsResponse><trt:Options><tt:QualityRange><tt:Min>0</tt:Min><tt:Max>10</tt:Max></tt:QualityRange>` + b.String() + `</trt:Options></trt:GetVideoEncoderConfigurationOptionsResponse>`, nil
	}
	return `<tr2:GetVideoEncoderConfigurationOptionsResponse>` + b.String() + `</tr2:GetVideoEncoderConfigurationOptionsResponse>`, nil
}

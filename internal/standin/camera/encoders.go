package camera

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/standin/footage"
	"duskyharbor/internal/standin/wire"
)

// jpegFPS is how many pictures a second this family's encoders make as JPEG.
const jpegFPS = 5

// encoder is how one profile's pictures are coded, as a client can set it.
type encoder struct {
	Codec    string  `json:"codec"` // "H264", "H265", "JPEG"
	Sub      bool    `json:"sub"`   // the small size
	Long     bool    `json:"long"`  // four seconds from key frame to key frame
	Slow     bool    `json:"slow,omitempty"`
	Kbps     int     `json:"kbps"`
	Constant bool    `json:"constant,omitempty"` // it fills up to Kbps
	Quality  float64 `json:"quality,omitempty"`  // 0: middling
}

// middling is the quality that encoders have at first.
const middling = 6

func (e encoder) quality() float64 {
	if e.Quality == 0 {
		return middling
	}
	return e.Quality
}

func (e encoder) coding() footage.Coding {
	return footage.Coding{Codec: e.Codec, Sub: e.Sub, Long: e.Long, Slow: e.Slow}
}

func (e encoder) fps() int {
	if e.Codec == "JPEG" {
		return jpegFPS
	}
	return e.coding().Rate()
}

// step is from which frame of the scene's time to the next one it sends.
func (e encoder) step() int64 { return footage.FPS / int64(e.fps()) }

// uncapped says whether the encoder knows no limit of its bit rate.
func (c *Camera) uncapped(e encoder) bool { return c.quirks().Depends && e.Codec == "H265" }

// rates are the frames a second that are offered in a codec, the most first.
func (c *Camera) rates(p profile, codec string) []int {
	switch {
	case codec == "JPEG":
		return []int{jpegFPS}
	case c.scene(p.source).Has(footage.Coding{Codec: codec, Slow: true}):
		return []int{footage.FPS, footage.SlowFPS}
	}
	return []int{footage.FPS}
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
	e := encoder{Codec: c.codecs(p)[0], Sub: p.sub, Kbps: 2048, Slow: c.quirks().Depends && !p.sub}
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
	if ok || e.Codec == "JPEG" && !e.Sub {
		return "", bad
	}
	if f := c.rated(&e, conf, p); f != nil {
		return "", f
	}
	if f := c.setCast(p, conf); f != nil {
		return "", f
	}
	gov := conf.Attr("GovLength")
	if gov == "" {
		gov = conf.Get("GovLength")
	}
	frames, _ := strconv.ParseInt(gov, 10, 64)
	e.Long = !e.Slow && frames > (footage.FPS+footage.LongGroup)/2 && len(c.groups(p, e.Codec)) > 1
	e.Quality, _ = strconv.ParseFloat(conf.Get("Quality"), 64)
	if e.Quality < 0 || e.Quality > 10 {
		return "", bad
	}
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
	c.castAnew(p)
	if c.quirks().RestartsOnSet {
		c.leave(1500 * time.Millisecond)
	}
	return "<" + ns + ":SetVideoEncoderConfigurationResponse/>", nil
}

// least is what a limit of the bit rate becomes at the least, where the camera takes any and says nothing.
const least = 1024

// rated takes frame rate and bit rate from a setting, or refuses them.
func (c *Camera) rated(e *encoder, conf *wire.Node, p profile) *fault {
	bad := sender("ter:InvalidArgVal/ter:ConfigModify", "The encoder can't be set so.")
	fps, err := strconv.ParseFloat(conf.Get("FrameRateLimit"), 64)
	if err != nil && c.uncapped(*e) {
		fps = footage.FPS // it has no rate control
	} else if err != nil {
		return bad
	}
	if !slices.Contains(c.rates(p, e.Codec), int(fps)) {
		return bad
	}
	e.Slow = int(fps) == footage.SlowFPS && e.Codec != "JPEG"
	if c.quirks().Depends && !e.Sub && e.Codec == "H264" && !e.Slow {
		return sender("ter:InvalidArgVal/ter:ConfigModify", fmt.Sprintf("%d x %d goes to %d frames a second.", footage.Width, footage.Height, footage.SlowFPS))
	}
	if c.uncapped(*e) {
		return nil
	}
	e.Kbps, _ = strconv.Atoi(conf.Get("BitrateLimit"))
	if e.Kbps < 64 || e.Kbps > 4096 {
		return bad
	}
	if c.quirks().Lies {
		e.Kbps = max(e.Kbps, least)
	}
	if control := conf.Find("RateControl"); control != nil {
		e.Constant = control.Attr("ConstantBitRate") == "true" && e.Codec == "H264"
	}
	return nil
}

// encoderXML is an encoder's settings as Media2 writes them.
func (c *Camera) encoderXML(tag string, p profile) string {
	e := c.encoderOf(p)
	w, h := footage.Size(e.Sub)
	group := fmt.Sprintf(` GovLength="%d" Profile="Main"`, e.group())
	if e.Codec == "JPEG" {
		group = ""
	}
	control := fmt.Sprintf(`<tt:RateControl ConstantBitRate="%t"><tt:FrameRateLimit>%d</tt:FrameRateLimit><tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl>`, e.Constant, e.fps(), e.Kbps)
	if c.uncapped(e) {
		control = ""
	}
	return fmt.Sprintf(`<%s token="vec_%s"%s><tt:Name>%s encoder</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>%s</tt:Encoding><tt:Resolution><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></tt:Resolution>%s%s<tt:Quality>%g</tt:Quality></%s>`,
		tag, p.token, group, title(p.token), e.Codec, w, h, control, c.castXML(p), e.quality(), tag)
}

// encoder1XML is the same as Media ver10 does.
func (c *Camera) encoder1XML(tag string, p profile) string {
	e := c.encoderOf(p)
	w, h := footage.Size(e.Sub)
	return fmt.Sprintf(`<%s token="vec_%s"><tt:Name>Encoder</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>%s</tt:Encoding><tt:Resolution><tt:Width>%d</tt:Width><tt:Height>%d</tt:Height></tt:Resolution><tt:Quality>%g</tt:Quality><tt:RateControl><tt:FrameRateLimit>%d</tt:FrameRateLimit><tt:EncodingInterval>1</tt:EncodingInterval><tt:BitrateLimit>%d</tt:BitrateLimit></tt:RateControl><tt:H264><tt:GovLength>%d</tt:GovLength><tt:H264Profile>Main</tt:H264Profile></tt:H264>%s<tt:SessionTimeout>PT60S</tt:SessionTimeout></%s>`,
		tag, p.token, e.Codec, w, h, e.quality(), e.fps(), e.Kbps, e.group(), c.castXML(p), tag)
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
		groups, rates := c.groups(p, codec), c.rates(p, codec)
		least, last := min(groups[0], int64(rates[len(rates)-1])), groups[len(groups)-1]
		if one {
			fmt.Fprintf(&b, `<tt:%s>%s<tt:GovLengthRange><tt:Min>%d</tt:Min><tt:Max>%d</tt:Max></tt:GovLengthRange><tt:FrameRateRange><tt:Min>%d</tt:Min><tt:Max>%d</tt:Max></tt:FrameRateRange><tt:EncodingIntervalRange><tt:Min>1</tt:Min><tt:Max>1</tt:Max></tt:EncodingIntervalRange><tt:H264ProfilesSupported>Main</tt:H264ProfilesSupported></tt:%[1]s>`,
				codec, sizesXML("tt:ResolutionsAvailable", codec == "JPEG"), least, last, rates[len(rates)-1], rates[0])
			continue
		}
		gov := fmt.Sprintf(` GovLengthRange="%d %d"`, least, last)
		if codec == "JPEG" {
			gov = ""
		}
		span := `<tt:BitrateRange><tt:Min>64</tt:Min><tt:Max>4096</tt:Max></tt:BitrateRange>`
		if c.uncapped(encoder{Codec: codec}) {
			span = ""
		}
		fmt.Fprintf(&b, `<tr2:Options%s FrameRatesSupported="%s" ProfilesSupported="Main" ConstantBitRateSupported="%t"><tt:Encoding>%s</tt:Encoding><tt:QualityRange><tt:Min>0</tt:Min><tt:Max>10</tt:Max></tt:QualityRange>%s%s</tr2:Options>`,
			gov, strings.Trim(fmt.Sprint(rates), "[]"), codec == "H264", codec, sizesXML("tt:ResolutionsAvailable", codec == "JPEG"), span)
	}
	if one {
		return `<trt:GetVideoEncoderConfigurationOptionsResponse><trt:Options><tt:QualityRange><tt:Min>0</tt:Min><tt:Max>10</tt:Max></tt:QualityRange>` + b.String() + `</trt:Options></trt:GetVideoEncoderConfigurationOptionsResponse>`, nil
	}
	return `<tr2:GetVideoEncoderConfigurationOptionsResponse>` + b.String() + `</tr2:GetVideoEncoderConfigurationOptionsResponse>`, nil
}

// Reset sets a profile's encoder as it was at first, as someone at its own page would.
func (c *Camera) Reset(profile string) {
	c.change(func(m *memory) {
		all := map[string]encoder{}
		for t, e := range m.Encoders {
			if t != profile {
				all[t] = e
			}
		}
		m.Encoders = all
	})
	c.hangUp(profile)
}

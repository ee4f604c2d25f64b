package stream

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Size of a picture, in pixels.
type Size struct {
	Width  int `json:"width"`
	Height int `json:"height"`
}

func (s Size) pixels() int { return s.Width * s.Height }

// Options is what an encoder can be set to in one codec (ONVIF Media2,
// GetVideoEncoderConfigurationOptions; Media ver10 by codec, 5.6). What a device doesn't
// say is zero and limits nothing.
type Options struct {
	Codec   string    `json:"codec"`
	Sizes   []Size    `json:"sizes"`
	Rates   []float64 `json:"rates,omitempty"` // frames a second that there are; empty: MinFPS to MaxFPS
	MinFPS  float64   `json:"min_fps,omitempty"`
	MaxFPS  float64   `json:"max_fps,omitempty"`
	MinGOP  int       `json:"min_gop,omitempty"` // frames
	MaxGOP  int       `json:"max_gop,omitempty"`
	MinKbps int       `json:"min_kbps,omitempty"`
	MaxKbps int       `json:"max_kbps,omitempty"`
}

// Encoder is how a video encoder is set.
type Encoder struct {
	Token string // of its VideoEncoderConfiguration
	Codec string
	Size
	FPS  float64
	Kbps int
	GOP  int // frames from key frame to key frame; 0 where every picture is one
}

// Set is how the profile's encoder is set.
func (p Profile) Set() Encoder {
	return Encoder{Token: p.Encoder, Codec: p.Codec, Size: Size{p.Width, p.Height}, FPS: p.FPS, Kbps: p.Kbps, GOP: p.GOP}
}

// Text is the canonical text of the settings, as a change's From and To have it.
func (e Encoder) Text() string {
	says := fmt.Sprintf("%s %d × %d, %.4g/s, ≤ %d kbit/s", Pretty(e.Codec), e.Width, e.Height, e.FPS, e.Kbps)
	if e.GOP > 0 && e.Codec != jpegCodec {
		says += fmt.Sprintf(", key frame every %d frames", e.GOP)
	}
	return says
}

const jpegCodec = "JPEG"

// Args are the settings as a change carries them; EncoderOf reads them again.
func (e Encoder) Args() map[string]string {
	return map[string]string{"token": e.Token, "codec": e.Codec, "width": strconv.Itoa(e.Width), "height": strconv.Itoa(e.Height),
		"fps": strconv.FormatFloat(e.FPS, 'f', -1, 64), "kbps": strconv.Itoa(e.Kbps), "gop": strconv.Itoa(e.GOP)}
}

// EncoderOf reads what Args made.
func EncoderOf(args map[string]string) (e Encoder, err error) {
	e.Token, e.Codec = args["token"], args["codec"]
	for _, n := range []struct {
		into *int
		name string
	}{{&e.Width, "width"}, {&e.Height, "height"}, {&e.Kbps, "kbps"}, {&e.GOP, "gop"}} {
		if *n.into, err = strconv.Atoi(args[n.name]); err != nil {
			return e, fmt.Errorf("stream: a change's %s is no number: %q", n.name, args[n.name])
		}
	}
	if e.FPS, err = strconv.ParseFloat(args["fps"], 64); err != nil || e.Token == "" {
		return e, fmt.Errorf("stream: a change names no encoder or no frame rate: %v", args)
	}
	return e, nil
}

// ReadsAs is what a change of an encoder reads while the device tells that it is set to now:
// exactly what was or what is wanted, else the one that it is near enough to. Devices bring what
// is written to values of their own; near is the same codec and size, the frame rate within a
// tenth or one, the bit rate within a quarter, and key frames hardly rarer. Anything else reads
// as it is.
func ReadsAs(now Encoder, args map[string]string, from, to string) string {
	text := now.Text()
	if text == from || text == to {
		return text
	}
	old := map[string]string{}
	for k, v := range args {
		if name, ok := strings.CutPrefix(k, "old_"); ok {
			old[name] = v
		}
	}
	for _, x := range []struct {
		args map[string]string
		text string
	}{{args, to}, {old, from}} {
		if set, err := EncoderOf(x.args); err == nil && now.near(set) {
			return x.text
		}
	}
	return text
}

func (e Encoder) near(set Encoder) bool {
	every := func(e Encoder) float64 { return float64(e.GOP) / max(e.FPS, 1) }
	return e.Codec == set.Codec && e.Size == set.Size && math.Abs(e.FPS-set.FPS) <= max(1, 0.1*set.FPS) &&
		math.Abs(float64(e.Kbps-set.Kbps)) <= 0.25*float64(set.Kbps) && every(e) <= 1.25*every(set)
}

// Want is what an encoder is to be set to, as near as its options allow.
type Want struct {
	Codecs   []string      // any of them, the first that there is; empty: the one that is set
	KeyEvery time.Duration // from key frame to key frame; 0: as it is set
}

// Nearest is the setting nearest to the one that is set which gives what is wanted within the
// device's options, or, where there is none, why not: the same size or the largest below it, the
// same frame rate or the fastest below it.
func Nearest(set Encoder, options []Options, w Want) (Encoder, string) {
	if len(options) == 0 {
		return set, "it doesn't tell what its encoder can be set to"
	}
	wanted := w.Codecs
	if len(wanted) == 0 || slices.Contains(wanted, set.Codec) {
		wanted = []string{set.Codec}
	}
	var o *Options
	for _, codec := range wanted {
		if i := slices.IndexFunc(options, func(o Options) bool { return o.Codec == codec }); i >= 0 && o == nil {
			o = &options[i]
		}
	}
	if o == nil {
		var has []string
		for _, x := range options {
			has = append(has, x.Codec)
		}
		return set, "its encoder knows " + prettyAll(has)
	}
	out := set
	out.Codec = o.Codec
	if out.Size = nearestSize(set.Size, o.Sizes); out.pixels() == 0 {
		return set, "it tells no size for " + Pretty(o.Codec)
	}
	out.FPS = o.nearestRate(set.FPS)
	out.Kbps = within(set.Kbps, o.MinKbps, o.MaxKbps)
	if out.Codec == jpegCodec {
		out.GOP = 0
		return out, ""
	}
	if every := w.KeyEvery; every > 0 && out.FPS > 0 {
		out.GOP = max(1, int(math.Round(out.FPS*every.Seconds())))
	} else if out.GOP == 0 {
		out.GOP = max(1, int(math.Round(out.FPS)))
	}
	asked := out.GOP
	out.GOP = within(asked, o.MinGOP, o.MaxGOP)
	if w.KeyEvery > 0 && out.GOP != asked && out == set { // it stays as it is, and that isn't what was asked for
		return set, fmt.Sprintf("its key frames are %s %d frames apart", map[bool]string{true: "at least", false: "at most"}[out.GOP > asked], out.GOP)
	}
	if w.KeyEvery > 0 && out.FPS > 0 && KeysTooFar(time.Duration(float64(out.GOP)/out.FPS*float64(time.Second))) {
		return set, fmt.Sprintf("its key frames are at least %d frames apart", out.GOP)
	}
	return out, ""
}

// within brings a number into a range whose zero ends limit nothing.
func within(n, least, most int) int {
	n = max(n, least)
	if most > 0 {
		n = min(n, most)
	}
	return n
}

func nearestSize(want Size, sizes []Size) Size {
	var below, above Size
	for _, s := range sizes {
		switch {
		case s == want:
			return s
		case s.pixels() <= want.pixels() && s.pixels() > below.pixels():
			below = s
		case s.pixels() > want.pixels() && (above.pixels() == 0 || s.pixels() < above.pixels()):
			above = s
		}
	}
	if below.pixels() > 0 {
		return below
	}
	return above
}

func (o Options) nearestRate(want float64) float64 {
	if len(o.Rates) == 0 {
		want = max(want, o.MinFPS)
		if o.MaxFPS > 0 {
			want = min(want, o.MaxFPS)
		}
		return want
	}
	below, least := 0.0, math.Inf(1)
	for _, r := range o.Rates {
		if least = min(least, r); r <= want {
			below = max(below, r)
		}
	}
	if below > 0 {
		return below
	}
	return least
}

// Sound codecs as this product names them: "PCMU" and "PCMA" (ITU-T G.711 µ-law and A-law),
// "AAC", "G726"; "G711" where a device doesn't say which law.

// SoundCodec brings a device's name of a sound codec (Media2: IANA names of payloads; Media
// ver10: G711, G726, AAC; SDP) to one.
func SoundCodec(name string) string {
	switch s := strings.ToUpper(strings.NewReplacer(".", "", " ", "").Replace(name)); s {
	case "MP4A-LATM", "MPEG4-GENERIC", "AAC":
		return "AAC"
	default:
		return s
	}
}

// PrettySound writes a sound codec as people do.
func PrettySound(codec string) string {
	switch codec {
	case "PCMU":
		return "G.711 µ-law"
	case "PCMA":
		return "G.711 A-law"
	case "G711":
		return "G.711"
	case "G726":
		return "G.726"
	}
	return codec
}

// Sound is what a profile has of sound.
type Sound struct {
	Codec   string   `json:"codec,omitempty"`   // that it sends; empty: none
	Encoder string   `json:"encoder,omitempty"` // token of its AudioEncoderConfiguration
	Options []string `json:"options,omitempty"` // codecs that it can be set to
	Takes   []string `json:"takes,omitempty"`   // codecs that its speaker takes; empty: it has none
}

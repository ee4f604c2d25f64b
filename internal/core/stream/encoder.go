package stream

import (
	"fmt"
	"math"
	"strconv"
	"strings"
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

	Levels     []string `json:"levels,omitempty"`   // of the codec, as "Main" and "High"
	Constant   bool     `json:"constant,omitempty"` // its bit rate can be constant
	MinQuality float64  `json:"min_quality,omitempty"`
	MaxQuality float64  `json:"max_quality,omitempty"`
}

// Encoder is how a video encoder is set.
type Encoder struct {
	Token string // of its VideoEncoderConfiguration
	Codec string
	Size
	FPS  float64 // 0: it tells no limit
	Kbps int     // 0: it tells no limit
	GOP  int     // frames from key frame to key frame; 0 where every picture is one
	Fine
}

// Fine is what not every device tells of an encoder; its zero values aren't told.
type Fine struct {
	Rate    Rating  `json:"rate,omitempty"`
	Quality float64 `json:"quality,omitempty"` // on the device's own scale
	Level   string  `json:"level,omitempty"`   // profile of the codec: "Baseline", "Main", "High" (tt:VideoEncodingProfiles)
}

// Rating is what an encoder's bit rate is; the zero Rating isn't told.
type Rating string

// Kinds of bit rate (tt:VideoRateControl2, ConstantBitRate).
const (
	Constant Rating = "constant" // the limit is what it sends
	Variable Rating = "variable" // the limit is the most that it sends
)

// Set is how the profile's encoder is set.
func (p Profile) Set() Encoder {
	return Encoder{Token: p.Encoder, Codec: p.Codec, Size: Size{p.Width, p.Height}, FPS: p.FPS, Kbps: p.Kbps, GOP: p.GOP, Fine: p.Fine}
}

// Text is the settings without what is Fine, as a change's From and To have them.
func (e Encoder) Text() string { return e.text(Fine{}) }

// text is the settings, with what is fine where that is told in beside.
func (e Encoder) text(beside Fine) string {
	says := fmt.Sprintf("%s %d × %d", Pretty(e.Codec), e.Width, e.Height)
	if e.FPS > 0 {
		says += fmt.Sprintf(", %.4g/s", e.FPS)
	}
	switch constant := beside.Rate != "" && e.Rate == Constant; {
	case e.Kbps <= 0:
		says += ", no limit of bit rate"
	case constant:
		says += fmt.Sprintf(", constant %d kbit/s", e.Kbps)
	default:
		says += fmt.Sprintf(", ≤ %d kbit/s", e.Kbps)
	}
	if e.GOP > 0 && e.Codec != jpegCodec {
		says += fmt.Sprintf(", key frame every %d frames", e.GOP)
	}
	if beside.Quality > 0 {
		says += fmt.Sprintf(", quality %g", e.Quality)
	}
	if beside.Level != "" && e.Level != "" {
		says += ", " + e.Level + " profile"
	}
	return says
}

// texts are two settings of one encoder: what is fine is told where they differ in it.
func texts(from, to Encoder) (string, string) {
	var beside Fine
	if from.Rate != to.Rate {
		beside.Rate = Constant
	}
	if from.Quality != to.Quality {
		beside.Quality = 1
	}
	if from.Level != to.Level {
		beside.Level = "told"
	}
	return from.text(beside), to.text(beside)
}

const jpegCodec = "JPEG"

// Args are the settings as a change carries them; EncoderOf reads them again.
func (e Encoder) Args() map[string]string {
	return map[string]string{"token": e.Token, "codec": e.Codec, "width": strconv.Itoa(e.Width), "height": strconv.Itoa(e.Height),
		"fps": strconv.FormatFloat(e.FPS, 'f', -1, 64), "kbps": strconv.Itoa(e.Kbps), "gop": strconv.Itoa(e.GOP),
		"rate": string(e.Rate), "quality": strconv.FormatFloat(e.Quality, 'f', -1, 64), "level": e.Level}
}

// EncoderOf reads what Args made.
func EncoderOf(args map[string]string) (e Encoder, err error) {
	e.Token, e.Codec = args["token"], args["codec"]
	e.Rate, e.Level = Rating(args["rate"]), args["level"]
	if q := args["quality"]; q != "" { // changes of before carry none
		if e.Quality, err = strconv.ParseFloat(q, 64); err != nil {
			return e, fmt.Errorf("stream: a change's quality is no number: %q", q)
		}
	}
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
// tenth or one, the bit rate within a quarter and of the same kind, key frames hardly rarer, and
// the quality within a tenth or one. Anything else reads as it is.
func ReadsAs(now Encoder, args map[string]string, from, to string) string {
	old := map[string]string{}
	for k, v := range args {
		if name, ok := strings.CutPrefix(k, "old_"); ok {
			old[name] = v
		}
	}
	was, errWas := EncoderOf(old)
	want, errWant := EncoderOf(args)
	switch {
	case errWant == nil && now == want:
		return to
	case errWas == nil && now == was:
		return from
	case errWant == nil && now.near(want):
		return to
	case errWas == nil && now.near(was):
		return from
	}
	return now.text(Fine{Rate: Constant, Quality: min(now.Quality, 1), Level: now.Level})
}

func (e Encoder) near(set Encoder) bool {
	every := func(e Encoder) float64 { return float64(e.GOP) / max(e.FPS, 1) }
	return e.Codec == set.Codec && e.Size == set.Size && math.Abs(e.FPS-set.FPS) <= max(1, 0.1*set.FPS) &&
		math.Abs(float64(e.Kbps-set.Kbps)) <= 0.25*float64(set.Kbps) && every(e) <= 1.25*every(set) && e.Fine.near(set.Fine)
}

// near says whether what was told of set is so.
func (f Fine) near(set Fine) bool {
	return (set.Rate == "" || f.Rate == set.Rate) && (set.Level == "" || f.Level == set.Level) &&
		(set.Quality == 0 || math.Abs(f.Quality-set.Quality) <= max(1, 0.1*set.Quality))
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

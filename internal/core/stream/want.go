package stream

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// Want is how an encoder is to be set. Codec and key frames come as near to it as the device's options allow;
// of the rest, what is given must be offered. Zero values leave a thing as it is.
type Want struct {
	Codecs   []string      `json:"codecs,omitempty"`    // any of them, the first that there is
	KeyEvery time.Duration `json:"key_every,omitempty"` // from key frame to key frame
	Of       Role          `json:"of,omitempty"`        // the stream that is meant; empty: every one
	Size     Size          `json:"size,omitzero"`
	FPS      float64       `json:"fps,omitempty"`
	Kbps     int           `json:"kbps,omitempty"` // the limit, or the constant rate
	Cast     Casting       `json:"cast,omitempty"` // by multicast, whether or not anybody asks
	Fine
	Groups map[string]Cast `json:"-"` // to send to, by encoder; one that isn't here sends to the one that it has
}

// figures says whether anything of how encoders code is wanted.
func (w Want) figures() bool {
	return len(w.Codecs) > 0 || w.KeyEvery != 0 || w.Size != (Size{}) || w.FPS != 0 || w.Kbps != 0 || w.Fine != (Fine{})
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
	if why := o.lacks(w, set); why != "" {
		return set, why
	}
	out := set
	out.Codec = o.Codec
	if out.Size = nearestSize(set.Size, o.Sizes); w.Size != (Size{}) {
		out.Size = w.Size
	}
	if out.pixels() == 0 {
		return set, "it tells no size for " + Pretty(o.Codec)
	}
	out.FPS, out.Kbps = o.limits(set, w)
	out.Fine = o.fine(set, w.Fine)
	return o.grouped(out, set, w)
}

// limits of frames and bits a second: what is wanted, else the nearest to what is set. An encoder that tells none goes
// on without in the same codec, and gets the highest in another.
func (o Options) limits(set Encoder, w Want) (fps float64, kbps int) {
	switch same := o.Codec == set.Codec; {
	case w.FPS > 0:
		fps = w.FPS
	case set.FPS > 0:
		fps = o.nearestRate(set.FPS)
	case !same:
		fps = o.nearestRate(math.Inf(1))
	}
	switch same := o.Codec == set.Codec; {
	case w.Kbps > 0:
		kbps = w.Kbps
	case set.Kbps > 0:
		kbps = within(set.Kbps, o.MinKbps, o.MaxKbps)
	case !same:
		kbps = o.MaxKbps
	}
	return fps, kbps
}

// grouped sets how far key frames are apart, or says why they can't be so.
func (o Options) grouped(out, set Encoder, w Want) (Encoder, string) {
	if out.Codec == jpegCodec {
		out.GOP = 0
		return out, ""
	}
	every := w.KeyEvery
	if every == 0 && w.FPS > 0 && set.FPS > 0 && set.GOP > 0 { // another frame rate: as far apart in time as they are
		every = time.Duration(float64(set.GOP) / set.FPS * float64(time.Second))
	}
	if every > 0 && out.FPS > 0 {
		out.GOP = max(1, int(math.Round(out.FPS*every.Seconds())))
	} else if out.GOP == 0 {
		out.GOP = max(1, int(math.Round(out.FPS)))
	}
	asked := out.GOP
	out.GOP = within(asked, o.MinGOP, o.MaxGOP)
	if w.KeyEvery > 0 && out.GOP != asked && out == set { // it stays as it is, and that isn't what was asked for
		bound := map[bool]string{true: "at least", false: "at most"}[out.GOP > asked]
		return set, fmt.Sprintf("its key frames are %s %d frames apart", bound, out.GOP)
	}
	if w.KeyEvery > 0 && out.FPS > 0 && KeysTooFar(time.Duration(float64(out.GOP)/out.FPS*float64(time.Second))) {
		return set, fmt.Sprintf("its key frames are at least %d frames apart", out.GOP)
	}
	return out, ""
}

// fine is what is fine of the setting in this codec: what is wanted, else what is set as far as it is offered.
func (o Options) fine(set Encoder, w Fine) Fine {
	out := set.Fine
	if w.Rate != "" {
		out.Rate = w.Rate
	} else if out.Rate == Constant && !o.Constant && o.Codec != set.Codec {
		out.Rate = Variable
	}
	if w.Quality > 0 {
		out.Quality = w.Quality
	}
	switch {
	case w.Level != "":
		out.Level = w.Level
	case o.Codec == jpegCodec:
		out.Level = ""
	case o.Codec != set.Codec && len(o.Levels) > 0 && !slices.Contains(o.Levels, out.Level):
		out.Level = o.Levels[0]
	}
	return out
}

// lacks is why what is given isn't offered; empty where all of it is.
func (o Options) lacks(w Want, set Encoder) string {
	switch {
	case w.Size != (Size{}) && !slices.Contains(o.Sizes, w.Size):
		return "its sizes in " + Pretty(o.Codec) + " are " + sizesText(o.Sizes)
	case w.FPS > 0 && !o.offersRate(w.FPS):
		return "its frame rates in " + Pretty(o.Codec) + " are " + o.ratesText()
	case w.Kbps > 0 && within(w.Kbps, o.MinKbps, o.MaxKbps) != w.Kbps:
		return "its bit rate in " + Pretty(o.Codec) + " is " + span(float64(o.MinKbps), float64(o.MaxKbps)) + " kbit/s"
	case w.Kbps > 0 && set.Kbps == 0 && o.MaxKbps == 0:
		return "it tells no limit of its bit rate"
	case w.Rate != "" && set.Rate == "":
		return "it doesn't tell whether its bit rate is constant"
	case w.Rate == Constant && set.Rate != Constant && !o.Constant:
		return "it knows no constant bit rate in " + Pretty(o.Codec)
	case w.Quality > 0 && o.MaxQuality == 0:
		return "it doesn't tell its range of quality"
	case w.Quality > 0 && (w.Quality < o.MinQuality || w.Quality > o.MaxQuality):
		return "its quality is " + span(o.MinQuality, o.MaxQuality)
	case w.Level != "" && len(o.Levels) == 0:
		return "it tells no profiles of " + Pretty(o.Codec)
	case w.Level != "" && !slices.Contains(o.Levels, w.Level):
		return "its profiles of " + Pretty(o.Codec) + " are " + strings.Join(o.Levels, " and ")
	}
	return ""
}

func (o Options) offersRate(want float64) bool {
	if len(o.Rates) > 0 {
		return slices.ContainsFunc(o.Rates, func(r float64) bool { return math.Abs(r-want) < 0.01 })
	}
	return want >= o.MinFPS && (o.MaxFPS == 0 || want <= o.MaxFPS)
}

func (o Options) ratesText() string {
	if len(o.Rates) == 0 {
		return span(o.MinFPS, o.MaxFPS)
	}
	words := make([]string, len(o.Rates))
	for i, r := range o.Rates {
		words[i] = fmt.Sprintf("%g", r)
	}
	return strings.Join(words, ", ")
}

func sizesText(all []Size) string {
	if len(all) == 0 {
		return "not told"
	}
	words := make([]string, len(all))
	for i, s := range all {
		words[i] = s.Text()
	}
	return strings.Join(words, ", ")
}

// span is a range in words; a most of 0 limits nothing.
func span(least, most float64) string {
	switch most {
	case 0:
		return fmt.Sprintf("%g or more", least)
	case least:
		return fmt.Sprintf("%g", least)
	}
	return fmt.Sprintf("%g to %g", least, most)
}

// Text of a size.
func (s Size) Text() string { return fmt.Sprintf("%d × %d", s.Width, s.Height) }

// Text is what is wanted, in a table's room.
func (w Want) Text() string {
	var parts []string
	add := func(is bool, says string) {
		if is {
			parts = append(parts, says)
		}
	}
	add(w.Of != "", string(w.Of)+" stream")
	add(len(w.Codecs) > 0, prettyNames(w.Codecs))
	add(w.Size != (Size{}), w.Size.Text())
	add(w.FPS > 0, fmt.Sprintf("%g/s", w.FPS))
	switch {
	case w.Kbps > 0 && w.Rate == Constant:
		add(true, fmt.Sprintf("constant %d kbit/s", w.Kbps))
	case w.Kbps > 0:
		add(true, fmt.Sprintf("≤ %d kbit/s", w.Kbps))
	default:
		add(w.Rate != "", string(w.Rate)+" bit rate")
	}
	add(w.KeyEvery > 0, fmt.Sprintf("key frames %g s apart", w.KeyEvery.Seconds()))
	add(w.Quality > 0, fmt.Sprintf("quality %g", w.Quality))
	add(w.Level != "", w.Level+" profile")
	add(w.Cast != "", "multicast "+string(w.Cast))
	return strings.Join(parts, ", ")
}

func prettyNames(codecs []string) string {
	names := make([]string, len(codecs))
	for i, c := range codecs {
		names[i] = Pretty(c)
	}
	return strings.Join(names, " or ")
}

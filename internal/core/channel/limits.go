package channel

import (
	"fmt"
	"math"
	"slices"
)

// Used sums what the taken channels use: channels (each takes a licence) and
// Mbit/s as they count, see Slot.As.
func (r Recorder) Used() (channels int, mbit float64) {
	kbps := 0.0
	for _, s := range r.Slots {
		kbps += s.counts().Kbps
	}
	return len(r.Slots), kbps / 1000
}

// Demand is what one source more asks of a recorder. What isn't known is 0, and isn't held against a
// limit.
type Demand struct {
	Kbps       int
	Megapixels float64
	FPS        float64
}

// slot is a channel that it takes.
func (d Demand) slot() Slot {
	return Slot{Kbps: float64(d.Kbps), FPS: d.FPS, Width: int(math.Round(d.Megapixels * 1e6)), Height: 1}
}

// sumTolerance is by how much a sum of bit rates may be over its limit, in kbit/s: the figures are
// rounded.
const sumTolerance = 1

// decoded is how many million pixels a second the taken channels have it decode.
func (r Recorder) decoded() (sum float64) {
	for _, s := range r.Slots {
		sum += s.megapixels() * s.counts().FPS
	}
	return sum
}

// Binds is BindsFor a source of kbps and so many pixels.
func (r Recorder) Binds(kbps, pixels int) string {
	return r.BindsFor(Demand{Kbps: kbps, Megapixels: float64(pixels) / 1e6})
}

// BindsFor names the limits that keep one more source off r, with their figures; empty where it fits.
// Where several do, lifting one alone wouldn't help: all are named.
func (r Recorder) BindsFor(d Demand) string {
	var says []string
	for _, b := range r.binding(d) {
		says = append(says, b.says)
	}
	return listed(says, "and")
}

// limit is one that binds.
type limit struct {
	of   string // "channels", "table", "licences", "rate", "decoding"
	says string
}

func (r Recorder) binding(d Demand) (out []limit) {
	used, mbit := r.Used()
	sizes := []float64{d.Megapixels}
	for _, s := range r.Slots {
		sizes = append(sizes, s.megapixels())
	}
	if used >= r.ChannelsNow() {
		out = append(out, limit{"channels", fmt.Sprintf("all %d IP channels are taken", r.ChannelsNow())})
	}
	if row := r.Limits.Fits(sizes); row != "" {
		out = append(out, limit{"table", fmt.Sprintf("%s, and with this one it would be %d of up to %.1f", row, len(sizes), slices.Max(sizes))})
	}
	if r.Limits.Licences > 0 && used >= r.Limits.Licences {
		out = append(out, limit{"licences", fmt.Sprintf("all %d licences are used", r.Limits.Licences)})
	}
	if r.Limits.MbitIn > 0 && d.Kbps > 0 && mbit*1000+float64(d.Kbps) > r.Limits.MbitIn*1000+sumTolerance {
		out = append(out, limit{"rate", fmt.Sprintf("it takes %.0f Mbit/s, %.1f are taken already and this stream may send %.1f", r.Limits.MbitIn, mbit, float64(d.Kbps)/1000)})
	}
	if more := d.Megapixels * d.FPS; r.Limits.DecodeMP > 0 && more > 0 && r.decoded()+more > r.Limits.DecodeMP+1e-6 {
		out = append(out, limit{"decoding", fmt.Sprintf("it decodes %.0f megapixels a second, %.0f are taken already and this stream has %.0f", r.Limits.DecodeMP, r.decoded(), more)})
	}
	return out
}

// wayOut says what gives a full recorder room for a source: what lifts the limit that binds; where
// several do, nothing on the recorder lifts them all.
func (r Recorder) wayOut(d Demand) string {
	all, spare := r.binding(d), r.Spare()
	if len(all) != 1 {
		return "Free a channel, or plan another recorder."
	}
	switch all[0].of {
	case "channels":
		switch {
		case r.ChannelsNext() > r.ChannelsNow():
			return fmt.Sprintf("Start %s again: then there are %d IP channels.", r.Name, r.ChannelsNext())
		case r.Hybrid() && len(spare) > 0:
			return fmt.Sprintf("On its channel face, switch off %s, on which there is no picture: each gives %d IP channel, after one restart for all.", inputsText(spare), r.Limits.Capacity.Gain)
		}
	case "table":
		return "Set a smaller picture for it, free a channel, or plan another recorder."
	case "licences":
		return "Add a licence on the recorder, free a channel, or plan another recorder."
	case "rate":
		return "Set a lower bit rate for it, or for others of this recorder; or plan another recorder."
	case "decoding":
		return "Set fewer pictures a second or a smaller picture for it, or plan another recorder."
	}
	return "Free a channel, or plan another recorder."
}

func inputsText(all []Analog) string {
	names := make([]string, len(all))
	for i, a := range all {
		names[i] = fmt.Sprintf("A%d", a.Number)
	}
	if len(names) == 1 {
		return "analog input " + names[0]
	}
	return "analog inputs " + listed(names, "and")
}

package channel

import (
	"fmt"
	"slices"
)

// Waits says why a source that isn't placed isn't proposed for a channel, in the words of
// a tray; found says whether it answers. Empty where a limit doesn't keep it off either.
func Waits(f Facts, w Wishes, found bool) string {
	switch {
	case !found:
		return "not found yet"
	case f.Planned == "":
		return "no recorder planned"
	case w.Stream == "" && w.Unfit:
		return "none of its streams is one that " + f.Planned + " takes"
	case w.Stream == "":
		if f.Recorder != nil {
			if p, ok := f.Recorder.OnPort(f.Address); ok && p.Channel > 0 {
				return fmt.Sprintf("%s takes it itself: it hangs on port %d, and channel %d is kept for it", f.Planned, p.Number, p.Channel)
			} else if ok {
				return fmt.Sprintf("it hangs on port %d of %s: bind a channel to that port at its own screen", p.Number, f.Planned)
			}
		}
		return "streams not read yet"
	case f.Recorder == nil:
		return "recorder not read yet"
	}
	if c := f.Recorder.Choose(w.Camera); c.Refused != "" {
		return c.Refused
	}
	if why := f.Recorder.nameTrouble(w.Name); why != "" {
		return f.Planned + " " + why
	}
	if f.Recorder.ByHand {
		return "by hand: see the bench sheet"
	}
	return f.Recorder.BindsFor(w.demand())
}

// Lacks says whether a source that isn't proposed for a channel waits for nothing but one: its
// stream is known, and so is the recorder that is planned for it.
func Lacks(f Facts, w Wishes) bool {
	return f.Recorder != nil && !f.Recorder.ByHand && f.Slot == nil && w.Stream != "" && f.Recorder.Choose(w.Camera).Refused == ""
}

// Roomy is for how many of those that lack a channel analog inputs without a picture make room,
// beside so many that take the channels that are free; and how many channels more than it has
// taken the recorder is to be asked for.
func (r Recorder) Roomy(taking, lacking int) (roomy, more int) {
	if lacking == 0 || len(r.Spare()) == 0 {
		return 0, taking
	}
	_, missing := r.Room(0, taking+lacking)
	roomy = max(0, lacking-missing)
	return roomy, taking + roomy
}

// Gauge is how far a limit of a recorder is used.
type Gauge struct {
	Name  string
	Used  float64
	Most  float64
	Exact bool // a count; else a rate, told with one decimal
	Tight bool // little is left: more than nine tenths are used
}

// tight is how much of a limit may be used before it is told as tight.
const tight = 0.9

// Gauges lists a recorder's limits with how far they are used; a limit that it doesn't tell isn't
// listed. Where its capacity is a choice of tables, the row counts that holds cameras as large as its
// largest, the last row where none does.
func Gauges(r Recorder) []Gauge {
	used, mbit := r.Used()
	all := []Gauge{
		{Name: "IP channels", Used: float64(used), Most: float64(r.ChannelsNow()), Exact: true},
		{Name: "Mbit/s in", Used: mbit, Most: r.Limits.MbitIn},
	}
	if row, ok := r.row(); ok {
		all = append(all, Gauge{Name: fmt.Sprintf("Up to %g MP", row.Megapixels), Used: float64(used), Most: float64(row.Channels), Exact: true})
	}
	if r.Limits.DecodeMP > 0 {
		all = append(all, Gauge{Name: "Decoded MP/s", Used: r.decoded(), Most: r.Limits.DecodeMP})
	}
	all = append(all, Gauge{Name: "Licences", Used: float64(used), Most: float64(r.Limits.Licences), Exact: true},
		Gauge{Name: "Port watts", Used: r.Watts(), Most: r.Limits.Watts})
	var out []Gauge
	for _, g := range all {
		if g.Most > 0 {
			g.Tight = g.Used/g.Most > tight
			out = append(out, g)
		}
	}
	return out
}

// row is the row of its tables that its cameras are counted by.
func (r Recorder) row() (Table, bool) {
	large := 0.0
	for _, s := range r.Slots {
		large = max(large, s.megapixels())
	}
	best, found := Table{}, false
	for _, t := range r.Limits.Tables {
		holds, held := t.Takes(large), best.Takes(large)
		if !found || holds && (!held || t.Channels > best.Channels) || !holds && !held && t.Megapixels > best.Megapixels {
			best, found = t, true
		}
	}
	return best, found
}

// GaugesWith is Gauges as it would be with one camera more: what a hand that holds it over the
// recorder is shown.
func GaugesWith(r Recorder, kbps, width, height int) []Gauge {
	r.Slots = append(slices.Clone(r.Slots), Slot{Kbps: float64(kbps), Width: width, Height: height})
	return Gauges(r)
}

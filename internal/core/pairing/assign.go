package pairing

import (
	"fmt"
	"math"
	"strings"

	"duskyharbor/internal/core/channel"
)

// Placing is a view that is to be looked at.
type Placing struct {
	ID     int64
	Rate   float64 // stills a second
	Stills []Still // that it offers
	Wish   int64   // analyser that it is to go to; 0: any
}

// Bin is an analyser that views are shared out to.
type Bin struct {
	ID       int64
	Analyser Analyser
}

// Assignment is where each view goes.
type Assignment struct {
	To    map[int64]int64  // analyser by view; those that find no room aren't in it
	Why   map[int64]string // of those: the limit that binds, by analyser
	Exact bool             // it is proven that no other finds room for more
}

// milli is in what the rates of views are counted, so that sums of decimals are exact.
const milli = 1000

// Assign shares views out among analysers, as many as find room, breaking no limit. It is the placement of channels: an analyser is a
// recorder of so many channels and licences, its stills a second are what comes in.
func Assign(all []Placing, bins []Bin) Assignment {
	places := make([]channel.Placing, len(all))
	for i, p := range all {
		places[i] = channel.Placing{ID: p.ID, Kbps: int(math.Ceil(p.Rate*milli - slack)), Wish: p.Wish, Locked: p.Wish != 0, Fits: map[int64]channel.Fit{}}
		for _, b := range bins {
			places[i].Fits[b.ID] = channel.Fit{Refused: b.Analyser.Limits.refuses(p.Stills)}
		}
	}
	recorders := make([]channel.Bin, len(bins))
	for i, b := range bins {
		recorders[i] = channel.Bin{ID: b.ID, Recorder: b.Analyser.asRecorder()}
	}
	got := channel.Assign(places, recorders)
	out := Assignment{To: got.To, Why: map[int64]string{}, Exact: got.Exact}
	full := make(map[int64]Analyser, len(bins))
	for _, b := range bins {
		full[b.ID] = b.Analyser.copied()
	}
	for _, p := range all {
		if to, ok := got.To[p.ID]; ok {
			a := full[to]
			a.Views = append(a.Views, View{PerSecond: p.Rate})
			full[to] = a
		}
	}
	for _, p := range all {
		if _, ok := got.To[p.ID]; !ok {
			out.Why[p.ID] = whyNot(p, bins, full)
		}
	}
	return out
}

func (a Analyser) copied() Analyser {
	a.Views = append([]View(nil), a.Views...)
	return a
}

// unlimited is more channels than any analyser has: one that tells no limit of views has none.
const unlimited = 1 << 16

// asRecorder is the analyser as the placement of channels sees it: a thousandth of a still a second is a kbit/s.
func (a Analyser) asRecorder() channel.Recorder {
	r := channel.Recorder{Name: a.Name, Limits: channel.Limits{Channels: a.Limits.Views, Licences: a.Limits.Licences, MbitIn: a.Limits.PerSecond}}
	if r.Limits.Channels == 0 {
		r.Limits.Channels = unlimited
	}
	for i, v := range a.Views {
		r.Slots = append(r.Slots, channel.Slot{Number: i + 1, Kbps: v.PerSecond * milli})
	}
	return r
}

// whyNot names for each analyser the limit that keeps a view off it, once the others are where they go.
func whyNot(p Placing, bins []Bin, full map[int64]Analyser) string {
	var says []string
	for _, b := range bins {
		if p.Wish != 0 && p.Wish != b.ID {
			continue
		}
		why := full[b.ID].Binds(p.Rate, p.Stills)
		if why == "" {
			why = "others were given its room"
		}
		says = append(says, fmt.Sprintf("%s: %s", b.Analyser.Name, why))
	}
	if len(says) == 0 {
		return "no analyser was read yet"
	}
	return strings.Join(says, "; ")
}

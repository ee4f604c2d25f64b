package channel

import (
	"fmt"
	"slices"
	"strconv"

	"duskyharbor/internal/core/finding"
)

// Chosen says why a channel that a person chose can't be given to a camera now; empty where it can. place is what the
// recorder is called.
func (r Recorder) Chosen(number int, place string) string {
	if i := slices.IndexFunc(r.Slots, func(o Slot) bool { return o.Number == number }); i >= 0 {
		return fmt.Sprintf("Channel %d of %s holds %s: take that out first, or choose another.", number, place, r.Slots[i].Name)
	}
	if number < 1 || number > r.ChannelsNow() {
		return fmt.Sprintf("%s has channels 1 to %d now.", place, r.ChannelsNow())
	}
	return ""
}

// Succession gives a recorder's channels to what another holds that it replaces: to each its old number where this
// one has it free, else a free one, else 0. order is that in which they are placed: first those that keep their
// number, so that none of them loses it to one that doesn't.
func (r Recorder) Succession(old []int) (numbers, order []int) {
	numbers, order = r.Numbers(old, r.ChannelsNow()), make([]int, 0, len(old))
	for _, keeps := range []bool{true, false} {
		for i := range old {
			if (numbers[i] == old[i]) == keeps {
				order = append(order, i)
			}
		}
	}
	return numbers, order
}

// Succeeds says of one that is taken over what is changed, with a word where its number is another than the old one,
// or why nothing is. from and to are what the recorders are called.
func Succeeds(changes []finding.Change, f Facts, w Wishes, old int, from, to string) (_ []finding.Change, why string) {
	if len(changes) == 0 {
		if why = Waits(f, w, true); why == "" {
			why = "those before it take the last channels"
		}
		return nil, why
	}
	if changes[0].Args["channel"] != strconv.Itoa(old) {
		changes = slices.Clone(changes)
		changes[0].Why += fmt.Sprintf(" Its number was %d on %s, which %s hasn't free.", old, from, to)
	}
	return changes, ""
}

// Successor is another recorder that holds what a channel of a replaced one holds; Trouble says why it couldn't be
// read now.
type Successor struct {
	Recorder Recorder
	Slot     Slot
	Trouble  string
}

// Succession is a view that a channel holds, with the other recorders that hold it too.
type Succession struct {
	Channel int
	Others  []Successor
}

// kept says why a view isn't kept by another recorder; empty: one keeps it.
func (s Succession) kept() string {
	why := retires(Recorder{}, nil, "")
	for _, x := range s.Others {
		if why = retires(x.Recorder, &x.Slot, x.Trouble); why == "" {
			break
		}
	}
	return why
}

// Retire takes out of a recorder the channels of which another recorder receives, may record and keeps every view that
// they hold; left says of the others why they stay. A channel that views don't name holds none of the site's cameras. id is the
// recorder's number.
func (r Recorder) Retire(id int64, views []Succession) (out []finding.Change, left []string) {
	by := map[int][]Succession{}
	for _, v := range views {
		by[v.Channel] = append(by[v.Channel], v)
	}
	for _, slot := range r.Slots {
		why := "it holds none of this site's cameras"
		for _, v := range by[slot.Number] {
			if why = v.kept(); why != "" {
				break
			}
		}
		if why != "" {
			left = append(left, fmt.Sprintf("channel %d, %s: %s", slot.Number, slot.Name, why))
			continue
		}
		if c, ok := r.Out(id, slot.Number); ok {
			out = append(out, c)
		}
	}
	return out, left
}

// Typing is what a bench sheet needs to know of a camera before it can say what to type.
type Typing struct {
	Found   bool // at an address where it answers
	Opened  bool // by an account
	Streams int
	Record  string // the one of them that is recorded; empty: none is of a codec that the recorder takes
	ONVIF   bool
}

// Waits says what isn't known yet; empty where the sheet can be written.
func (t Typing) Waits() string {
	switch {
	case !t.Found:
		return "not found yet"
	case !t.Opened:
		return "no account opens it yet"
	case t.Streams == 0:
		return "streams not read yet"
	case t.Record == "":
		return "none of its streams is one that it takes"
	case !t.ONVIF:
		return "it speaks no ONVIF"
	}
	return ""
}
